"""Exact comparison of two first-match lists: which packets they do not treat the same.

Which pairs of entries could part two lists is found out in `fragments`. Here they are looked into: where something is
left of what both match by all earlier entries of both lists, the lists differ, and nowhere else.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from itertools import product

import msgspec
import numpy as np
from msgspec.structs import replace

from agile_lattice.packets.actions import Action, Offsets, Piece, canonical, offsets
from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import WORK_LIMIT, Box, Undecided, count, remainder
from agile_lattice.packets.classes import Classes, worth_it
from agile_lattice.packets.columns import Boxes, Whole
from agile_lattice.packets.fragments import NOWHERE, Side, crossing
from agile_lattice.packets.grid import Grid
from agile_lattice.packets.overlaps import Work
from agile_lattice.packets.remainders import Left, left_of

PAIRS_LIMIT = 40_000_000
MOST_PIECES = 2_000_000  # boxes of one span in each dimension that the entries may be made of
MOST_CROSSING = 50_000  # pairs of boxes that are looked into; where there are more, the first ones


class Entry(msgspec.Struct, frozen=True, gc=False):
    """An entry of a first-match list.

    Attributes:
        box: What it matches.
        action: What it does.
    """

    box: Box
    action: Action


class Region(msgspec.Struct, frozen=True):
    """Packets that one entry of each list decides, differently.

    They are those of `boxes` that no earlier entry of either list matches; `Exactly` works them out.

    Attributes:
        boxes: What both entries match and do not treat alike.
        left, right: Positions of the entries in the lists.
        some: A box with some of the packets, ordinary-looking ones if they are among them.
    """

    boxes: tuple[Box, ...]
    left: int
    right: int
    some: Box


class Comparison(msgspec.Struct, frozen=True):
    """How two lists differ.

    Attributes:
        regions: Where; no packet is in two of them.
        undecided: Entries of both lists of which it was not decided whether they decide some packet differently.
        unseen: How many more pairs of boxes could differ and were not looked at.

    """

    regions: tuple[Region, ...]
    undecided: tuple[tuple[int, int], ...] = ()
    unseen: int = 0


def differing(
    left: Sequence[Entry], right: Sequence[Entry], liked: Sequence[Sequence[int]] = (), limit: int = PAIRS_LIMIT
) -> Comparison:
    """Find the packets that two lists treat differently, all of them.

    Args:
        left: The one list; its last entry matches every packet.
        right: The other, likewise.
        liked: For each dimension numbers that an ordinary packet has, the best first.
        limit: The greatest number of pairs of boxes to look at.

    Raises:
        Undecided: If that is not enough to find all pairs of entries that could differ.
    """
    boxes = [each.box for one in (left, right) for each in one]
    if not worth_it(boxes):
        return _differing(left, right, liked, limit)
    # A dimension that is set to a number is compared by its numbers.
    classes = Classes(boxes, {dimension for one in (left, right) for each in one for dimension, _ in each.action.sets})
    ours, theirs = ([Entry(classes.box(each.box), each.action) for each in one] for one in (left, right))
    found = _differing(ours, theirs, classes.liked(liked) if liked else (), limit)
    regions = [
        replace(each, boxes=tuple(map(classes.numbers, each.boxes)), some=classes.numbers(each.some))
        for each in found.regions
    ]
    return replace(found, regions=tuple(regions))


def _differing(left: Sequence[Entry], right: Sequence[Entry], liked: Sequence[Sequence[int]], limit: int) -> Comparison:
    work = Work(limit)
    sides = _Sides(left, right)
    ours, theirs = crossing(sides.left, sides.right, work)
    found = _decided(sides, ours[:MOST_CROSSING], theirs[:MOST_CROSSING], liked, work)
    return replace(found, unseen=max(len(ours) - MOST_CROSSING, 0))


class Exactly:
    """Works out regions of two lists.

    Args:
        left, right: The lists.
    """

    def __init__(self, left: Sequence[Entry], right: Sequence[Entry]) -> None:
        self._lists = [([each.box for each in some], Bounds([each.box for each in some])) for some in (left, right)]

    def boxes(self, region: Region, limit: int = WORK_LIMIT) -> list[Box]:
        """Return the packets of a region as disjoint boxes.

        Raises:
            Undecided: If more than `limit` boxes would be needed.
        """
        found: list[Box] = []
        for box in region.boxes:
            earlier = [
                boxes[at]
                for (boxes, bounds), before in zip(self._lists, (region.left, region.right), strict=True)
                for at in bounds.meeting(box)
                if at < before
            ]
            found += remainder([box], [*found, *earlier], limit)
        return found


class _Sides:
    """Both lists as pieces in one grid."""

    def __init__(self, left: Sequence[Entry], right: Sequence[Entry]) -> None:
        if count((each.box for one in (left, right) for each in one), len) > MOST_PIECES:
            raise Undecided(MOST_PIECES)
        known = offsets(each.action for one in (left, right) for each in one)
        self.pieces = list(_pieces(left, known)), list(_pieces(right, known))
        both = [*self.pieces[0], *self.pieces[1]]
        numbers: dict[Action, int] = {}
        action = np.array([numbers.setdefault(each.action, len(numbers)) for each in both], np.int64)
        split = len(self.pieces[0])
        self.grid = Grid([each.spans for each in both])
        self.left = Side(self.grid.boxes.take(slice(0, split)), action[:split])
        self.right = Side(self.grid.boxes.take(slice(split, None)), action[split:])


def _pieces(entries: Sequence[Entry], known: Offsets) -> Iterator[Piece]:
    for owner, entry in enumerate(entries):
        for spans in product(*entry.box):
            piece = Piece(spans, entry.action, owner)
            if entry.action.sets:
                yield from canonical(piece, known)
            else:
                yield piece


def _decided(sides: _Sides, ours: Whole, theirs: Whole, liked: Sequence[Sequence[int]], work: Work) -> Comparison:
    """Look which pairs of pieces decide a packet that no earlier entry of either list takes."""
    left, right = sides.left.boxes, sides.right.boxes
    common = left.take(ours).common(right.take(theirs))
    start = np.zeros_like(ours)
    # An entry of the left list counts if it stands before the piece of the left list, and likewise on the right.
    # Positions are counted from 1 here, so that what stands before the first is not an empty side.
    targets = common.beside(start, ours + 1).beside(start, theirs + 1)
    ours_first = left.beside(*_own(left)).beside(*_any(left))
    takers = ours_first.with_more(right.beside(*_any(right)).beside(*_own(right)))
    result = left_of(targets, takers, 2, sides.grid.cells(liked) if liked else [], work)
    return _told(sides, ours, theirs, common, result)


def _own(boxes: Boxes) -> tuple[Whole, Whole]:
    position = np.arange(len(boxes)) + 1
    return position, position + 1


def _any(boxes: Boxes) -> tuple[Whole, Whole]:
    return np.zeros(len(boxes), np.int64), np.full(len(boxes), NOWHERE, np.int64)


def _told(sides: _Sides, ours: Whole, theirs: Whole, common: Boxes, result: Left) -> Comparison:
    found: dict[tuple[int, int], list[int]] = defaultdict(list)
    unknown: dict[tuple[int, int], None] = {}
    for at, (mine, its) in enumerate(zip(ours.tolist(), theirs.tolist(), strict=True)):
        owners = sides.pieces[0][mine].owner, sides.pieces[1][its].owner
        if result.some[at]:
            found[owners].append(at)
        elif result.unknown[at]:
            unknown[owners] = None
    boxes = sides.grid.numbers(common)
    cells = sides.grid.numbers(Boxes(result.cells, result.cells + 1))
    regions = [
        Region(tuple(boxes[at] for at in members), mine, its, cells[members[0]])
        for (mine, its), members in sorted(found.items())
    ]
    return Comparison(tuple(regions), tuple(each for each in unknown if each not in found))
