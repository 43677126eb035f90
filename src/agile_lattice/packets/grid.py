"""The cells that the ends of boxes cut each dimension into.

Every packet of a cell is in the same boxes. Numbers of 128 bits and of 8 alike become positions of cells, and nothing
about the boxes is lost.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from itertools import chain

import numpy as np

from agile_lattice.packets.boxes import Box
from agile_lattice.packets.columns import CELL, Boxes, Whole
from agile_lattice.packets.spans import Span


class Grid:
    """The cells of every dimension.

    Args:
        rows: Boxes, of one span in each dimension.

    Attributes:
        boxes: The boxes, in cells.
    """

    def __init__(self, rows: Sequence[tuple[Span, ...]]) -> None:
        try:
            flat = np.fromiter(chain.from_iterable(chain.from_iterable(rows)), np.int64)
            if flat.max() == np.iinfo(np.int64).max:  # what comes after it would not fit
                raise OverflowError
            ends = flat.reshape(len(rows), -1, 2)
        except OverflowError:  # some are wider than NumPy's numbers
            self._cuts, columns = _ranked(rows)
        else:
            ends[:, :, 1] += 1
            unique = [np.unique(ends[:, at], return_inverse=True) for at in range(ends.shape[1])]
            self._cuts = [cuts.tolist() for cuts, _ in unique]
            columns = [cells.reshape(-1, 2) for _, cells in unique]
        table = np.array(columns, CELL)
        self.boxes = Boxes(table[:, :, 0].copy(), table[:, :, 1].copy())

    def numbers(self, boxes: Boxes) -> list[Box]:
        """Return boxes of cells as boxes of numbers."""
        columns = []
        for cuts, low, high in zip(self._cuts, boxes.low.tolist(), boxes.high.tolist(), strict=True):
            columns.append([((cuts[first], cuts[end] - 1),) for first, end in zip(low, high, strict=True)])
        return list(zip(*columns, strict=True))

    def cells(self, numbers: Sequence[Sequence[int]]) -> list[list[int]]:
        """Return the cells of some numbers in each dimension; -1 for one before the first box."""
        return [[bisect_right(cuts, each) - 1 for each in some] for cuts, some in zip(self._cuts, numbers, strict=True)]


def _ranked(rows: Sequence[tuple[Span, ...]]) -> tuple[list[list[int]], list[Whole]]:
    """Return the cuts of each dimension, and each span as cells: first, and after the last."""
    all_cuts: list[list[int]] = []
    columns: list[Whole] = []
    for spans in zip(*rows, strict=True):
        cuts = sorted({end for first, last in spans for end in (first, last + 1)})
        at = {end: number for number, end in enumerate(cuts)}
        all_cuts.append(cuts)
        columns.append(np.array([(at[first], at[last + 1]) for first, last in spans], CELL))
    return all_cuts, columns
