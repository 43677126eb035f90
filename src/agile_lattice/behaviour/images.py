"""Boxes of packets before and after something has been done to their header."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.behaviour.matching import ARRIVES, DESTINATION, LEAVES, PORT, PROTOCOL, SOURCE
from agile_lattice.behaviour.stage_lists import KEEP
from agile_lattice.packets.actions import Action
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, minus

REWRITTEN = (SOURCE, DESTINATION, PORT)


def chained(first: Action, second: Action) -> Action:
    """Return what two actions do, one after the other, if the second leaves alone what the first has changed."""
    plain = KEEP.verdict
    verdict = first.verdict if second.verdict == plain else (first.verdict, second.verdict)
    if first.verdict == plain:
        verdict = second.verdict
    return Action(verdict, (*first.sets, *second.sets), (*first.shifts, *second.shifts))


def after(box: Box, action: Action, at: int) -> Spans:
    """Return the numbers that packets have in a dimension when an action has been done to them."""
    for dimension, number in action.sets:
        if dimension == at:
            return ((number, number),)
    for dimension, offset in action.shifts:
        if dimension == at:
            return tuple((first + offset, last + offset) for first, last in box[at])
    return box[at]


def before(box: Box, action: Action, at: int, spans: Spans) -> Box | None:
    """Return the packets of a box that have, when an action has been done to them, certain numbers in a dimension."""
    for dimension, number in action.sets:
        if dimension == at:
            return box if meet(((number, number),), spans) else None
    for dimension, offset in action.shifts:
        if dimension == at:
            spans = tuple((first - offset, last - offset) for first, last in spans)
    common = meet(box[at], spans)
    return with_spans(box, at, common) if common else None


def pulled_back(box: Box, action: Action, within: Box) -> Box | None:
    """Return the packets of `within` that are in a box when an action has been done to them; None if there are none."""
    for at in (ARRIVES, LEAVES, PROTOCOL):
        common = meet(within[at], box[at])
        if not common:
            return None
        within = with_spans(within, at, common)
    for at in REWRITTEN:
        found = before(within, action, at, box[at])
        if found is None:
            return None
        within = found
    return within


def with_spans(box: Box, at: int, spans: Spans) -> Box:
    """Return a box with other numbers in one dimension."""
    return (*box[:at], spans, *box[at + 1 :])


def packets_apart(box: Box, one: Action, other: Action) -> Iterator[Box]:
    """Yield all packets of a box to which two actions do not do the same, as disjoint boxes."""
    if one.verdict != other.verdict:
        yield box
        return
    for at in REWRITTEN:
        apart = _numbers_apart(box[at], _change(one, at), _change(other, at))
        if apart:
            yield with_spans(box, at, apart)
        alike = minus(box[at], apart)
        if not alike:
            return
        box = with_spans(box, at, alike)


def _change(action: Action, at: int) -> tuple[int | None, int]:
    """Return the number that a dimension is set to, or by which it is shifted."""
    return dict(action.sets).get(at), dict(action.shifts).get(at, 0)


def _numbers_apart(spans: Spans, one: tuple[int | None, int], other: tuple[int | None, int]) -> Spans:
    """Return the numbers of which two changes make different ones."""
    if one == other:
        return ()
    if one[0] is not None and other[0] is not None:
        return spans
    if one[0] is None and other[0] is None:
        return spans
    number, offset = (one[0], other[1]) if one[0] is not None else (other[0], one[1])
    assert number is not None
    return minus(spans, ((number - offset, number - offset),))
