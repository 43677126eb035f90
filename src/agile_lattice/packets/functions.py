"""Exact comparison of two first-match lists: where they do something else with a packet, as boxes.

A packet that only matches entries which both lists have, in the same order, is treated alike: in both its first match
is the same entry. So only the boxes of the other entries have to be looked into, and there the winners of both lists
are worked out by taking boxes away. Work is counted; past the limit the answer is `Undecided`.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Hashable, Iterator, Sequence

import msgspec

from agile_lattice.packets.boxes import WORK_LIMIT, Box, Undecided, difference, overlap, remainder
from agile_lattice.packets.order import longest_rise

Action = tuple[Hashable, ...]


class Entry(msgspec.Struct, frozen=True):
    """An entry of a first-match list.

    Attributes:
        box: What it matches.
        action: What it does: two actions are the same function exactly if they are equal.
    """

    box: Box
    action: Action


class Region(msgspec.Struct, frozen=True):
    """Packets that two lists treat differently.

    Attributes:
        box: The packets.
        left, right: Positions of the entries that decide in each list.
    """

    box: Box
    left: int
    right: int


def differing(left: Sequence[Entry], right: Sequence[Entry], limit: int = WORK_LIMIT) -> list[Region]:
    """Find the packets that two lists treat differently: disjoint boxes, all of them.

    Args:
        left: The one list; its last entry matches every packet.
        right: The other, likewise.
        limit: The greatest number of boxes to look at.

    Raises:
        Undecided: If that is not enough.
    """
    work = _Work(limit)
    found: list[Region] = []
    suspects: list[Box] = []
    for each in _unpaired(left, right):
        work.spend(len(suspects) + 1)
        for box in remainder([each.box], suspects, limit):
            for mine, taken in _winners(left, box, work):
                for its, region in _winners(right, taken, work):
                    if left[mine].action != right[its].action:
                        found.append(Region(region, mine, its))
        suspects.append(each.box)
    return found


class _Work:
    def __init__(self, limit: int) -> None:
        self.limit = self.left = limit

    def spend(self, boxes: int) -> None:
        self.left -= boxes
        if self.left < 0:
            raise Undecided(self.limit)


def _winners(entries: Sequence[Entry], box: Box, work: _Work) -> Iterator[tuple[int, Box]]:
    """Yield the parts of a box with the position of the entry that decides there."""
    rest = [box]
    for position, entry in enumerate(entries):
        if not rest:
            return
        kept: list[Box] = []
        for part in rest:
            common = overlap(part, entry.box)
            if common is None:
                kept.append(part)
                continue
            yield position, common
            left = difference(part, entry.box)
            work.spend(1 + len(left))
            kept += left
        rest = kept


def _unpaired(left: Sequence[Entry], right: Sequence[Entry]) -> list[Entry]:
    """Return the entries of both lists that are not in the longest run that both have in the same order."""
    waiting: dict[Entry, deque[int]] = defaultdict(deque)
    for position, entry in enumerate(right):
        waiting[entry].append(position)
    pairs = [(mine, waiting[entry].popleft()) for mine, entry in enumerate(left) if waiting.get(entry)]
    run = longest_rise([its for _, its in pairs])
    kept_left = {pairs[index][0] for index in run}
    kept_right = {pairs[index][1] for index in run}
    return [each for at, each in enumerate(left) if at not in kept_left] + [
        each for at, each in enumerate(right) if at not in kept_right
    ]
