"""Marks of packets and connections: all values that they can get are known beforehand, so that a mark is one of few."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

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


def reached(markings: Iterable[Marking]) -> tuple[int, ...] | None:
    """Return all marks that packets can get, which come in without one; None if they are too many.

    Args:
        markings: All that are applied anywhere, in any order.
    """
    every, found, new = set(markings), {0}, [0]
    while new:
        new = [*{each.of(mark) for mark in new for each in every} - found]
        found.update(new)
        if len(found) > MOST_MARKS:
            return None
    return tuple(sorted(found))


def numbers_of(marks: Sequence[int], wanted: Spans, mask: int) -> Spans:
    """Return by their numbers the marks of which some bits are as wanted."""
    fits = (number for number, mark in enumerate(marks) if meet(((mark & mask,) * 2,), wanted))
    return merged((number, number) for number in fits)


def table_of(marks: Sequence[int], marking: Marking) -> tuple[int, ...]:
    """Return what becomes of each mark, all by their numbers."""
    number = {mark: at for at, mark in enumerate(marks)}
    return tuple(number[marking.of(mark)] for mark in marks)
