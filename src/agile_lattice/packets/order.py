"""Order in lists."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence


def longest_run(values: Sequence[int]) -> list[int]:
    """Return the indices of a longest subsequence that never falls (patience sorting, n log n)."""
    tails: list[int] = []
    tail_indices: list[int] = []
    before: list[int] = []
    for index, value in enumerate(values):
        slot = bisect_right(tails, value)
        before.append(tail_indices[slot - 1] if slot else -1)
        if slot == len(tails):
            tails.append(value)
            tail_indices.append(index)
        else:
            tails[slot] = value
            tail_indices[slot] = index
    chain = []
    index = tail_indices[-1] if tail_indices else -1
    while index >= 0:
        chain.append(index)
        index = before[index]
    return chain[::-1]
