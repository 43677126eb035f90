"""Translations of systems in which each is an instance by itself, with a number, and nothing says which comes first."""

from __future__ import annotations

from itertools import count
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact, StaticNatFact
from agile_lattice.intent.stages import Rule, overlap, split
from agile_lattice.intent.translations import Static

KINDS = ("static-nat", "rule")


def numbered(facts: dict[str, list[Fact]], dialect: str) -> dict[str, list[Fact]]:
    """Give each translation a number.

    Raises:
        Refusals: If some packet matches two of a kind: nothing would say which of them it is for.
    """
    numbers = count(1)
    refusals = []
    changed: dict[str, list[Fact]] = {}
    for kind in KINDS:
        before: list[Rule] = []
        changed[kind] = []
        for fact in facts.get(kind, []):
            assert isinstance(fact, StaticNatFact | Rule)
            halves = _halves(fact)
            other = next((each for each in before for half in halves if overlap(each, half)), None)
            if other is not None:
                reason = f"nothing says there whether it or {other.name or 'another'} takes a packet that both match"
                refusals.append(Refusal(dialect, FACTS[kind].describe(fact), "", fact.place, reason))
            before += halves
            changed[kind].append(replace(fact, rank=next(numbers)))
    if refusals:
        raise Refusals(refusals)
    return {**facts, **changed}


def _halves(fact: StaticNatFact | Rule) -> list[Rule]:
    if isinstance(fact, Rule):
        return [fact]
    return split([Static(fact.external, fact.internal, fact.name, fact.facing)])


def unnumbered(facts: dict[str, list[Fact]]) -> dict[str, list[Fact]]:
    """Forget the numbers."""
    changed: dict[str, list[Any]] = {kind: [replace(fact, rank=None) for fact in facts.get(kind, [])] for kind in KINDS}
    return {**facts, **changed}
