"""All overlapping pairs of two sets of boxes, in any number of dimensions.

Boxes are parted by the dimensions in which they are a single cell, narrow or wide. For two parts the pairs that meet in
one dimension, or in all those in which both are single cells, are counted exactly; the fewest are listed, and the other
dimensions sift them. Since they are counted first, too much work is refused before it is done.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np

from agile_lattice.packets.boxes import Undecided
from agile_lattice.packets.grid import Boxes, Whole

WIDE = 8  # a box is wide in a dimension if it holds at least the WIDE-th part of its cells
MOST_PARTS = 24
AT_ONCE = 500_000  # pairs looked at together: that bounds the memory
SINGLE, NARROW, BROAD = 0, 1, 2


class Work:
    """What may still be done, in pairs of boxes: the same on every machine.

    Args:
        limit: How many pairs may be looked at.
    """

    def __init__(self, limit: int) -> None:
        self.limit = self.left = limit

    def spend(self, pairs: int) -> None:
        """Account for work that is about to be done.

        Raises:
            Undecided: If it is too much.
        """
        self.left -= pairs
        if self.left < 0:
            raise Undecided(self.limit)


def overlaps(left: Boxes, right: Boxes, work: Work) -> tuple[Whole, Whole]:
    """Return the positions of all pairs of boxes that have a cell in common.

    Raises:
        Undecided: If more pairs would have to be looked at than `work` has left.
    """
    if not len(left) or not len(right):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    tops = np.maximum(left.high.max(axis=1), right.high.max(axis=1))
    found = [_meeting(one, other, work) for one in _parts(left, tops) for other in _parts(right, tops)]
    return np.concatenate([each for each, _ in found]), np.concatenate([each for _, each in found])


class _Part:
    """Boxes of about the same shape.

    Attributes:
        which: Their positions among all.
        shape: For each dimension `SINGLE`, `NARROW` or `BROAD`; none is more than that.
    """

    def __init__(self, boxes: Boxes, which: Whole, shape: Whole) -> None:
        self.which, self.shape = which, shape
        self.boxes = boxes.take(which)
        self._orders: dict[int, tuple[Whole, Whole]] = {}

    def ascending(self, dimension: int) -> tuple[Whole, Whole]:
        """Return the order of first cells in a dimension, and the first cells in that order."""
        if dimension not in self._orders:
            order = np.argsort(self.boxes.low[dimension], kind="stable")
            self._orders[dimension] = order, self.boxes.low[dimension][order]
        return self._orders[dimension]

    @cached_property
    def extent(self) -> tuple[Whole, Whole]:
        """Cells that every box holds, in each dimension: from, and before."""
        return self.boxes.low.max(axis=1), self.boxes.high.min(axis=1)


def _parts(boxes: Boxes, tops: Whole) -> list[_Part]:
    width = boxes.high - boxes.low
    shapes = np.where(width * WIDE >= tops[:, None], BROAD, np.where(width == 1, SINGLE, NARROW))
    code = (shapes * (3 ** np.arange(len(tops)))[:, None]).sum(axis=0)
    codes, place, count = np.unique(code, return_inverse=True, return_counts=True)
    if len(codes) > MOST_PARTS:  # the rare shapes together
        rank = np.argsort(np.argsort(-count, kind="stable"), kind="stable")
        place = np.minimum(rank, MOST_PARTS - 1)[place]
    order = np.argsort(place, kind="stable")
    members = np.split(order, np.flatnonzero(np.diff(place[order])) + 1)
    return [_Part(boxes, which, shapes[:, which].max(axis=1)) for which in members]


class _Way:
    """A way to list pairs: for each box on one side a run of the other side's boxes, in their order.

    Attributes:
        pairs: How many it would list.
    """

    def __init__(self, *runs: tuple[Whole, Whole, Whole, bool]) -> None:
        self.runs = runs
        self.pairs = sum(int((stop - start).sum()) for start, stop, _, _ in runs)

    def listed(self) -> Iterator[tuple[Whole, Whole]]:
        """Yield the pairs, some at a time."""
        for start, stop, order, turned in self.runs:
            counts = stop - start
            ends = np.cumsum(counts)
            begin = 0
            while begin < len(counts):
                before = ends[begin - 1] if begin else 0
                end = max(int(np.searchsorted(ends, before + AT_ONCE, "right")), begin + 1)
                some = counts[begin:end]
                ours = np.repeat(np.arange(begin, end), some)
                offset = np.repeat(start[begin:end] - (ends[begin:end] - some - before), some)
                theirs = order[offset + np.arange(len(ours))]
                yield (theirs, ours) if turned else (ours, theirs)
                begin = end


def _meeting(one: _Part, other: _Part, work: Work) -> tuple[Whole, Whole]:
    """Return the overlapping pairs of two parts."""
    single = np.flatnonzero((one.shape == SINGLE) & (other.shape == SINGLE))
    narrow = np.flatnonzero((one.shape != BROAD) & (other.shape != BROAD) & ((one.shape == NARROW) | (other.shape == NARROW)))  # fmt: skip  # noqa: E501
    ways = [_alike(one, other, single)] if len(single) else []
    ways += [_in_dimension(one, other, int(dimension)) for dimension in narrow]
    best = min(ways, key=lambda way: way.pairs) if ways else _all(one, other)
    work.spend(best.pairs)
    # A dimension in which every box of one side holds all of every box of the other sifts nothing.
    low, high = one.boxes.low, one.boxes.high
    sifting = [at for at in range(len(low)) if not (_within(one, other, at) or _within(other, one, at))]
    kept: list[tuple[Whole, Whole]] = []
    for mine, its in best.listed():
        for at in sifting:
            alive = low[at][mine] < other.boxes.high[at][its]
            alive &= other.boxes.low[at][its] < high[at][mine]
            mine, its = mine[alive], its[alive]
        kept.append((one.which[mine], other.which[its]))
    if not kept:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    return np.concatenate([each for each, _ in kept]), np.concatenate([each for _, each in kept])


def _within(one: _Part, other: _Part, at: int) -> bool:
    """Tell whether in a dimension all boxes of one part lie in cells that every box of the other holds."""
    low, high = other.extent[0][at], other.extent[1][at]
    return bool(low < high and one.boxes.low[at].min() >= low and one.boxes.high[at].max() <= high)


def _all(one: _Part, other: _Part) -> _Way:
    count = len(one.which)
    stop = np.full(count, len(other.which))
    return _Way((np.zeros(count, np.int64), stop, np.arange(len(other.which)), False))


def _in_dimension(one: _Part, other: _Part, dimension: int) -> _Way:
    """List pairs that meet in one dimension: whose boxes begin in a box of the other side."""
    mine, my_lows = one.ascending(dimension)
    its, its_lows = other.ascending(dimension)
    low, high = one.boxes.low[dimension], one.boxes.high[dimension]
    its_low, its_high = other.boxes.low[dimension], other.boxes.high[dimension]
    return _Way(
        (np.searchsorted(its_lows, low, "left"), np.searchsorted(its_lows, high, "left"), its, False),
        (np.searchsorted(my_lows, its_low, "right"), np.searchsorted(my_lows, its_high, "left"), mine, True),
    )


def _alike(one: _Part, other: _Part, dimensions: Whole) -> _Way:
    """List pairs that are the same single cell in some dimensions."""
    cells = np.hstack([one.boxes.low[dimensions], other.boxes.low[dimensions]])
    key: Whole = cells[0]
    for more in cells[1:]:
        _, key = np.unique(key * (int(more.max()) + 1) + more, return_inverse=True)
    mine, its = key[: len(one.which)], key[len(one.which) :]
    order = np.argsort(its, kind="stable")
    keys = its[order]
    return _Way((np.searchsorted(keys, mine, "left"), np.searchsorted(keys, mine, "right"), order, False))
