"""Rules of systems that have a program, and a list, for each address family.

The intent has one list for both. Going down, a dialect of one family takes what can concern it; coming up, each of its
rules is for that family only, and the lists of two such dialects become one again.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
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
EVERYBODY = [None, *ANYONE.values()]


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
        return {**facts, **{kind: [marked(fact, family) for fact in facts.get(kind, [])] for kind in KINDS}}

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


def marked(fact: Any, family: int) -> Any:
    """Say of which family a rule is that names no addresses."""
    says = family_of(fact) == family if isinstance(fact, Rule) else _families(fact) == (family,)
    return fact if says else replace(fact, source=ANYONE[family])


def of_family(device: Device, family: int) -> Device:
    """Return a device with those rules only that are for one family; the other family's packets pass."""
    permits, access = (
        united([marked(each, family) for each in passages(rules) if family in _families(each)])
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
    refused = {family: Passage("drop", source=ANYONE[family]) for family in FAMILIES}
    alone = [family for family in FAMILIES if lists[family] == [refused[family]]]
    apart = not all(refused[family] in members for family, members in lists.items())
    for family, members in lists.items():
        if not members:
            members.append(Passage(source=ANYONE[family]))
        elif family in alone and apart:
            members.clear()  # what no rule matches does not pass anyhow
    four, six = (_permits(lists[family], family) for family in FAMILIES)
    found: list[Passage] = []
    last_four = last_six = 0
    pairs = _common([permit for permit, _ in four], [permit for permit, _ in six])
    for here, there in [*pairs, (len(four), len(six))]:
        found += [rule for _, rules in [*four[last_four:here], *six[last_six:there]] for rule in rules]
        if here < len(four):
            found += _for_both(four[here][1], six[there][1])
        last_four, last_six = here + 1, there + 1
    return found


def without_end(rules: Sequence[Passage]) -> list[Passage]:
    """Leave out rules at the end that drop all that comes to them: what no rule matches is dropped anyhow.

    Where nothing else is left, that nothing passes is still said.
    """
    found, spoken = list[Passage](), set[int]()
    for each in reversed(rules):
        families = {*_families(each)}
        everything = each.source in EVERYBODY and replace(each, source=None, name="", rank=None) == Passage("drop")
        if not everything or families & spoken:
            spoken |= families
            found.append(each)
    return found[::-1] or list(rules)


def _neutral(one: Passage, family: int) -> Passage | None:
    """Return a rule without its family, if it says nothing else of addresses."""
    return replace(one, source=None) if one.source in (None, ANYONE[family]) and one.destination is None else None


def _permits(rules: Sequence[Passage], family: int) -> list[tuple[Passage | None, list[Passage]]]:
    """Put rules together that are of one permit: by its name, for different services.

    Returns:
        Per permit what it says besides services and family, if it says nothing of addresses; and its rules.
    """

    def permit(one: Passage) -> Passage | None:
        neutral = _neutral(one, family)
        return replace(neutral, protocol=None, ports=None) if neutral is not None and neutral.name else neutral

    found: list[tuple[Passage | None, list[Passage]]] = []
    for same, run in groupby(rules, key=permit):
        members = [*run]
        found += [(same, members)] if same is not None and same.name else [(same, [each]) for each in members]
    return found


def _for_both(four: Sequence[Passage], six: Sequence[Passage]) -> list[Passage]:
    """Return the rules of one permit: those that both families have are for both."""
    here, there = (
        [_neutral(each, family) for each in rules] for family, rules in zip(FAMILIES, (four, six), strict=True)
    )
    both = [each for each in here if each in there and each is not None]
    rest = [rule for neutral, rule in zip([*here, *there], [*four, *six], strict=True) if neutral not in both]
    return [*both, *rest]


def _common(four: Sequence[Passage | None], six: Sequence[Passage | None]) -> list[tuple[int, int]]:
    """Return a longest run of permits that stand in both lists in the same order: their positions in each."""
    places: dict[Passage, list[int]] = {}
    for index, one in enumerate(six):
        if one is not None:
            places.setdefault(one, []).append(index)
    pairs = []
    for index, one in enumerate(four):
        if one is not None and places.get(one):
            pairs.append((index, places[one].pop(0)))
    return [pairs[each] for each in longest_run([there for _, there in pairs])]
