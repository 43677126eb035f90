"""Rules of systems where one rule matches one interface, one prefix, and a few ports.

Going down, a rule becomes one for each combination, all of its name; coming up, neighbours of one name whose
combinations are complete become one again.
"""

from __future__ import annotations

from itertools import groupby, product
from operator import attrgetter
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.services import ICMP_PROTOCOLS
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Spans, merged

KINDS = ("rule", "permit", "access")
FIELDS = ("arrives", "leaves", "source", "destination", "ports")
MOST_PORTS = 7  # fifteen in one match, and a range counts as two
MOST_RULES = 256


def expand(facts: dict[str, list[Fact]], dialect: str) -> dict[str, list[Fact]]:
    """Write every combination out.

    Raises:
        Refusals: If a rule that becomes several has no name to tell that they are one, or becomes too many.
    """
    refusals = []
    changed: dict[str, list[Fact]] = {}
    for kind in KINDS:
        members: list[Fact] = []
        for fact in facts.get(kind, []):
            assert isinstance(fact, Rule | Passage)
            if _is_one(fact):
                members.append(fact)
                continue
            combinations = list(product(*(_parts(fact, field) for field in FIELDS)))
            if len(combinations) == 1:
                members.append(fact)
                continue
            if not fact.name:
                reason = (
                    "one rule matches one interface and one prefix there: name this one, to tell that its rules are one"
                )
                refusals.append(Refusal(dialect, FACTS[kind].describe(fact), "name", fact.place, reason))
            elif len(combinations) > MOST_RULES:
                reason = f"it would be {len(combinations)} rules there"
                refusals.append(Refusal(dialect, FACTS[kind].describe(fact), "", fact.place, reason))
            else:
                members += [replace(fact, **dict(zip(FIELDS, each, strict=True))) for each in combinations]
        changed[kind] = members
    if refusals:
        raise Refusals(refusals)
    return {**facts, **changed}


def _is_one(fact: Rule | Passage) -> bool:
    """Tell whether a rule is one combination at first sight, as most are."""
    return (
        (fact.arrives is None or len(fact.arrives) == 1)
        and (fact.leaves is None or len(fact.leaves) == 1)
        and (fact.source is None or fact.source.is_single)
        and (fact.destination is None or fact.destination.is_single)
        and (fact.ports is None or (len(fact.ports) == 1 and fact.protocol not in ICMP_PROTOCOLS))
    )


def _parts(fact: Rule | Passage, field: str) -> list[Any]:
    value = getattr(fact, field)
    if value is None:
        return [None]
    if field in ("arrives", "leaves"):
        return [(name,) for name in value]
    if field == "ports":
        if fact.protocol in ICMP_PROTOCOLS:
            return [((number, number),) for first, last in value for number in range(first, last + 1)]
        return [value[start : start + MOST_PORTS] for start in range(0, len(value), MOST_PORTS)]
    return [value] if value.is_single else [AddressSet.of(prefix) for prefix in value.prefixes()]


def contract(facts: dict[str, list[Fact]]) -> dict[str, list[Fact]]:
    """Put neighbours together again whose combinations are complete."""
    changed: dict[str, list[Fact]] = {}
    for kind in KINDS:
        members: list[Fact] = []
        rules: list[Any] = [*facts.get(kind, [])]
        if kind == "rule":
            rules.sort(key=attrgetter("stage"))  # each stage is a list of its own
        if len({fact.name or id(fact) for fact in rules}) == len(rules):  # in most lists each stands alone
            changed[kind] = rules
            continue
        alike = attrgetter(*(field for field in FACTS[kind].fields if field not in FIELDS))
        for _, run in groupby(rules, key=lambda fact: fact.name or id(fact)):
            for _, same in groupby(run, key=lambda fact: (alike(fact), _said(fact))):
                members += _together([*same])
        changed[kind] = members
    return {**facts, **changed}


def _said(fact: Rule | Passage) -> tuple[bool, ...]:
    """Tell which of the fields say something."""
    return tuple(getattr(fact, field) is not None for field in FIELDS)


def _together(run: list[Rule | Passage]) -> list[Rule | Passage]:
    if len(run) == 1:
        return run
    values = {field: list(dict.fromkeys(getattr(fact, field) for fact in run)) for field in FIELDS}
    combinations = {tuple(getattr(fact, field) for field in FIELDS) for fact in run}
    if len(combinations) != len(run) or {*product(*values.values())} != combinations:
        return run
    return [replace(run[0], **{field: _union(field, members) for field, members in values.items()})]


def _union(field: str, members: list[Any]) -> Any:
    if members[0] is None:
        return None
    if field in ("arrives", "leaves"):
        return tuple(sorted({name for each in members for name in each}))
    if field == "ports":
        spans: Spans = merged(span for each in members for span in each)
        return spans
    return AddressSet.of(*members)
