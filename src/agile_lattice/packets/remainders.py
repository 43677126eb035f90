"""What other boxes leave of boxes: for each whether anything is left, and if so, a cell of it.

A cell that no taker holds proves that something is left, so a few cells are tried first. Only for boxes of which all of
those are taken the takers are listed, and only where neither one of them nor a chain takes all, boxes are subtracted.
"""

from __future__ import annotations

import msgspec
import numpy as np

from agile_lattice.packets.boxes import Box, Undecided, remainder
from agile_lattice.packets.columns import Boxes, Truth, Whole
from agile_lattice.packets.cover import Pairs, cells, chained, containing, joined
from agile_lattice.packets.overlaps import Work, overlaps

SEEDS = 3
MOST_PARTS = 20_000  # boxes that the subtraction for one target may look at


class Left(msgspec.Struct, frozen=True):
    """What is left of some boxes.

    Attributes:
        cells: For each target a cell that is left, shape (dimensions, targets); where none is, it means nothing.
        some: Whether something is left.
        unknown: Whether that was not decided.
        pairs: Targets of which nothing is left, and takers that together take all: positions, one pair each.
    """

    cells: Whole
    some: Truth
    unknown: Truth
    pairs: Pairs


def left_of(targets: Boxes, takers: Boxes, sides: int, liked: list[list[int]], work: Work) -> Left:
    """Find out what takers leave of targets.

    Args:
        targets: Boxes.
        takers: Others.
        sides: How many of the last dimensions say which takers count for which target: those that overlap in them.
        liked: For each of the other dimensions cells that are tried first, the best first.
        work: What may be done.

    Raises:
        Undecided: If it is more than that.
    """
    dimensions = len(targets.low) - sides
    found = targets.low[:dimensions].copy()
    pairs = overlaps(cells(targets, found), takers, work)
    whole = containing(targets, takers, sides, pairs)
    some = np.ones(len(targets), bool)
    some[pairs[0]] = False
    for at, tried in enumerate(_trials(targets, dimensions, liked)):
        # An ordinary cell is liked better than the corner, so the first trial is for all, if any are liked.
        waiting = ~some if at or not liked else np.ones(len(targets), bool)
        waiting[whole[0]] = False
        open_ = np.flatnonzero(waiting)
        held, _ = overlaps(cells(targets.take(open_), tried[:, open_]), takers, work)
        waiting[open_[held]] = False
        free = np.flatnonzero(waiting)
        some[free] = True
        found[:, free] = tried[:, free]
    return _settled(targets, takers, sides, Left(found, some, np.zeros(len(targets), bool), whole), work)


def _trials(targets: Boxes, dimensions: int, liked: list[list[int]]) -> list[Whole]:
    """Return cells to try, a column for each target: ordinary ones, the corner opposite the first, chance."""
    low, high = targets.low[:dimensions], targets.high[:dimensions]
    ordinary = low.copy()
    for at, best in enumerate(liked):
        for cell in reversed(best):
            ordinary[at][(low[at] <= cell) & (cell < high[at])] = cell
    chance = np.random.default_rng(1)
    return [ordinary, high - 1, *(chance.integers(low, high) for _ in range(SEEDS))]


def _settled(targets: Boxes, takers: Boxes, sides: int, so_far: Left, work: Work) -> Left:
    """Decide the targets of which every tried cell was taken, and that no single taker contains."""
    open_ = ~so_far.some
    open_[so_far.pairs[0]] = False
    rest = np.flatnonzero(open_)
    closed, links = chained(targets.take(rest), takers, sides, work)
    found = [so_far.pairs, (rest[links[0]], links[1])]
    for at in rest[~closed]:
        here = targets.take(at[None])
        try:
            near = overlaps(here, takers, work)[1]
            boxes = [_box(takers, each, sides) for each in near]
            left = remainder([_box(here, 0, sides)], boxes, MOST_PARTS)
        except Undecided:
            so_far.unknown[at] = True
            continue
        if left:
            so_far.some[at] = True
            so_far.cells[:, at] = [spans[0][0] for spans in left[0]]
        else:
            found.append((np.full(len(near), at), near))
    return Left(so_far.cells, so_far.some, so_far.unknown, joined(found))


def _box(boxes: Boxes, at: int, sides: int) -> Box:
    columns = zip(boxes.low[: len(boxes.low) - sides, at].tolist(), boxes.high[:, at].tolist(), strict=False)
    return tuple(((low, high - 1),) for low, high in columns)
