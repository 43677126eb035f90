"""Exact comparison of two first-match lists: which packets they do not treat the same.

*Cancel and join.* Boxes that both lists have, with the same action, are paired. The rest is joined to boxes of the
other list with the same action, and what a box and its partners have in common are fragments, which carry both
positions. A box whose fragments do not cover it becomes a fragment without a partner. In the longest run of fragments
that both lists have in one order nothing can differ. A packet that is treated differently is decided in the two lists
by two entries that stand in two fragments which hold it, of different actions and in opposite orders (a fragment
without a partner stands last on the other side). So the entries of all such pairs are looked at, and no others: where
something is left of what both match by all earlier entries of both lists, the lists differ.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from itertools import product

import msgspec
import numpy as np
from msgspec.structs import replace

from agile_lattice.packets.actions import Action, Offsets, Piece, canonical, offsets
from agile_lattice.packets.boxes import WORK_LIMIT, Box, overlap, remainder
from agile_lattice.packets.covering import covered
from agile_lattice.packets.grid import Boxes, Grid, Truth, Whole
from agile_lattice.packets.leaving import Left, left_of
from agile_lattice.packets.order import longest_run
from agile_lattice.packets.overlaps import Work, overlaps

PAIRS_LIMIT = 40_000_000
MOST_CROSSING = 50_000  # pairs of boxes that are looked into; where there are more, the first ones
NOWHERE = np.iinfo(np.int32).max  # the position of a partner that is not there: after all others


class Entry(msgspec.Struct, frozen=True):
    """An entry of a first-match list.

    Attributes:
        box: What it matches.
        action: What it does.
    """

    box: Box
    action: Action


class Region(msgspec.Struct, frozen=True):
    """Packets that one entry of each list decides, differently.

    They are those of `boxes` that no earlier entry of either list matches; `exactly` works them out.

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
    work = Work(limit)
    sides = _Sides(left, right)
    mine, its, common = _fragments(sides, work)
    ours, theirs = _crossing(sides, mine, its, common, work)
    found = _decided(sides, ours[:MOST_CROSSING], theirs[:MOST_CROSSING], liked, work)
    return replace(found, unseen=max(len(ours) - MOST_CROSSING, 0))


def exactly(region: Region, left: Sequence[Entry], right: Sequence[Entry], limit: int = WORK_LIMIT) -> list[Box]:
    """Work out a region as disjoint boxes.

    Raises:
        Undecided: If more than `limit` boxes would be needed.
    """
    earlier = [each.box for each in (*left[: region.left], *right[: region.right])]
    found: list[Box] = []
    for box in region.boxes:
        found += remainder([box], [*found, *(each for each in earlier if overlap(each, box))], limit)
    return found


class _Sides:
    """Both lists as pieces in one grid.

    Attributes:
        boxes: All pieces, those of the left list first.
        action: Numbers: two pieces have the same action exactly if they are equal.
        count: How many pieces the left list has.
    """

    def __init__(self, left: Sequence[Entry], right: Sequence[Entry]) -> None:
        known = offsets(each.action for one in (left, right) for each in one)
        self.pieces = list(_pieces(left, known))
        self.count = len(self.pieces)
        self.pieces += _pieces(right, known)
        self.grid = Grid([each.spans for each in self.pieces])
        self.boxes = self.grid.boxes
        numbers: dict[Action, int] = {}
        self.action = np.array([numbers.setdefault(each.action, len(numbers)) for each in self.pieces], np.int64)

    @property
    def left(self) -> Boxes:
        return self.boxes.take(slice(0, self.count))

    @property
    def right(self) -> Boxes:
        return self.boxes.take(slice(self.count, None))


def _pieces(entries: Sequence[Entry], known: Offsets) -> Iterator[Piece]:
    for owner, entry in enumerate(entries):
        for spans in product(*entry.box):
            piece = Piece(spans, entry.action, owner)
            if entry.action.sets:
                yield from canonical(piece, known)
            else:
                yield piece


def _fragments(sides: _Sides, work: Work) -> tuple[Whole, Whole, Boxes]:
    """Return fragments: their position in the left list, in the right one, and their boxes."""
    mine, its = _twins(sides)
    found = [(mine, its, sides.left.take(mine))]
    for turned, alone in ((False, mine), (True, its)):
        ours, others = (sides.right, sides.left) if turned else (sides.left, sides.right)
        action, other_action = sides.action[: sides.count], sides.action[sides.count :]
        if turned:
            action, other_action = other_action, action
        rest = np.flatnonzero(_others(len(ours), alone))
        targets = ours.take(rest)
        done, (target, taker) = covered(
            targets.beside(action[rest], action[rest] + 1), others.beside(other_action, other_action + 1), 1, work
        )
        lost = rest[~done]
        nobody = np.full(len(lost), NOWHERE, np.int64)
        joined = [(rest[target], taker), (lost, nobody)]
        boxes = [targets.take(target).common(others.take(taker)), ours.take(lost)]
        found += [((there, here) if turned else (here, there)) + (box,)
                  for (here, there), box in zip(joined, boxes, strict=True)]  # fmt: skip
    everything = found[0][2]
    for _, _, box in found[1:]:
        everything = everything.with_more(box)
    return np.concatenate([each[0] for each in found]), np.concatenate([each[1] for each in found]), everything


