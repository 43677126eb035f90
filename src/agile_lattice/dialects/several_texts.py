"""Several texts of one device: packets meet the rules of all, and what one says of a thing another may contradict."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations
from pathlib import PurePath
from typing import Any

from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.reading.texts import Reading
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.model import Section
from agile_lattice.intent.stages import Rule, Stage

BOTH = "{other} has rules that such packets meet as well, and how the two work together is not worked out"
STAGES: tuple[Stage, ...] = ("arrival", "departure")


def meeting(readings: Sequence[Reading]) -> list[Leftover]:
    """Return the rules of texts that are asked about the same packets as those of another: what both do is not told."""
    lists: list[tuple[Section, Stage | None]] = [
        ("permits", None), ("access", None), *(("translations", each) for each in STAGES)
    ]  # fmt: skip
    found = []
    for section, stage in lists:
        having = [(each, rules) for each in readings if (rules := [*_rules(each, section, stage)])]
        for (one, rules), (other, _) in combinations(having, 2):
            if one.family is None or other.family is None or one.family == other.family:
                place = rules[0].place
                reason = BOTH.format(other=_file(other))
                found.append(Leftover(place, f"the rules of {place.file}", (), reason, (section,), stage))
    return found


def in_order(readings: Sequence[Reading]) -> list[Reading]:
    """Return readings in an order in which what is said later counts, where that is a matter of their names."""
    return sorted(readings, key=lambda each: PurePath(each.file).name if each.later_wins else "")


def contradictions(readings: Sequence[Reading]) -> list[Leftover]:
    """Return what one text says of an interface, or of the device, and another one says otherwise."""
    found = []
    for kind in ("interface", "settings", "device", "identity", "lookups", "search"):
        first: dict[object, tuple[Reading, Any]] = {}
        for reading in readings:
            for fact in reading.facts.get(kind, []):
                for field in _said(kind, fact):
                    value = getattr(fact, field)
                    slot = (getattr(fact, "interface", ""), field)
                    other, before = first.setdefault(slot, (reading, value))
                    if before != value and other is not reading and not (reading.later_wins and other.later_wins):
                        found.append(_contradicted(kind, fact, field, other.file))
    return found


def _said(kind: str, fact: Any) -> list[str]:
    """Return the fields of a fact that its text says something of."""
    fields = [each for each in FACTS[kind].fields if each != "interface"]
    if kind == "interface":
        return [each for each in fields if each in (fact.place.parts or {})]
    return [each for each in fields if getattr(fact, each) is not None]


def _contradicted(kind: str, fact: Any, field: str, file: str) -> Leftover:
    section: Section = "descriptions" if field == "description" else FACTS[kind].section or "identity"
    place = fact.place.at(field) if fact.place.parts and field in fact.place.parts else fact.place
    what = f"interface {fact.interface}" if kind == "interface" else FACTS[kind].describe(fact)
    return Leftover(place, what, (), f"{file} says otherwise of its {field.replace('_', ' ')}", (section,))


def _rules(reading: Reading, section: Section, stage: Stage | None) -> Iterator[Fact]:
    kind = {"permits": "permit", "access": "access"}.get(section, "rule")
    for fact in reading.facts.get(kind, []):
        if not isinstance(fact, Rule) or fact.stage == stage:
            yield fact


def _file(reading: Reading) -> str:
    return next((fact.place.file for members in reading.facts.values() for fact in members if fact.place.file), "")
