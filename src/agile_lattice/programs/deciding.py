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


def told(program: Program, unknown: Unknown) -> str:
    """Say what an unknown is, and on which lines it is asked for."""
    places = places_of(program, unknown)
    lines = f"{', '.join(map(str, places[:MOST_TOLD]))}{', ...' * (len(places) > MOST_TOLD)}"
    return f"{lines} ({unknown.key})" if places else unknown.key


def places_of(program: Program, unknown: Unknown) -> tuple[Place, ...]:
    """Return where the entries stand that need an unknown to be one way or the other."""
    found = (
        entry.place
        for entries in program.chains.values()
        for entry in entries
        for one, _ in entry.needs
        if one == unknown
    )
    return tuple({each.spot: each for each in found}.values())
