"""What the steps of a ruleset make of packets that they rewrite."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.dialects.programs.matching import Box
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.packets.spans import Spans, meet
from agile_lattice.programs import model
from agile_lattice.programs.model import Change, Constant, Entry, Moved, OneOf, Unknown

Changes = tuple[tuple[int, Change], ...]


def translated(step: StepFact, side: int, box: Box, around: Surroundings) -> Iterator[Entry]:
    """Yield what a step does that rewrites packets.

    Args:
        step: The step.
        side: The bit of what is translated where it is asked.
        box: The packets that it matches.
        around: What it asks of the device.
    """
    of_source = side == model.OF_SOURCE
    for here, address in _to(step, of_source, box, around):
        changes = (*address, *_port(step, of_source))
        if not (changes or step.verdict in ("egress", "ingress")):
            yield Entry(here, "not known")
            continue
        yield from _as_it_was(here, changes, side)
        done = side | (model.NEW_SOURCE if of_source else model.NEW_DESTINATION)
        yield Entry(here, "accept", changes=(*changes, (model.TRANSLATED, model.bits_added(done))))


def _to(step: StepFact, of_source: bool, box: Box, around: Surroundings) -> Iterator[tuple[Box, Changes]]:
    """Yield packets with what becomes of their address."""
    dimension = model.SOURCE if of_source else model.DESTINATION
    if step.verdict in ("egress", "ingress"):
        leaving = step.verdict == "egress"
        for own, number, towards in around.lends(leaving, box):
            here = {**box, (model.LEAVES if leaving else model.ARRIVES): ((number, number),)}
            if towards is not None:
                here[model.DESTINATION] = meet(box.get(model.DESTINATION, towards), towards)
            if all(here.values()):
                yield here, ((dimension, _one_of(own)),) if own else ()
        return
    matched = step.source if of_source else step.destination
    if step.to is None:
        yield box, ()
    elif step.verdict == "shift":
        yield box, _exchanged(dimension, matched.spans, step.to.spans) if isinstance(matched, AddressSet) else ()
    else:
        yield box, ((dimension, _one_of(step.to.spans)),)


def _exchanged(dimension: int, before: Spans, after: Spans) -> Changes:
    """Return what becomes of addresses when one prefix is put in the place of another that is as long."""
    (first, last), (to, end) = before[0], after[0]
    return ((dimension, Moved(to - first)),) if len(before) == 1 and last - first == end - to else ()


def _one_of(spans: Spans) -> Change:
    return Constant(spans[0][0]) if spans == ((spans[0][0],) * 2,) else OneOf(spans)


def _port(step: StepFact, of_source: bool) -> Changes:
    dimension = model.SOURCE_PORT if of_source else model.PORT
    if step.to_port is not None:
        return ((dimension, Constant(step.to_port)),)
    return ((dimension, OneOf(step.to_ports)),) if step.to_ports is not None else ()


def _as_it_was(box: Box, changes: Changes, side: int) -> Iterator[Entry]:
    """Yield those packets that were already as they are to be: they count as translated, but not as changed."""
    here, choice = dict(box), False
    for dimension, change in changes:
        match change:
            case Constant(number):
                numbers = ((number, number),)
            case OneOf(numbers):
                choice = True
            case _:
                return  # it moves them
        here[dimension] = meet(here.get(dimension, numbers), numbers)
    if not all(here.values()):
        return
    needs = ((Unknown(f"the device chooses what was there of {changes}", "chance"), True),) if choice else ()
    yield Entry(here, "accept", changes=((model.TRANSLATED, model.bits_added(side)),), needs=needs)
