"""Marks of packets and connections: all values that they can get are known beforehand, so that a mark is one of few."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from agile_lattice.packets.spans import Spans, meet, merged

MOST_MARKS = 256
ALL_BITS = (1 << 32) - 1


class Marking(msgspec.Struct, frozen=True):
    """What a mark becomes: some bits of it are kept, some are added, some turned round.

    Attributes:
        keeps, adds, flips: These bits.
    """

    keeps: int = 0
    adds: int = 0
    flips: int = 0

    def of(self, mark: int) -> int:
        """Return what becomes of a mark."""
        return ((mark & self.keeps) | self.adds) ^ self.flips


class Joining(msgspec.Struct, frozen=True):
    """What a mark becomes that takes bits of another one in: those of a packet and of its connection.

    Attributes:
        clears: The bits that do not stay.
        takes: The bits of the other mark that come in, where they are turned round if they stayed.
    """

    clears: int
    takes: int

    def of(self, mark: int, other: int) -> int:
        """Return what becomes of a mark."""
        return (mark & ~self.clears) ^ (other & self.takes)


def reached(markings: Iterable[Marking], joinings: Iterable[Joining] = ()) -> tuple[int, ...] | None:
    """Return all marks that packets can get, which come in without one; None if they are too many.

    Args:
        markings: All that are applied anywhere, in any order.
        joinings: All that take bits of another mark in.
    """
    every, both, found, new = set(markings), set(joinings), {0}, [0]
    while new:
        met = {each.of(mark) for mark in new for each in every}
        met |= {
            made
            for one in new
            for other in found
            for each in both
            for made in (each.of(one, other), each.of(other, one))
        }
        new = [*met - found]
        found.update(new)
        if len(found) > MOST_MARKS:
            return None
    return tuple(sorted(found))


def numbers_of(marks: Sequence[int], wanted: Spans, mask: int) -> Spans:
    """Return by their numbers the marks of which some bits are as wanted."""
    fits = (number for number, mark in enumerate(marks) if meet(((mark & mask,) * 2,), wanted))
    return merged((number, number) for number in fits)


def table_of(marks: Sequence[int], becomes: Callable[[int], int]) -> tuple[int, ...]:
    """Return what becomes of each mark, all by their numbers."""
    number = {mark: at for at, mark in enumerate(marks)}
    return tuple(number[becomes(mark)] for mark in marks)
