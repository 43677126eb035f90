"""What earlier entries of a first-match list take from later ones. Exact."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from itertools import product

import msgspec
import numpy as np

from agile_lattice.packets.boxes import Box
from agile_lattice.packets.columns import Boxes, Truth, Whole
from agile_lattice.packets.cover import cells
from agile_lattice.packets.functions import PAIRS_LIMIT
from agile_lattice.packets.grid import Grid
from agile_lattice.packets.overlaps import Work, overlaps
from agile_lattice.packets.remainders import left_of
from agile_lattice.packets.spans import Span


class Shadow(msgspec.Struct, frozen=True, gc=False):
    """What earlier entries leave of one.

    Attributes:
        takers: Positions of earlier entries that together take all of it; empty if something is left.
        some: A box with some packets that are left; `None` if none is, or that was not asked for.
        unknown: Whether that was not decided.
    """

    takers: tuple[int, ...] = ()
    some: Box | None = None
    unknown: bool = False


def shadows(
    boxes: Sequence[Box], liked: Sequence[Sequence[int]] | None = None, limit: int = PAIRS_LIMIT
) -> list[Shadow]:
    """Find out what earlier boxes leave of each.

    Args:
        boxes: What the entries of a list match, in its order.
        liked: For each dimension numbers that an ordinary packet has, the best first; `None` if what is left need not
            be shown.
        limit: The greatest number of pairs of boxes to look at.

    Raises:
        Undecided: If that is not enough.
    """
    pieces = _Pieces(boxes)
    if not len(pieces.owner):
        return [Shadow() for _ in boxes]
    targets, takers = pieces.boxes.beside(*pieces.before), pieces.boxes.beside(*pieces.at)
    result = left_of(targets, takers, 1, pieces.grid.cells(liked) if liked else [], Work(limit))
    by: dict[int, set[int]] = defaultdict(set)
    for target, taker in zip(*(each.tolist() for each in result.pairs), strict=True):
        by[int(pieces.owner[target])].add(int(pieces.owner[taker]))
    found = [Shadow(tuple(sorted(by[at]))) for at in range(len(boxes))]
    for at in np.flatnonzero(result.unknown):
        found[pieces.owner[at]] = Shadow(unknown=True)
    if liked is not None:
        some = np.flatnonzero(result.some)
        left = pieces.grid.numbers(Boxes(result.cells[:, some], result.cells[:, some] + 1))
        for at, box in zip(pieces.owner[some[::-1]].tolist(), reversed(left), strict=True):
            found[at] = Shadow(some=box)
    return found


def crossings(
    boxes: Sequence[Box], fields: Sequence[Sequence[int]], widths: Sequence[int], limit: int = PAIRS_LIMIT
) -> list[tuple[int, int]]:
    """Find entries of which an earlier one covers all but one field, and that reaches beyond them.

    Pairs that cross in more fields are not looked for: of ten thousand rules over a general one there are millions.

    Args:
        boxes: What the entries of a list match, in its order.
        fields: Dimensions that are one field to a reader.
        widths: Dimensions in which the earlier one must reach beyond the later: in one of them, at least.
        limit: The greatest number of pairs of boxes to look at.

    Returns:
        Positions of later and earlier entries, ascending.

    Raises:
        Undecided: If that is not enough.
    """
    pieces = _Pieces(boxes)
    if not len(pieces.owner):
        return []
    work, found = Work(limit), set[tuple[int, int]]()
    earlier = pieces.boxes.beside(*pieces.at)
    for field in fields:
        later = cells(pieces.boxes, pieces.boxes.low, field)
        target, taker = overlaps(later.beside(*pieces.before), earlier, work)
        crossed = _cross(pieces.boxes, target, taker, field, widths)
        late, early = pieces.owner[target[crossed]], pieces.owner[taker[crossed]]
        found.update(zip(late.tolist(), early.tolist(), strict=True))
    return sorted(found)


def meetings(boxes: Sequence[Box], limit: int = PAIRS_LIMIT) -> list[tuple[int, int]]:
    """Find entries that have something in common with an earlier one.

    Args:
        boxes: What the entries of a list match, in its order.
        limit: The greatest number of pairs of boxes to look at.

    Returns:
        Positions of later and earlier entries, ascending.

    Raises:
        Undecided: If that is not enough.
    """
    pieces = _Pieces(boxes)
    if not len(pieces.owner):
        return []
    later, earlier = pieces.boxes.beside(*pieces.before), pieces.boxes.beside(*pieces.at)
    target, taker = overlaps(later, earlier, Work(limit))
    return sorted({*zip(pieces.owner[target].tolist(), pieces.owner[taker].tolist(), strict=True)})


def _cross(boxes: Boxes, target: Whole, taker: Whole, field: Sequence[int], widths: Sequence[int]) -> Truth:
    """Tell which takers cover all of a target but in one field, and reach beyond it."""
    covers, short, beyond = np.ones(len(target), bool), np.zeros(len(target), bool), np.zeros(len(target), bool)
    for at, (low, high) in enumerate(zip(boxes.low, boxes.high, strict=True)):
        holds = (low[taker] <= low[target]) & (high[taker] >= high[target])
        meets = (low[taker] < high[target]) & (high[taker] > low[target])
        if at in field:
            short |= ~holds
            covers &= meets
        else:
            covers &= holds
        if at in widths:
            beyond |= (low[taker] < low[target]) | (high[taker] > high[target])
    return covers & short & beyond


class _Pieces:
    """Boxes cut into those of one span in each dimension.

    Attributes:
        owner: Which box each is a piece of.
        at, before: The side that says where it stands, and the one of all that stand before it; counted from 1.
    """

    def __init__(self, boxes: Sequence[Box]) -> None:
        rows: list[tuple[Span, ...]] = []
        owners: list[int] = []
        for at, box in enumerate(boxes):
            some = list(product(*box))
            rows += some
            owners += [at] * len(some)
        self.owner = np.array(owners, np.int64)
        self.at = self.owner + 1, self.owner + 2
        self.before = np.zeros_like(self.owner), self.owner + 1
        if rows:
            self.grid = Grid(rows)
            self.boxes = self.grid.boxes
