"""All overlapping pairs of two sets of boxes, in any number of dimensions.

Boxes are parted by the dimensions in which they are a single cell, narrow or wide. For two parts the pairs that meet in
one dimension, or in all those in which both are single cells, are counted exactly; the fewest are listed, and the other
dimensions sift them. Since they are counted first, too much work is refused before it is done.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from agile_lattice.packets.boxes import Undecided
from agile_lattice.packets.columns import NARROW, SINGLE, Boxes, Part, Whole

FEW = 20_000  # pairs that are looked at sooner than sorted
AT_ONCE = 500_000  # pairs looked at together: that bounds the memory


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
    if len(left) * len(right) <= FEW:
        work.spend(len(left) * len(right))
        return _each_with_each(left, right)
    found = [_meeting(one, other, work) for one in left.parts for other in right.parts]
    return np.concatenate([each for each, _ in found]), np.concatenate([each for _, each in found])


def _each_with_each(left: Boxes, right: Boxes) -> tuple[Whole, Whole]:
    meet = np.ones((len(left), len(right)), bool)
    for low, high, its_low, its_high in zip(left.low, left.high, right.low, right.high, strict=True):
        meet &= low[:, None] < its_high
        meet &= its_low < high[:, None]
    mine, its = np.nonzero(meet)
    return mine, its


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


def _meeting(one: Part, other: Part, work: Work) -> tuple[Whole, Whole]:
    """Return the overlapping pairs of two parts."""
    single = np.flatnonzero((one.shape == SINGLE) & (other.shape == SINGLE))
    narrow = np.flatnonzero(np.maximum(one.shape, other.shape) == NARROW)
    ways = [_alike(one, other, single)] if len(single) else []
    ways += [_in_dimension(one, other, int(dimension)) for dimension in narrow]
    best = min(ways, key=lambda way: way.pairs) if ways else _all(one, other)
    work.spend(best.pairs)
    # A dimension in which every box of one side holds all of every box of the other sifts nothing.
    low, high = one.boxes.low, one.boxes.high
    sifting = np.flatnonzero(~(one.lies_in(other) | other.lies_in(one)))
    sifting = sifting[np.argsort(-one.span[1][sifting], kind="stable")]  # where there are most cells, fewest meet
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


def _all(one: Part, other: Part) -> _Way:
    count = len(one.which)
    stop = np.full(count, len(other.which))
    return _Way((np.zeros(count, np.int64), stop, np.arange(len(other.which)), False))


def _in_dimension(one: Part, other: Part, dimension: int) -> _Way:
    """List pairs that meet in one dimension: whose boxes begin in a box of the other side."""
    mine, my_lows = one.ascending(dimension)
    its, its_lows = other.ascending(dimension)
    low, high = one.boxes.low[dimension], one.boxes.high[dimension]
    its_low, its_high = other.boxes.low[dimension], other.boxes.high[dimension]
    return _Way(
        (np.searchsorted(its_lows, low, "left"), np.searchsorted(its_lows, high, "left"), its, False),
        (np.searchsorted(my_lows, its_low, "right"), np.searchsorted(my_lows, its_high, "left"), mine, True),
    )


def _alike(one: Part, other: Part, dimensions: Whole) -> _Way:
    """List pairs that are the same single cell in some dimensions."""
    cells = np.hstack([one.boxes.low[dimensions], other.boxes.low[dimensions]])
    key: Whole = cells[0].astype(np.int64)
    for more in cells[1:]:
        _, key = np.unique(key * (int(more.max()) + 1) + more, return_inverse=True)
    mine, its = key[: len(one.which)], key[len(one.which) :]
    order = np.argsort(its, kind="stable")
    keys = its[order]
    return _Way((np.searchsorted(keys, mine, "left"), np.searchsorted(keys, mine, "right"), order, False))
