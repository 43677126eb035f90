"""Whether boxes are covered by others: settled for all of them at once where one other covers, or a chain of them.

The last dimensions of targets and takers may be *sides*: they only say which takers count for which target (those that
overlap in them), and are not covered.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from agile_lattice.packets.columns import Boxes, Truth, Whole
from agile_lattice.packets.overlaps import Work, overlaps

Pairs = tuple[Whole, Whole]


def covered(targets: Boxes, takers: Boxes, sides: int, work: Work) -> tuple[Truth, Pairs]:
    """Find boxes that one other box covers, or several that follow on one another in one dimension.

    Args:
        targets: The boxes.
        takers: The others.
        sides: How many of the last dimensions are sides.
        work: What may be done.

    Returns:
        Which targets are covered (others may be, too, in a less plain way), and by which takers: pairs of positions.

    Raises:
        Undecided: If more than `work` allows would have to be looked at.
    """
    at_corner = overlaps(cells(targets, targets.low[: len(targets.low) - sides]), takers, work)
    whole = containing(targets, takers, sides, at_corner)
    done = np.zeros(len(targets), bool)
    done[whole[0]] = True
    rest = np.flatnonzero(~done)
    closed, links = chained(targets.take(rest), takers, sides, work)
    done[rest[closed]] = True
    return done, joined([whole, (rest[links[0]], links[1])])


def cells(targets: Boxes, chosen: Whole, but: Sequence[int] = ()) -> Boxes:
    """Return single cells of some targets, with their sides; in some dimensions all that they hold."""
    low, high = targets.low.copy(), targets.high.copy()
    for at, cell in enumerate(chosen):
        if at not in but:
            low[at], high[at] = cell, cell + 1
    return Boxes(low, high)


def containing(targets: Boxes, takers: Boxes, sides: int, pairs: Pairs) -> Pairs:
    """Return those targets, of some pairs, that a taker contains, each with the first such taker."""
    whole, _ = _all_but(0, targets, takers, sides, pairs)
    target, taker = pairs[0][whole], pairs[1][whole]
    order = np.lexsort((taker, target))
    ones, first = np.unique(target[order], return_index=True)
    return ones, taker[order][first]


def chained(targets: Boxes, takers: Boxes, sides: int, work: Work) -> tuple[Truth, Pairs]:
    """Tell which targets a chain of takers covers, and by which pairs."""
    done = np.zeros(len(targets), bool)
    used: list[Pairs] = []
    for dimension in range(len(targets.low) - sides):
        rest = np.flatnonzero(~done)
        here = targets.take(rest)
        # Who covers a box in a dimension holds its first cell there: single cells meet few others.
        pairs = overlaps(cells(here, here.low[: len(here.low) - sides], [dimension]), takers, work)
        links, which = _all_but(1, here, takers, sides, pairs)
        links = links[which == dimension]
        if len(links):
            target, taker = pairs[0][links], pairs[1][links]
            closed = _chains(here, takers, target, taker, dimension)
            done[rest[closed]] = True
            used.append((rest[target[closed[target]]], taker[closed[target]]))
    none: Pairs = np.zeros(0, np.int64), np.zeros(0, np.int64)
    return done, joined([none, *used])


def joined(pairs: Sequence[Pairs]) -> Pairs:
    """Put pairs together."""
    return np.concatenate([one for one, _ in pairs]), np.concatenate([other for _, other in pairs])


def _all_but(few: int, targets: Boxes, takers: Boxes, sides: int, pairs: Pairs) -> Pairs:
    """Return the places of pairs whose taker covers its target in all dimensions but at most that few; and the last."""
    places = np.arange(len(pairs[0]))
    (target, taker), count, which = pairs, np.zeros(len(places), np.int64), np.full(len(places), -1)
    for at in range(len(targets.low) - sides):
        short = (takers.low[at][taker] > targets.low[at][target]) | (takers.high[at][taker] < targets.high[at][target])
        count += short
        which[short] = at
        near = count <= few
        places, target, taker, count, which = places[near], target[near], taker[near], count[near], which[near]
    return places, which


def _chains(targets: Boxes, takers: Boxes, target: Whole, taker: Whole, dimension: int) -> Truth:
    """Tell which targets are covered in one dimension by takers that cover them in all others."""
    low, high = takers.low[dimension][taker], takers.high[dimension][taker]
    order = np.lexsort((low, target))
    target, low, high = target[order], low[order], high[order]
    starts = np.flatnonzero(np.diff(target, prepend=-1))
    stride = int(high.max()) + 1
    reach = np.maximum.accumulate(high + target * stride) - target * stride  # the furthest so far, target by target
    before = np.concatenate([[0], reach[:-1]])
    before[starts] = targets.low[dimension][target[starts]]
    gap = np.add.reduceat((low > before).astype(np.int64), starts) > 0
    ends = np.append(starts[1:], len(target)) - 1
    mine = target[starts]
    result = np.zeros(len(targets), bool)
    result[mine] = ~gap & (reach[ends] >= targets.high[dimension][mine])
    return result
