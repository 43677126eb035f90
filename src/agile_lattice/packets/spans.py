"""Sets of whole numbers as sorted, disjoint, non-touching spans.

Addresses and ports are compared as sets: `80, 81` and `80-81` are one value.
A set is a plain tuple of `(first, last)` pairs, both ends included, so it is
hashable, orders naturally and costs nothing to pass around.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from itertools import accumulate
from typing import Generic, TypeVar

Span = tuple[int, int]
Spans = tuple[Span, ...]
T = TypeVar("T")
FEW = 8  # times as few spans are looked up one by one


def merged(spans: Iterable[Span]) -> Spans:
    """Return the canonical form of any spans: sorted, overlapping and touching ones fused."""
    result: list[Span] = []
    for first, last in sorted(spans):
        if result and first <= result[-1][1] + 1:
            if last > result[-1][1]:
                result[-1] = (result[-1][0], last)
        else:
            result.append((first, last))
    return tuple(result)


def meet(left: Spans, right: Spans) -> Spans:
    """Return the numbers that are in both sets."""
    if len(left) == 1 == len(right):  # by far the most common case
        (first, last), (other_first, other_last) = left[0], right[0]
        first, last = max(first, other_first), min(last, other_last)
        return ((first, last),) if first <= last else ()
    if not left or not right:
        return ()
    if len(left) < len(right):
        left, right = right, left
    if len(right) == 1:
        return _cut(left, *right[0])
    if left == right:
        return left
    if len(right) * FEW < len(left):
        return tuple(span for first, last in right for span in _cut(left, first, last))
    result: list[Span] = []
    i = j = 0
    while i < len(left) and j < len(right):
        first, last = max(left[i][0], right[j][0]), min(left[i][1], right[j][1])
        if first <= last:
            result.append((first, last))
        if left[i][1] < right[j][1]:
            i += 1
        else:
            j += 1
    return tuple(result)


def _cut(spans: Spans, first: int, last: int) -> Spans:
    """Return the numbers of a set that is not empty which are between two, both included."""
    if first <= spans[0][0] and spans[-1][1] <= last:
        return spans
    begin, end = _from(spans, first), bisect_right(spans, (last, last))
    end += end < len(spans) and spans[end][0] <= last
    inside = spans[begin:end]
    if not inside:
        return ()
    ends = [(max(inside[0][0], first), inside[0][1]), *inside[1:]]
    ends[-1] = (ends[-1][0], min(ends[-1][1], last))
    return tuple(ends)


def _from(spans: Spans, first: int) -> int:
    """Return the position of the first span that ends at a number or behind it."""
    at = bisect_right(spans, (first,))
    return at - 1 if at and spans[at - 1][1] >= first else at


def minus(left: Spans, right: Spans) -> Spans:
    """Return the numbers of `left` that are not in `right`."""
    if not left or not right:
        return left
    if len(right) * FEW < len(left):
        begins = left[0][0], *(last + 1 for _, last in right)
        ends = *(first - 1 for first, _ in right), left[-1][1]
        gaps = [each for each in zip(begins, ends, strict=True) if each[0] <= each[1]]
        return tuple(span for first, last in gaps for span in _cut(left, first, last))
    result: list[Span] = []
    at = _from(right, left[0][0])  # what ends before one span begins is behind all later ones, too
    for first, last in left:
        while at < len(right) and right[at][1] < first:
            at += 1
        for number in range(at, len(right)):
            cut_first, cut_last = right[number]
            if cut_first > last:
                break
            if cut_first > first:
                result.append((first, cut_first - 1))
            first = cut_last + 1
        if first <= last:
            result.append((first, last))
    return tuple(result)


def covers(outer: Spans, inner: Spans) -> bool:
    """Tell whether every number of `inner` is in `outer`."""
    return not minus(inner, outer)


def size(spans: Spans) -> int:
    """Count the numbers in the set."""
    return sum(last - first + 1 for first, last in spans)


def aligned_blocks(spans: Spans, width: int) -> Iterator[tuple[int, int]]:
    """Cut spans into the fewest power-of-two blocks, each at a multiple of its size.

    Args:
        spans: A canonical set.
        width: Bits of an address: 32 or 128.

    Yields:
        `(first, prefix length in bits)`, in ascending order (RFC 4632).
    """
    for first, last in spans:
        while first <= last:
            alignment = (first & -first).bit_length() - 1 if first else width
            bits = min(alignment, (last - first + 1).bit_length() - 1)
            yield first, width - bits
            first += 1 << bits


class Marked(Generic[T]):
    """Spans that each mean something, and are found by the numbers in them; they may overlap.

    Args:
        marks: Each with what it means.
    """

    def __init__(self, marks: Iterable[tuple[Span, T]]) -> None:
        self._marks = sorted(enumerate(marks), key=lambda each: each[1][0][0])
        self._firsts = [first for _, ((first, _), _) in self._marks]
        self._reach = [*accumulate((last for _, ((_, last), _) in self._marks), max)]  # of each and of all before it

    def meeting(self, span: Span) -> list[T]:
        """Return what the spans mean that have a number in common with one, in the order in which they were given."""
        found: list[tuple[int, T]] = []
        at = bisect_right(self._firsts, span[1]) - 1
        while at >= 0 and self._reach[at] >= span[0]:
            number, ((_, last), what) = self._marks[at]
            if last >= span[0]:
                found.append((number, what))
            at -= 1
        return [what for _, what in sorted(found, key=lambda each: each[0])]
