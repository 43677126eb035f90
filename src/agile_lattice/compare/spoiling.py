"""Whether a change of rules treats packets otherwise than the intent says, and otherwise than before."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.rows import Cases, rows_of
from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.compare.witnesses import FAMILIES, Sides
from agile_lattice.intent.learned import with_learned
from agile_lattice.packets.boxes import Box, Undecided, overlap
from agile_lattice.packets.functions import Entry, Exactly, differing
from agile_lattice.programs.lists import Unlisted


def spoils(before: Sides, after: Sides, stages: Iterable[Listed]) -> bool:
    """Tell whether a change does to some packet what was not done before and the intent does not want; also if unknown.

    Args:
        before: The device as it should be, and as it was.
        after: As it should be, and as it is after the change.
        stages: The lists of rules to look at.
    """
    try:
        return any(_spoils(before, after, stage, family) for stage in stages for family in FAMILIES)
    except (Undecided, Unlisted):
        return True


def _spoils(before: Sides, after: Sides, stage: Listed, family: int) -> bool:
    intent, was_ = map(with_learned, before.devices)
    now_ = with_learned(after.devices[1])
    space, programs = common_space(intent, was_, family), [each.program(family) for each in (before, after)]
    was, now = rows_of(was_, stage, space, programs[0]), rows_of(now_, stage, space, programs[1])
    cases = Cases([*was, *now], programs[0].sizes if programs[0] is not None else {})
    meant, before_, after_ = ([*map(cases.entry, rows)] for rows in (rows_of(intent, stage, space), was, now))
    changed = list(_apart(before_, after_))
    return any(overlap(one, other) for one in _apart(after_, meant) for other in changed)


def _apart(left: Sequence[Entry], right: Sequence[Entry]) -> Iterator[Box]:
    """Yield boxes that hold just the packets that two lists treat differently."""
    found = differing(left, right)
    if found.unseen or found.undecided:
        raise Undecided(len(found.regions))
    exactly = Exactly(left, right)
    for region in found.regions:
        yield from exactly.boxes(region)
