"""Where a device does otherwise than its intent whose rules somebody wrote: the packets, all of them and no others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import DESTINATION, LEAVES, PORT, SOURCE, Space
from agile_lattice.behaviour.proving import Part, Parting, Proof, Region
from agile_lattice.behaviour.rows import DIMENSIONS, Cases, rows_of
from agile_lattice.behaviour.set_pipeline import Apart, Treatment
from agile_lattice.behaviour.stage_lists import LISTED, Listed
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.witnesses import FAMILIES, Question, Sides, Walks
from agile_lattice.packets.boxes import Box, Undecided, fused
from agile_lattice.packets.functions import differing
from agile_lattice.packets.spans import meet, merged, minus
from agile_lattice.programs.lists import Unlisted

MOST_SETS = 51  # of packets that are told apart
Found = tuple[Parting, Witness | None, Walks, str]


def found_apart(sides: Sides, proof: Proof) -> Iterator[Found]:
    """Yield the packets that are treated otherwise, by what decides about them on both sides: the first sets of them.

    Args:
        sides: The device as it should be, and as it is.
        proof: Where all else differs than lists of rules.

    Yields:
        The packets, one of them with what both sides do with it, and why it is not known whether they are treated
        otherwise; where that is empty, all of them are.

    Raises:
        Undecided: If they are too many to be looked at.
    """
    for family in FAMILIES:
        together: dict[tuple[Part, str, str, str], list[Box]] = {}
        for each in sides.apart(family, _questions(sides, family, proof)):
            key = _part(each), _words(each.here), _words(each.there), each.unsure
            together.setdefault(key, []).append(each.box)
            if len(together) == MOST_SETS:
                break
        space = sides.space(family)
        # What is certain is told first.
        for (part, left, right, unsure), found in sorted(together.items(), key=lambda item: bool(item[0][3])):
            boxes = fused([_widened(sides, family, each) for each in fused(found)])
            parting = Parting(part, left, right, _region(space, boxes), family=family)
            answered = None if unsure else sides.shown(family, found[0], 0)
            if answered is None:
                yield parting, None, (None, None), unsure or "two independent computations disagree about it"
            else:
                yield parting, answered.witness, answered.walks, ""


def _questions(sides: Sides, family: int, proof: Proof) -> Iterator[Question]:
    """Yield where packets of a family can be treated otherwise: where lists differ in some case, or anywhere."""
    space = sides.space(family)
    if proof.undecided or proof.partings:
        yield Question(family, (space.box(),))
        return
    try:
        boxes = {part: _boxes_apart(sides, part, family) for part in LISTED}
    except (Undecided, Unlisted):
        yield Question(family, (space.box(),))
        return
    for part, apart in boxes.items():
        yield Question(family, apart) if part == "arrival" else Question(family, (), apart)


def _boxes_apart(sides: Sides, part: Listed, family: int) -> tuple[Box, ...]:
    """Return boxes that hold all packets that both sides treat differently in a list, as they come to it."""
    space, found = sides.space(family), dict[Box, None]()
    for choice in sides.choices(family):
        mine, its = sides.topologies(choice)
        program = its.program(sides.name, family)
        left = rows_of(mine.devices[sides.name], part, space, None, mine.equal)
        right = rows_of(its.devices[sides.name], part, space, program, its.equal)
        cases = Cases([*left, *right], program.sizes if program is not None else {})
        apart = differing([*map(cases.entry, left)], [*map(cases.entry, right)])
        if apart.unseen or apart.undecided:
            raise Undecided(len(apart.regions))
        found |= dict.fromkeys(box[:DIMENSIONS] for each in apart.regions for box in each.boxes)
    return tuple(found)


def _region(space: Space, boxes: Sequence[Box]) -> Region:
    return Region(space.family, tuple(map(space.words, boxes)), space.words(boxes[0]), space.example(boxes[0]))


def _widened(sides: Sides, family: int, box: Box) -> Box:
    """Return a box with packets besides that nobody can send, where that is said in fewer words.

    Nobody sends from the device's own addresses, say, and what leaves by an interface is for where that leads.
    """
    space, everything = sides.space(family), sides.sendable(family)
    if everything is None:
        return box
    possible = {
        SOURCE: everything[SOURCE],
        DESTINATION: meet(sides.leading_to(family, box[LEAVES]), everything[DESTINATION]),
    }
    for dimension, sent in possible.items():
        wide = merged((*box[dimension], *minus(space.any_address, sent)))
        if len(minus(space.any_address, wide)) < len(box[dimension]):
            box = with_spans(box, dimension, wide)
    return box


def _part(apart: Apart) -> Part:
    """Return where packets part, as their headers show it."""
    here, there = apart.here, apart.there
    ends = [each.end for each in (here, there) if each.end is not None]
    if len(ends) < 2:
        return "access" if any(isinstance(end, tuple) and end[0] == "itself" for end in ends) else "permits"
    changes = [
        [dict(each.action.sets).get(at, dict(each.action.shifts).get(at)) for at in (DESTINATION, PORT)]
        for each in (here, there)
    ]
    if changes[0] != changes[1]:
        return "arrival"
    return "way" if here.end != there.end else "departure"


def _words(treatment: Treatment) -> str:
    return treatment.by or ("goes nowhere" if treatment.end is None else "goes on")
