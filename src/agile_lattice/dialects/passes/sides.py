"""Sides otherwise than by interfaces in each rule: by zones, and by marks on interfaces."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact, StaticNatFact, ZoneFact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.stages import Rule

OUTER, INNER = "outer", "inner"

# Sides by zones: rules speak of zones, interfaces are put into them once.


def _sides(facts: Facts) -> dict[str, tuple[str, ...]]:
    found: dict[str, set[str]] = {}
    for fact in facts.get("zone", []):
        assert isinstance(fact, ZoneFact)
        found.setdefault(fact.zone, set()).add(fact.interface)
    return {side: tuple(sorted(members)) for side, members in found.items()}


def _zones_down(facts: Facts, dialect: str) -> Facts:
    zones = _sides(facts)
    refusals: list[Refusal] = []

    def named(kind: str, fact: Rule | Passage, field: str) -> tuple[str, ...] | None:
        interfaces = getattr(fact, field)
        if interfaces is None:
            return None
        whole = [zone for zone, members in zones.items() if {*members} <= {*interfaces}]
        covered = {each for zone in whole for each in zones[zone]}
        if covered != {*interfaces}:
            key = "from" if field == "arrives" else "to"
            reason = f"its rules speak of zones, and {', '.join(sorted({*interfaces} - covered))} is only a part of one"
            refusals.append(Refusal(dialect, FACTS[kind].describe(fact), key, fact.place.at(key), reason))
        return tuple(sorted(whole))

    changed: Facts = {}
    for kind in ("rule", "permit", "access"):
        members = [fact for fact in facts.get(kind, []) if isinstance(fact, Rule | Passage)]
        changed[kind] = [
            replace(each, arrives=named(kind, each, "arrives"), leaves=named(kind, each, "leaves")) for each in members
        ]
    if refusals:
        raise Refusals(refusals)
    return {**facts, **changed}


def _zones_up(facts: Facts) -> Facts:
    zones = _sides(facts)

    def interfaces(names: tuple[str, ...] | None) -> tuple[str, ...] | None:
        return None if names is None else tuple(sorted({each for name in names for each in zones.get(name, (name,))}))

    changed: Facts = {}
    for kind in ("rule", "permit", "access"):
        members = [fact for fact in facts.get(kind, []) if isinstance(fact, Rule | Passage)]
        changed[kind] = [
            replace(each, arrives=interfaces(each.arrives), leaves=interfaces(each.leaves)) for each in members
        ]
    return {**facts, **changed}


# Sides by marks: an interface is outer or inner, and a translation is for whatever passes an outer one.


def _marks_down(facts: Facts, dialect: str) -> Facts:
    marked = {fact.interface for fact in facts.get("zone", []) if isinstance(fact, ZoneFact)}
    outer: tuple[str, ...] | None = None

    def why_not(side: tuple[str, ...] | None) -> str:
        """Return why what faces this side cannot be said by marks; empty if it can."""
        if side is None or (outer is not None and side != outer):
            return "its translations are for all outer interfaces alike"
        unknown = ", ".join(sorted({*side} - marked))
        return f"a mark stands with its interface, and there is no {unknown}" if unknown else ""

    refusals = []
    rules: list[Fact] = []
    for fact in facts.get("rule", []):
        assert isinstance(fact, Rule)
        side = fact.arrives if fact.stage == "arrival" else fact.leaves
        if fact.stage == "departure" and fact.arrives is not None:
            refusals.append(
                _mark_refusal(dialect, fact, "from", "it does not ask where a packet came in: say `source`")
            )
        elif reason := why_not(side):
            refusals.append(_mark_refusal(dialect, fact, "from" if fact.stage == "arrival" else "to", reason))
        else:
            outer = side
        rules.append(replace(fact, arrives=None, leaves=None))
    twins: list[Fact] = []
    for twin in facts.get("static-nat", []):
        assert isinstance(twin, StaticNatFact)
        if reason := why_not(twin.facing):
            refusals.append(Refusal(dialect, f"translation {twin.name}", "facing", twin.place.at("facing"), reason))
        else:
            outer = twin.facing
        twins.append(replace(twin, facing=None))
    if refusals:
        raise Refusals(refusals)
    sides: list[Fact] = []
    for fact in facts.get("zone", []):
        assert isinstance(fact, ZoneFact)
        if outer is not None:
            sides.append(replace(fact, zone=OUTER if fact.interface in outer else INNER))
        elif fact.zone in (OUTER, INNER):
            sides.append(fact)  # it is marked already, and nothing wants it otherwise
    return {**facts, "rule": rules, "static-nat": twins, "zone": sides}


def called_as(sides: Iterable[Fact], there: Iterable[Fact]) -> list[Fact]:
    """Call sides as a device calls them already, where they are the same interfaces."""
    names = {members: name for name, members in _sides({"zone": [*there]}).items()}
    own = _sides({"zone": [*sides]})
    called = {side: names.get(members, side) for side, members in own.items()}
    if len({*called.values()}) < len(called):
        return [*sides]  # another side has that name in the intent
    return [replace(fact, zone=called[fact.zone]) for fact in sides if isinstance(fact, ZoneFact)]


def _mark_refusal(dialect: str, fact: Rule, key: str, reason: str) -> Refusal:
    return Refusal(dialect, f"translation {fact.name}", key, fact.place.at(key), reason)


def _facing(fact: Rule, outer: tuple[str, ...] | None) -> Rule:
    return replace(fact, arrives=outer) if fact.stage == "arrival" else replace(fact, leaves=outer)


def _marks_up(facts: Facts) -> Facts:
    outer = _sides(facts).get(OUTER)
    rules: list[Fact] = [_facing(fact, outer) for fact in facts.get("rule", []) if isinstance(fact, Rule)]
    twins: list[Fact] = [
        replace(fact, facing=outer) for fact in facts.get("static-nat", []) if isinstance(fact, StaticNatFact)
    ]
    return {**facts, "rule": rules, "static-nat": twins}


ZONES = Pass(_zones_down, _zones_up)
MARKS = Pass(_marks_down, _marks_up)
