"""Which of many boxes another one may meet, by the first and the last number of each in every dimension."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from agile_lattice.packets.boxes import Box

TOP = 62  # bits of a number that are looked at: as many as NumPy's numbers have


class Bounds:
    """The bounds of boxes.

    Args:
        boxes: The boxes; of a dimension without any number, the box meets nothing.
    """

    def __init__(self, boxes: Sequence[Box]) -> None:
        columns = list(zip(*boxes, strict=True))
        self._shift = [
            max(max((each[-1][1] for each in one if each), default=0).bit_length() - TOP, 0) for one in columns
        ]
        bounds = [self._of(each) for each in boxes]
        self._low = np.array([low for low, _ in bounds], np.int64)
        self._high = np.array([high for _, high in bounds], np.int64)

    def meeting(self, box: Box) -> list[int]:
        """Return the positions of the boxes that may meet another one, ascending."""
        if not len(self._low):
            return []
        low, high = self._of(box)
        found: list[int] = np.flatnonzero(((self._low <= high) & (self._high >= low)).all(1)).tolist()
        return found

    def _of(self, box: Box) -> tuple[list[int], list[int]]:
        most = 1 << TOP
        low = [min(each[0][0] >> bits, most) if each else 1 for each, bits in zip(box, self._shift, strict=True)]
        return low, [min(each[-1][1] >> bits, most) if each else 0 for each, bits in zip(box, self._shift, strict=True)]
