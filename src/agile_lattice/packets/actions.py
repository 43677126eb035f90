"""What an entry of a list does to a packet, as a function that can be compared.

Two rules can be written differently and do the same to some packets: "the address becomes 192.0.2.5" and "the address
goes up by 4" agree on 192.0.2.1, and "stays as it is" agrees with the first on 192.0.2.5 itself. `canonical` cuts boxes
at such points, so that afterwards two actions do the same to a packet exactly if they are equal.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Hashable, Iterable, Iterator, Sequence

import msgspec

from agile_lattice.packets.spans import Span, Spans


class Action(msgspec.Struct, frozen=True, gc=False):
    """A function from packets to packets.

    Attributes:
        verdict: What becomes of the packet besides its numbers; two actions with unequal ones never do the same.
        sets: Dimensions that become a number, `(dimension, number)`, in order.
        shifts: Dimensions that go up or down by an offset, not 0, likewise; all others stay as they are.
    """

    verdict: Hashable
    sets: tuple[tuple[int, int], ...] = ()
    shifts: tuple[tuple[int, int], ...] = ()

    def applied(self, point: Sequence[int]) -> tuple[object, ...]:
        """Return what becomes of a packet: the verdict and its numbers."""
        numbers = list(point)
        for dimension, number in self.sets:
            numbers[dimension] = number
        for dimension, offset in self.shifts:
            numbers[dimension] += offset
        return (self.verdict, *numbers)


def same_on(one: Action, other: Action, box: Sequence[Spans]) -> bool:
    """Tell whether two actions do the same to every packet of a box."""
    if one.verdict != other.verdict:
        return False
    both = [(dict(each.sets), dict(each.shifts)) for each in (one, other)]
    for dimension in {dimension for sets, shifts in both for dimension in (*sets, *shifts)}:
        numbers = {sets[dimension] for sets, _ in both if dimension in sets}
        offsets_ = {shifts.get(dimension, 0) for sets, shifts in both if dimension not in sets}
        if len(numbers) > 1 or len(offsets_) > 1:
            return False
        if numbers and offsets_:  # the same where moving gives just that number
            point = numbers.pop() - offsets_.pop()
            if box[dimension] != ((point, point),):
                return False
    return True


class Piece(msgspec.Struct, frozen=True, gc=False):
    """A box of one span in each dimension, and what is done to its packets.

    Attributes:
        spans: The box.
        action: What is done.
        owner: Position of the entry that it is a piece of.
    """

    spans: tuple[Span, ...]
    action: Action
    owner: int


Offsets = dict[tuple[Hashable, int], list[int]]


def offsets(actions: Iterable[Action]) -> Offsets:
    """Return the offsets by which each dimension is moved, ascending, for every verdict; staying is an offset of 0."""
    distinct = set(actions)
    constant: dict[Hashable, set[int]] = defaultdict(set)
    for each in distinct:
        constant[each.verdict].update(dimension for dimension, _ in each.sets)
    found: dict[tuple[Hashable, int], set[int]] = defaultdict(set)
    for each in distinct:
        moved, fixed = dict(each.shifts), dict(each.sets)
        for dimension in constant[each.verdict]:
            if dimension not in fixed:
                found[each.verdict, dimension].add(moved.get(dimension, 0))
    return {key: sorted(members) for key, members in found.items()}


def canonical(piece: Piece, known: Offsets) -> Iterator[Piece]:
    """Cut a piece where its constants do the same as one of the known offsets; there, they are written as offsets."""
    for dimension, number in piece.action.sets:
        moves = known.get((piece.action.verdict, dimension), [])
        low, high = piece.spans[dimension]
        start, stop = bisect_left(moves, number - high), bisect_right(moves, number - low)
        if start == stop:
            continue
        sets = tuple(each for each in piece.action.sets if each[0] != dimension)
        for offset in reversed(moves[start:stop]):  # the points number - offset, ascending
            point = number - offset
            if low < point:
                yield from canonical(_within(piece, dimension, (low, point - 1), piece.action), known)
            shifts = (*piece.action.shifts, (dimension, offset)) if offset else piece.action.shifts
            same = Action(piece.action.verdict, sets, tuple(sorted(shifts)))
            yield from canonical(_within(piece, dimension, (point, point), same), known)
            low = point + 1
        if low <= high:
            yield from canonical(_within(piece, dimension, (low, high), piece.action), known)
        return
    yield piece


def _within(piece: Piece, dimension: int, span: Span, action: Action) -> Piece:
    spans = (*piece.spans[:dimension], span, *piece.spans[dimension + 1 :])
    return Piece(spans, action, piece.owner)
