"""Helpers of connections, where they are declared apart and used by name."""

from __future__ import annotations

from msgspec.structs import replace

from agile_lattice.dialects.facts import DeclaredHelperFact, Fact, HelperFact
from agile_lattice.dialects.passes import Facts, Pass


def _called_down(facts: Facts, dialect: str) -> Facts:
    """Declare helpers apart, and give those that use them their names."""
    helpers = [fact for fact in facts.get("helper", []) if isinstance(fact, HelperFact)]
    named: list[Fact] = [replace(each, called=f"{each.name}-{each.protocol}", name="") for each in helpers]
    declared: list[Fact] = [
        DeclaredHelperFact(f"{each.name}-{each.protocol}", each.name, each.protocol, each.place) for each in helpers
    ]
    return {**facts, "helper": named, "declared-helper": declared}


def _called_up(facts: Facts) -> Facts:
    """Give helpers the name of what is declared; one that nothing declares keeps none."""
    declared = [each for each in facts.get("declared-helper", []) if isinstance(each, DeclaredHelperFact)]
    names = {(each.called, each.protocol): each.name for each in declared}
    helpers: list[Fact] = [
        replace(each, name=names.get((each.called, each.protocol), ""), called="")
        for each in facts.get("helper", [])
        if isinstance(each, HelperFact)
    ]
    return {**facts, "helper": helpers, "declared-helper": []}


HELPERS = Pass(_called_down, _called_up)