def _twins(sides: _Sides) -> tuple[Whole, Whole]:
    """Pair pieces of the same box and action, the first with the first of the other list and so on."""
    rows = np.vstack([sides.boxes.low, sides.boxes.high, sides.action[None]])
    order = np.lexsort(rows)
    changes = (np.diff(rows[:, order], axis=1) != 0).any(axis=0)
    alike = np.empty(len(order), np.int64)
    alike[order] = np.concatenate([[0], np.cumsum(changes)])
    keys = []
    for some in (alike[: sides.count], alike[sides.count :]):
        by = np.argsort(some, kind="stable")
        first = np.flatnonzero(np.diff(some[by], prepend=-1))
        turn = np.empty(len(some), np.int64)  # the how-manieth of its kind each is
        turn[by] = np.arange(len(some)) - np.repeat(first, np.diff(np.append(first, len(some))))
        keys.append(some * (len(alike) + 1) + turn)
    _, mine, its = np.intersect1d(keys[0], keys[1], assume_unique=True, return_indices=True)
    return mine, its


def _crossing(sides: _Sides, mine: Whole, its: Whole, common: Boxes, work: Work) -> tuple[Whole, Whole]:
    """Return pairs of pieces that could decide a packet differently: of fragments in opposite orders."""
    order = np.lexsort((its, mine))
    mine, its, common = mine[order], its[order], common.take(order)
    action = np.where(
        mine != NOWHERE, sides.action[np.minimum(mine, sides.count - 1)],
        sides.action[np.minimum(its + sides.count, len(sides.action) - 1)],
    )  # fmt: skip
    paired = np.flatnonzero((mine != NOWHERE) & (its != NOWHERE))
    kept = paired[longest_run(its[paired].tolist())]
    moved = np.flatnonzero(_others(len(mine), kept))
    # Fragments of the run that are in opposite order to one that moved have neighbouring places in the run.
    after = np.searchsorted(mine[kept], mine[moved], "right"), np.searchsorted(its[kept], its[moved], "left")
    before = np.searchsorted(its[kept], its[moved], "right"), np.searchsorted(mine[kept], mine[moved], "left")
    low = np.where(after[0] < after[1], after[0], before[0])
    high = np.where(after[0] < after[1], after[1], before[1])
    crossed = np.flatnonzero(low < high)
    place = np.arange(len(kept))
    one, other = overlaps(
        common.take(moved[crossed]).beside(low[crossed], high[crossed]),
        common.take(kept).beside(place, place + 1), work,
    )  # fmt: skip
    among = overlaps(common.take(moved), common.take(moved), work)
    first, second = moved[crossed[one]], kept[other]
    one = np.concatenate([first, second, moved[among[0]]])  # each pair is here both ways round
    other = np.concatenate([second, first, moved[among[1]]])
    opposite = (mine[one] < mine[other]) & (its[one] > its[other]) & (action[one] != action[other])
    both = np.sort(mine[one[opposite]] * len(sides.pieces) + its[other[opposite]])
    both = both[np.flatnonzero(np.diff(both, prepend=-1))]
    return both // len(sides.pieces), both % len(sides.pieces)


def _decided(sides: _Sides, ours: Whole, theirs: Whole, liked: Sequence[Sequence[int]], work: Work) -> Comparison:
    """Look which pairs of pieces decide a packet that no earlier entry of either list takes."""
    left, right = sides.left, sides.right
    common = left.take(ours).common(right.take(theirs))
    start = np.zeros_like(ours)
    # An entry of the left list counts if it stands before the piece of the left list, and likewise on the right.
    # Positions are counted from 1 here, so that what stands before the first is not an empty side.
    targets = common.beside(start, ours + 1).beside(start, theirs + 1)
    ours_first = left.beside(*_own(left)).beside(*_any(left))
    takers = ours_first.with_more(right.beside(*_any(right)).beside(*_own(right)))
    result = left_of(targets, takers, 2, sides.grid.cells(liked) if liked else [], work)
    return _told(sides, ours, theirs, common, result)


def _others(count: int, these: Whole) -> Truth:
    """Return which positions are not among some."""
    found = np.ones(count, bool)
    found[these] = False
    return found


def _own(boxes: Boxes) -> tuple[Whole, Whole]:
    position = np.arange(len(boxes)) + 1
    return position, position + 1


def _any(boxes: Boxes) -> tuple[Whole, Whole]:
    return np.zeros(len(boxes), np.int64), np.full(len(boxes), NOWHERE, np.int64)


def _told(sides: _Sides, ours: Whole, theirs: Whole, common: Boxes, result: Left) -> Comparison:
    found: dict[tuple[int, int], list[int]] = defaultdict(list)
    unknown: dict[tuple[int, int], None] = {}
    for at, (mine, its) in enumerate(zip(ours.tolist(), theirs.tolist(), strict=True)):
        owners = sides.pieces[mine].owner, sides.pieces[sides.count + its].owner
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
