"""Numbers that no set tells apart, taken together as one.

Rules of the field use a few large sets many times. Cut at the ends of all spans, two sets of 10,000 addresses make a
hundred million boxes; but all that matters of a number is in which of the sets it is. Numbers of which that is the same
are a class. The classes are numbered so that the largest sets, and what lies in them, are each a single span.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence, Set

from agile_lattice.packets.boxes import Box, count
from agile_lattice.packets.spans import Spans, merged, size


class Dimension:
    """The classes of one dimension.

    Args:
        sets: All sets of numbers that boxes have in it.
    """

    def __init__(self, sets: Iterable[Spans]) -> None:
        distinct = sorted(set(sets), key=size)  # the largest is told by the highest bit
        ends: dict[int, int] = {}
        for bit, spans in enumerate(distinct):
            for first, last in spans:
                ends[first] = ends.get(first, 0) ^ 1 << bit
                ends[last + 1] = ends.get(last + 1, 0) ^ 1 << bit
        self._cuts = sorted(ends)
        holds, masks = 0, list[int]()
        for cut in self._cuts:
            holds ^= ends[cut]
            masks.append(holds)
        self._classes = {mask: number for number, mask in enumerate(sorted(set(masks), reverse=True))}
        self._at = [self._classes[mask] for mask in masks]
        members: list[list[tuple[int, int]]] = [[] for _ in self._classes]
        for number, first, after in zip(self._at, self._cuts, self._cuts[1:], strict=False):
            members[number].append((first, after - 1))
        self._members = members
        runs: list[list[tuple[int, int]]] = [[] for _ in distinct]
        for mask, number in self._classes.items():
            while mask:
                bit = mask.bit_length() - 1
                runs[bit].append((number, number))
                mask ^= 1 << bit
        self._runs = {spans: merged(run) for spans, run in zip(distinct, runs, strict=True)}
        self._known: dict[Spans, Spans] = {}

    def of(self, spans: Spans) -> Spans:
        """Return the classes that one of the sets is made of."""
        return self._runs[spans]

    def numbers(self, classes: Spans) -> Spans:
        """Return the numbers of some classes."""
        if classes not in self._known:
            every = (
                each for first, last in classes for number in range(first, last + 1) for each in self._members[number]
            )
            self._known[classes] = merged(every)
        return self._known[classes]

    def holding(self, number: int) -> int:
        """Return the class of a number; -1 if it is in no set."""
        at = bisect_right(self._cuts, number) - 1
        return self._at[at] if at >= 0 else -1


class Classes:
    """The classes of all dimensions but some, in which numbers stay what they are.

    Args:
        boxes: All boxes that are compared.
        apart: Dimensions that stay.
    """

    def __init__(self, boxes: Sequence[Box], apart: Set[int]) -> None:
        columns = list(zip(*boxes, strict=True))
        self._dimensions = [None if at in apart else Dimension(column) for at, column in enumerate(columns)]

    def box(self, box: Box) -> Box:
        """Return a box of classes for one of the boxes."""
        return tuple(
            spans if each is None else each.of(spans) for each, spans in zip(self._dimensions, box, strict=True)
        )

    def numbers(self, box: Box) -> Box:
        """Return a box of numbers for one of classes."""
        return tuple(
            spans if each is None else each.numbers(spans) for each, spans in zip(self._dimensions, box, strict=True)
        )

    def liked(self, numbers: Sequence[Sequence[int]]) -> list[list[int]]:
        """Return the classes of some numbers in each dimension."""
        return [
            list(some) if each is None else list(dict.fromkeys(map(each.holding, some)))
            for each, some in zip(self._dimensions, numbers, strict=True)
        ]


def worth_it(boxes: Sequence[Box], few: int = 4) -> bool:
    """Tell whether boxes have so many spans that classes are to be looked for: more than `few` for each box."""
    return count(boxes, len) > few * len(boxes)
