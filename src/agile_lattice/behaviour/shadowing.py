"""What earlier rules of a list leave of later ones. Exact."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

import msgspec

from agile_lattice.behaviour.matching import Space
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Translation
from agile_lattice.packets.boxes import Box, Undecided, overlap, remainder


class Taken(msgspec.Struct, frozen=True):
    """What earlier rules do to one rule.

    Attributes:
        rule, box: The rule, and what it matches.
        takers: Earlier rules of its stage that match some of it, in order, each with its translation.
        left: What no earlier rule matches, as disjoint boxes; `None` if that was not decided.
    """

    rule: Rule
    box: Box
    takers: tuple[tuple[Translation, Rule, Box], ...]
    left: tuple[Box, ...] | None


class _Earlier:
    """Earlier rules of a device, kept so that those which could meet a rule are found without trying every one.

    A rule for a single address is met by rules for that address and by general ones only.
    """

    def __init__(self) -> None:
        self.by_address: dict[tuple[str, Address], list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)
        self.general: dict[str, list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)
        self.all: dict[str, list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)

    def add(self, owner: Translation, rule: Rule, box: Box) -> None:
        """Remember a rule."""
        entry = len(self.all[rule.stage]), owner, rule, box
        self.all[rule.stage].append(entry)
        address = _single(rule)
        (self.general[rule.stage] if address is None else self.by_address[rule.stage, address]).append(entry)

    def meeting(self, rule: Rule, box: Box) -> Iterator[tuple[Translation, Rule, Box]]:
        """Yield earlier rules that match some packet of a rule, in order."""
        address = _single(rule)
        if address is None:
            near = self.all[rule.stage]
        else:
            near = sorted(
                [*self.general[rule.stage], *self.by_address.get((rule.stage, address), ())], key=lambda each: each[0]
            )
        for _, owner, earlier, its in near:
            if overlap(its, box) is not None:
                yield owner, earlier, its


def _single(rule: Rule) -> Address | None:
    addresses = rule.destination if rule.stage == "arrival" else rule.source
    return addresses.single if addresses is not None else None


def taken_rules(
    space: Space, rules: Iterable[tuple[Translation, list[Rule]]]
) -> Iterator[tuple[Translation, list[Taken]]]:
    """Yield every translation with what earlier ones do to its rules."""
    earlier = _Earlier()
    for one, members in rules:
        results = []
        for rule in members:
            box = space.of_rule(rule)
            takers = tuple(earlier.meeting(rule, box))
            left: tuple[Box, ...] | None
            try:
                left = tuple(remainder([box], (each[2] for each in takers)))
            except Undecided:
                left = None
            results.append(Taken(rule, box, takers, left))
        for taken in results:
            earlier.add(one, taken.rule, taken.box)
        yield one, results
