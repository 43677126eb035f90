"""Boxes as columns of small whole numbers, so that NumPy can look at thousands of them at once.

All the ends of all boxes cut each dimension into cells; every packet of a cell is in the same boxes. Numbers of 128
bits and of 8 alike become positions of cells, and nothing about the boxes is lost.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Span

Whole = NDArray[np.int64]
Truth = NDArray[np.bool_]
WIDEST = 62  # bits; wider numbers do not fit into NumPy's


class Boxes:
    """Boxes of one span in each dimension, none empty.

    Args:
        low: First cells, shape (dimensions, boxes).
        high: Cells after the last, likewise.
    """

    def __init__(self, low: Whole, high: Whole) -> None:
        self.low, self.high = low, high

    def __len__(self) -> int:
        return int(self.low.shape[1])

    def take(self, which: Whole | Truth | slice) -> Boxes:
        """Return some of the boxes."""
        return Boxes(self.low[:, which], self.high[:, which])

    def beside(self, low: Whole, high: Whole) -> Boxes:
        """Return the boxes with one more dimension."""
        return Boxes(np.vstack([self.low, low]), np.vstack([self.high, high]))

    def common(self, other: Boxes) -> Boxes:
        """Return what each box has in common with the other of the same position."""
        return Boxes(np.maximum(self.low, other.low), np.minimum(self.high, other.high))

    def with_more(self, other: Boxes) -> Boxes:
        """Return these boxes and others."""
        return Boxes(np.hstack([self.low, other.low]), np.hstack([self.high, other.high]))


class Grid:
    """The cells of every dimension.

    Args:
        rows: Boxes, of one span in each dimension.

    Attributes:
        boxes: The boxes, in cells.
    """

    def __init__(self, rows: Sequence[tuple[Span, ...]]) -> None:
        self._cuts: list[list[int]] = []
        columns = [self._column([row[at] for row in rows]) for at in range(len(rows[0]))]
        self.boxes = Boxes(np.array([low for low, _ in columns]), np.array([high for _, high in columns]))

    def _column(self, spans: list[Span]) -> tuple[Whole, Whole]:
        ends = [first for first, _ in spans] + [last + 1 for _, last in spans]
        if max(ends).bit_length() <= WIDEST:
            cuts, cells = np.unique(np.array(ends, np.int64), return_inverse=True)
            self._cuts.append(cuts.tolist())
        else:
            wide = sorted(set(ends))
            at = {end: number for number, end in enumerate(wide)}
            cells = np.array([at[end] for end in ends], np.int64)
            self._cuts.append(wide)
        return cells[: len(spans)], cells[len(spans) :]

    def numbers(self, boxes: Boxes) -> list[Box]:
        """Return boxes of cells as boxes of numbers."""
        columns = []
        for cuts, low, high in zip(self._cuts, boxes.low.tolist(), boxes.high.tolist(), strict=True):
            columns.append([((cuts[first], cuts[end] - 1),) for first, end in zip(low, high, strict=True)])
        return list(zip(*columns, strict=True))

    def cells(self, numbers: Sequence[Sequence[int]]) -> list[list[int]]:
        """Return the cells of some numbers in each dimension; -1 for one before the first box."""
        return [[bisect_right(cuts, each) - 1 for each in some] for cuts, some in zip(self._cuts, numbers, strict=True)]
