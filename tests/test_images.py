"""Boxes before and after an action, held against every single packet of a small space."""

from __future__ import annotations

from itertools import product

from hypothesis import given
from hypothesis import strategies as st

from agile_lattice.behaviour.images import REWRITTEN, after, before, chained, packets_apart, pulled_back
from agile_lattice.behaviour.listing import KEEP
from agile_lattice.packets.actions import Action
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, merged
from test_laws import SOME

Point = tuple[int, ...]
SIDES = (1, 1, 2, 4, 4, 3)  # how many numbers there are in each dimension


def spans_of(numbers: frozenset[int]) -> Spans:
    return merged((each, each) for each in numbers)


@st.composite
def boxes(draw: st.DrawFn) -> Box:
    return tuple(spans_of(draw(st.frozensets(st.integers(0, side - 1), min_size=1))) for side in SIDES)


@st.composite
def actions(draw: st.DrawFn, dimensions: tuple[int, ...] = REWRITTEN) -> Action:
    changed = draw(st.lists(st.sampled_from(dimensions), unique=True, max_size=2)) if dimensions else []
    shifted = [each for each in changed if draw(st.booleans())]
    sets = tuple((each, draw(st.integers(0, 3))) for each in changed if each not in shifted)
    shifts = tuple((each, draw(st.sampled_from([-2, -1, 1, 2]))) for each in shifted)
    return Action(draw(st.sampled_from([KEEP.verdict, "one of"])), sets, shifts)


def points(box: Box) -> set[Point]:
    return set(product(*([number for low, high in spans for number in range(low, high + 1)] for spans in box)))


def done(action: Action, point: Point) -> Point:
    return action.applied(point)[1:]  # type: ignore[return-value]


@SOME
@given(boxes(), actions())
def test_after_an_action_a_dimension_has_the_numbers_of_its_packets(box: Box, action: Action) -> None:
    for at in REWRITTEN:
        assert {point[at] for point in points((*box[:at], after(box, action, at), *box[at + 1 :]))} == {
            done(action, point)[at] for point in points(box)
        }


@SOME
@given(boxes(), actions(), boxes())
def test_before_an_action_are_the_packets_that_come_to_what_is_asked(box: Box, action: Action, wanted: Box) -> None:
    for at in REWRITTEN:
        found = before(box, action, at, wanted[at])
        inside = {number for low, high in wanted[at] for number in range(low, high + 1)}
        assert (points(found) if found is not None else set()) == {
            point for point in points(box) if done(action, point)[at] in inside
        }
    back = pulled_back(wanted, action, box)
    assert (points(back) if back is not None else set()) == {
        point for point in points(box) if done(action, point) in points(wanted)
    }


@SOME
@given(boxes(), actions(), actions())
def test_packets_are_apart_if_two_actions_make_different_ones_of_each(box: Box, one: Action, other: Action) -> None:
    apart = packets_apart(box, one, other)
    different = {point for point in points(box) if one.applied(point) != other.applied(point)}
    assert (apart is None) == (not different)
    assert apart is None or points(apart) <= different


@SOME
@given(boxes(), actions((3,)), actions((4, 5)))
def test_two_actions_in_a_chain_do_what_both_do(box: Box, first: Action, second: Action) -> None:
    both = chained(first, second)
    for point in points(box):
        assert done(both, point) == done(second, done(first, point))
    plain = [each for each in (first, second) if each.verdict == KEEP.verdict]
    assert (both.verdict == KEEP.verdict) == (len(plain) == 2)
