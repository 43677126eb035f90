"""Where a device does otherwise than its intent whose rules somebody wrote: the packets, all of them and no others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import DESTINATION, LEAVES, PORT, SOURCE, Space
from agile_lattice.behaviour.proving import Part, Parting, Proof, Region
from agile_lattice.behaviour.set_pipeline import Apart, Treatment
from agile_lattice.behaviour.stage_lists import LISTED
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.search_space import question_about
from agile_lattice.compare.witnesses import FAMILIES, Question, Sides, Walks
from agile_lattice.dialects.assembly import Capture
from agile_lattice.packets.boxes import Box, fused
from agile_lattice.packets.spans import meet, merged, minus

MOST_SETS = 51  # of packets that are told apart
Found = tuple[Parting, Witness | None, Walks, str]


def found_apart(sides: Sides, proof: Proof, capture: Capture) -> Iterator[Found]:
    """Yield the packets that are treated otherwise, by what decides about them on both sides: the first sets of them.

    Args:
        sides: The device as it should be, and as it is.
        proof: Where its lists differ, as far as its rules can be said in lists.
        capture: What was read of it, with what of its rules only its program says.

    Yields:
        The packets, one of them with what both sides do with it, and why it is not known whether they are treated
        otherwise; where that is empty, all of them are.

    Raises:
        Undecided: If they are too many to be looked at.
    """
    for family in FAMILIES:
        together: dict[tuple[Part, str, str, str], list[Box]] = {}
        for each in sides.apart(family, _questions(sides, family, proof, capture)):
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


def _questions(sides: Sides, family: int, proof: Proof, capture: Capture) -> Iterator[Question]:
    """Yield where packets of a family can be treated otherwise.

    Lists of rules say what a program does, but for the steps that they cannot say. So packets can be treated otherwise
    only where lists differ, and where such a step could be about them: anywhere, if that is not known of one.
    """
    space = sides.space(family)
    known = {(each.place.file, each.place.line) for each in capture.bounds if each.bounds}
    unbound = any(each.in_program and (each.place.file, each.place.line) not in known for each in capture.leftovers)
    steps = (step for each in sides.rules for members in each.steps.values() for step in members)
    anywhere = unbound or proof.undecided or any(each.part not in LISTED for each in proof.partings)
    if anywhere or any(step.untracked for step in steps):
        yield Question(family, (space.box(),))
        return
    for parting in proof.partings:
        if parting.family in (None, family):
            yield from (each for each in question_about(sides, parting) if each.family == family)
    for aside in capture.bounds:
        boxes = tuple(space.of_rule(bound) for bound in aside.bounds if space.speaks(bound))
        yield Question(family, boxes) if aside.hook == "arrival" else Question(family, (), boxes)


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
