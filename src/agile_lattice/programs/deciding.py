"""What it hangs on how one packet fares: the unknowns that make a difference to it, and no others."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence

from agile_lattice.intent.places import Place
from agile_lattice.programs.model import Program, Unknown

MOST_TOLD = 3  # lines that ask for one condition
Case = tuple[tuple[tuple[Unknown, bool], ...], Hashable]


def hanging_on(cases: Sequence[Case]) -> tuple[Unknown, ...]:
    """Return the unknowns that make a difference to a packet, in the order in which it meets them.

    Args:
        cases: How it fares, for each way in which the unknowns that it meets can be: these in order, and what becomes
            of it. Whichever way the first ones are, the next one is the same: the cases are the leaves of a tree.
    """
    return tuple(dict.fromkeys(_asked(cases, 0)))


def _asked(cases: Sequence[Case], depth: int) -> Iterator[Unknown]:
    if len({fate for _, fate in cases}) < 2:
        return
    longer = [taken for taken, _ in cases if len(taken) > depth]
    if not longer:
        return  # what becomes of it is itself not known
    first = longer[0][depth][0]
    ways = [[each for each in cases if len(each[0]) > depth and each[0][depth][1] is so] for so in (True, False)]
    if {fate for _, fate in ways[0]} != {fate for _, fate in ways[1]}:
        yield first
    for way in ways:
        yield from _asked(way, depth + 1)


class Asked:
    """Where a program asks for what nobody knows.

    Args:
        program: The program.
    """

    def __init__(self, program: Program) -> None:
        self._places: dict[Unknown, dict[object, Place]] = {}
        for entries in program.chains.values():
            for entry in entries:
                for unknown, _ in entry.needs:
                    self._places.setdefault(unknown, {}).setdefault(entry.place.spot, entry.place)

    def told(self, unknown: Unknown) -> str:
        """Say what an unknown is, and on which lines it is asked for."""
        places = list(self._places.get(unknown, {}).values())
        lines = f"{', '.join(map(str, places[:MOST_TOLD]))}{', ...' * (len(places) > MOST_TOLD)}"
        return f"{lines} ({unknown.key})" if places else unknown.key
