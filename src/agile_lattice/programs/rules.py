"""The rules of chains: which a chain leads to, and which of a long one are about some packets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import groupby

from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import Box
from agile_lattice.programs.model import Change, Constant, Entry, Program, SparseBox

DIMENSIONS = 6  # that every list has


def rules_of(program: Program) -> dict[str, list[list[Entry]]]:
    """Return the rules of all chains, each with its entries."""
    return {
        name: [list(each) for _, each in groupby(entries, key=lambda entry: entry.rule)]
        for name, entries in program.chains.items()
    }


def reached(program: Program, chain: str) -> Iterator[Entry]:
    """Yield the entries of a chain, and of all that it leads to, each once."""
    left, seen = [chain], {chain}
    while left:
        for entry in program.chains.get(left.pop(), ()):
            yield entry
            if entry.target and entry.target not in seen:
                seen.add(entry.target)
                left.append(entry.target)


class Lookup:
    """The rules of a long chain, made ready to be looked up by the packets that they are about.

    Args:
        rules: The rules.
        program: Tells how large dimensions are, and which of them change while packets go on in a chain.
    """

    def __init__(self, rules: list[list[Entry]], program: Program) -> None:
        self._rules = rules
        every = [entry for entries in program.chains.values() for entry in entries]
        moving = {dimension for each in every if each.verdict != "accept" for dimension, _ in each.changes}
        self._whole = {each: program.anything(each) for each in range(DIMENSIONS) if each not in moving}
        self._owners = [number for number, rule in enumerate(rules) for _ in rule]
        self._bounds = Bounds([self._box(each.box) for rule in rules for each in rule])

    def _box(self, box: SparseBox) -> Box:
        return tuple(box.get(each, whole) for each, whole in self._whole.items())

    def about(self, box: SparseBox, now: Mapping[int, Change]) -> Iterator[list[Entry]]:
        """Yield the rules that may be about packets of a box, and maybe others, in their order.

        Args:
            box: The packets as they came in.
            now: What has become of their dimensions.
        """
        here = {dimension: spans for dimension, spans in box.items() if dimension not in now}
        here |= {at: ((change.number,) * 2,) for at, change in now.items() if isinstance(change, Constant)}
        for number in dict.fromkeys(self._owners[at] for at in self._bounds.meeting(self._box(here))):
            yield self._rules[number]
