"""Exact sets of points in several dimensions: unions of boxes.

A box has one canonical set of numbers (`spans`) for each dimension and holds every
combination of them. What the dimensions are is the caller's: interfaces, addresses,
protocols and ports are numbers alike. A union is a list of disjoint boxes.

Taking a box away from another leaves at most one box for each dimension, so a chain of
differences can grow; work is counted, and past a limit the answer is `Undecided`, never
a guess.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from math import prod

from agile_lattice.errors import LatticeError
from agile_lattice.packets.spans import Spans, meet, merged, minus, size

Box = tuple[Spans, ...]
WORK_LIMIT = 200_000


class Undecided(LatticeError):
    """Working it out exactly would take more boxes than the limit allows.

    Attributes:
        limit: The number of boxes at which it stopped.
    """

    def __init__(self, limit: int) -> None:
        self.limit = limit
        super().__init__(f"not decided: more than {limit} boxes would be needed")


def overlap(left: Box, right: Box) -> Box | None:
    """Return the box that two have in common, or None."""
    for one, other in zip(left, right, strict=True):
        if not one or not other or one[0][0] > other[-1][1] or other[0][0] > one[-1][1]:
            return None  # most pairs are told apart by their bounds, in some dimension
    both = []
    for one, other in zip(left, right, strict=True):
        common = one if one is other else meet(one, other)
        if not common:
            return None
        both.append(common)
    return tuple(both)


def difference(left: Box, right: Box) -> list[Box]:
    """Return `left` without `right`, as disjoint boxes: at most one for each dimension."""
    common = overlap(left, right)
    if common is None:
        return [left]
    rest: list[Box] = []
    for index, (whole, taken) in enumerate(zip(left, common, strict=True)):
        outside = () if whole is taken else minus(whole, taken)
        if outside:
            rest.append((*common[:index], outside, *left[index + 1 :]))
    return rest


def remainder(boxes: Iterable[Box], takers: Iterable[Box], limit: int = WORK_LIMIT) -> list[Box]:
    """Return what is left of some boxes when others have taken theirs.

    Args:
        boxes: Disjoint boxes.
        takers: Boxes to take away; they may overlap.
        limit: The greatest number of boxes to look at.

    Raises:
        Undecided: If that is not enough.
    """
    left = list(boxes)
    work = 0
    for taker in takers:
        work += len(left)
        if work > limit:
            raise Undecided(limit)
        left = [rest for box in left for rest in difference(box, taker)]
        if not left:
            break
    return left


def fused(boxes: Sequence[Box]) -> list[Box]:
    """Return disjoint boxes as fewer ones: those that differ in one dimension only are one."""
    found = list(dict.fromkeys(boxes))
    while found:
        before = len(found)
        for dimension in range(len(found[0])):
            alike: dict[Box, list[Box]] = {}
            for box in found:
                alike.setdefault((*box[:dimension], *box[dimension + 1 :]), []).append(box)
            found = [
                (*rest[:dimension], merged(span for box in members for span in box[dimension]), *rest[dimension:])
                for rest, members in alike.items()
            ]
        if len(found) == before:
            break
    return found


def count(boxes: Iterable[Box], of: Callable[[Spans], int] = size) -> int:
    """Count the points of disjoint boxes; with `len`, the boxes of one span in each dimension that they are made of."""
    return sum(prod(map(of, box)) for box in boxes)


def some_point(box: Box, liked: Sequence[Sequence[int]]) -> tuple[int, ...]:
    """Return one point of a box.

    Args:
        box: Not empty.
        liked: For each dimension numbers that are taken if they are in it, the best first;
            otherwise the lowest number of it is taken.
    """
    return tuple(
        next((number for number in best if meet(spans, ((number, number),))), spans[0][0])
        for spans, best in zip(box, liked, strict=True)
    )
