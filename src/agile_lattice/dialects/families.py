"""Rules of systems that have a program, and a list, for each address family.

The intent has one list for both. Going down, a dialect of one family takes what can concern it; coming up, each of its
rules is for that family only, and the lists of two such dialects become one again.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.model import Device, Section
from agile_lattice.intent.permits import Passage, joined_access, joined_permits, passages
from agile_lattice.intent.stages import Rule, family_of, named_families, split
from agile_lattice.packets.order import longest_run

FAMILIES = (4, 6)
RULED: frozenset[Section] = frozenset({"translations", "permits", "access"})
KINDS = ("rule", "permit", "access")
ANYONE = {family: AddressSet.of(Prefix(family, 0, 0)) for family in FAMILIES}


def only(family: int) -> Pass:
    """Return the pass of a dialect whose rules are all for one family."""

    def down(facts: Facts, dialect: str) -> Facts:
        changed: Facts = {}
        for kind in KINDS:
            members = [_bare(fact, family) for fact in facts.get(kind, []) if family in _families(fact)]
            # A list that is for the other family only lets nothing of this one pass.
            nothing = bool(facts.get(kind)) and kind != "rule" and not members
            changed[kind] = [Passage("drop")] if nothing else members
        return {**facts, **changed}

    def up(facts: Facts) -> Facts:
        return {**facts, **{kind: [_marked(fact, family) for fact in facts.get(kind, [])] for kind in KINDS}}

    return Pass(down, up)


def _families(fact: Any) -> tuple[int, ...]:
    """Return the families that a rule can match packets of."""
    if isinstance(fact, Rule):
        return (family_of(fact),)
    named = named_families(fact)
    return FAMILIES if not named else tuple(named) if len(named) == 1 else ()


def _bare(fact: Any, family: int) -> Fact:
    """Leave out a source that is anybody: the list speaks of nobody else."""
    bare: Fact = replace(fact, source=None) if fact.source == ANYONE[family] else fact
    return bare


def _marked(fact: Any, family: int) -> Any:
    """Say of which family a rule is that names no addresses."""
    says = family_of(fact) == family if isinstance(fact, Rule) else _families(fact) == (family,)
    return fact if says else replace(fact, source=ANYONE[family])


def of_family(device: Device, family: int) -> Device:
    """Return a device with those rules only that are for one family; the other family's packets pass."""
    permits, access = (
        united([_marked(each, family) for each in passages(rules) if family in _families(each)])
        for rules in (device.permits, device.access)
    )
    return replace(
        device,
        translations=tuple(one for one in device.translations if family in {family_of(rule) for rule in split([one])}),
        permits=joined_permits(permits),
        access=joined_access(access),
    )


def united(passages: Sequence[Passage]) -> list[Passage]:
    """Make one list of those of two families.

    A rule that stands in both, without addresses, is one rule for both. Everything of a family passes that has no
    list, because nothing is said or because no dialect of the device speaks of it.

    Args:
        passages: Rules that are each for one family, those of a family in their order.
    """
    lists = {family: [each for each in passages if _families(each) == (family,)] for family in FAMILIES}
    if not any(lists.values()):
        return []
    nothing = {family: members == [Passage("drop", source=ANYONE[family])] for family, members in lists.items()}
    for family, members in lists.items():
        if not members:
            members.append(Passage(source=ANYONE[family]))
        elif nothing[family] and not all(nothing.values()):
            members.clear()  # what no rule matches does not pass anyhow
    four, six = ([_neutral(each, family) for each in lists[family]] for family in FAMILIES)
    pairs = _common(four, six)
    found: list[Passage] = []
    last_four = last_six = 0
    for here, there in [*pairs, (len(four), len(six))]:
        found += [*lists[4][last_four:here], *lists[6][last_six:there]]
        found += [replace(lists[4][here], source=None)] if here < len(four) else []
        last_four, last_six = here + 1, there + 1
    return found


def _neutral(one: Passage, family: int) -> Passage | None:
    """Return a rule without its family, if it says nothing else of addresses."""
    return replace(one, source=None) if one.source == ANYONE[family] and one.destination is None else None


def _common(four: Sequence[Passage | None], six: Sequence[Passage | None]) -> list[tuple[int, int]]:
    """Return a longest run of rules that stand in both lists in the same order: their positions in each."""
    places: dict[Passage, list[int]] = {}
    for index, one in enumerate(six):
        if one is not None:
            places.setdefault(one, []).append(index)
    pairs = []
    for index, one in enumerate(four):
        if one is not None and places.get(one):
            pairs.append((index, places[one].pop(0)))
    return [pairs[each] for each in longest_run([there for _, there in pairs])]
