"""Whether a change of rules treats packets otherwise than the intent says, and otherwise than before."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.stage_lists import Listed, lines
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.packets.boxes import Box, Undecided, overlap
from agile_lattice.packets.functions import Entry, differing, exactly


def spoils(intent: Device, before: Device, after: Device, stages: Iterable[Listed]) -> bool:
    """Tell whether a change does to some packet what was not done before and the intent does not want; also if unknown.

    Args:
        intent: The device as it should be.
        before: As it was.
        after: As it is after the change.
        stages: The lists of rules to look at.
    """
    try:
        return any(_spoils(intent, before, after, stage, family) for stage in stages for family in (4, 6))
    except Undecided:
        return True


def _spoils(intent: Device, before: Device, after: Device, stage: Listed, family: int) -> bool:
    space = common_space(intent, before, family)
    meant, was, now = (
        [each.entry for each in lines(with_learned(one), stage, space)] for one in (intent, before, after)
    )
    changed = list(_apart(was, now))
    return any(overlap(one, other) for one in _apart(now, meant) for other in changed)


def _apart(left: list[Entry], right: list[Entry]) -> Iterator[Box]:
    """Yield boxes that hold just the packets that two lists treat differently."""
    found = differing(left, right)
    if found.unseen or found.undecided:
        raise Undecided(len(found.regions))
    for region in found.regions:
        yield from exactly(region, left, right)
