"""Boxes as columns of small whole numbers, so that NumPy can look at thousands of them at once."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Whole = NDArray[np.integer[Any]]
Truth = NDArray[np.bool_]
CELL = np.int32  # of a cell: half the memory, and lists never have that many
WIDE = 8  # a box is wide in a dimension if it holds at least the WIDE-th part of its cells
FEW = 20  # boxes that are not parted
MOST_PARTS = 24
SINGLE, NARROW, BROAD = 0, 1, 2


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
        return Boxes(np.vstack([self.low, low.astype(CELL)]), np.vstack([self.high, high.astype(CELL)]))

    def common(self, other: Boxes) -> Boxes:
        """Return what each box has in common with the other of the same position."""
        return Boxes(np.maximum(self.low, other.low), np.minimum(self.high, other.high))

    def with_more(self, other: Boxes) -> Boxes:
        """Return these boxes and others."""
        return Boxes(np.hstack([self.low, other.low]), np.hstack([self.high, other.high]))

    @cached_property
    def parts(self) -> list[Part]:
        """The boxes parted by shape; all of them in one part if they are few."""
        if len(self) <= FEW:
            return [Part(self, np.arange(len(self)), np.full(len(self.low), BROAD))]
        width, tops = self.high - self.low, self.high.max(axis=1)
        broad = width >= -(-tops // WIDE)[:, None]
        shapes = np.where(width == 1, SINGLE, np.where(broad, BROAD, NARROW)).astype(np.int8)
        code = 3 ** np.arange(len(tops)) @ shapes
        codes, place, count = np.unique(code, return_inverse=True, return_counts=True)
        if len(codes) > MOST_PARTS:  # the rare shapes together
            rank = np.argsort(np.argsort(-count, kind="stable"), kind="stable")
            place = np.minimum(rank, MOST_PARTS - 1)[place]
        order = np.argsort(place, kind="stable")
        members = np.split(order, np.flatnonzero(np.diff(place[order])) + 1)
        return [Part(self, which, shapes[:, which].max(axis=1)) for which in members]


class Part:
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
    def span(self) -> tuple[Whole, Whole]:
        """The cells in which the boxes lie, in each dimension: from, and before."""
        return self.boxes.low.min(axis=1), self.boxes.high.max(axis=1)

    @cached_property
    def core(self) -> tuple[Whole, Whole]:
        """The cells that every box holds, likewise; none if the first is not less than the second."""
        return self.boxes.low.max(axis=1), self.boxes.high.min(axis=1)

    def lies_in(self, other: Part) -> Truth:
        """Tell in which dimensions all boxes lie in cells that every box of another part holds."""
        (first, last), (low, high) = self.span, other.core
        return (low <= first) & (last <= high)
