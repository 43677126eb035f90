"""Rules in several texts of one device: a packet meets those of all, and in which order is not told."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

from msgspec.structs import replace

from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.program_facts import AsideFact
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


def bounds_of(readings: Sequence[Reading]) -> tuple[AsideFact, ...]:
    """Return what steps that may apply or not could be about; what one text rewrites, another may do as well."""
    rewriting = sum(any(_rules(each, "translations", "arrival")) for each in readings)
    found = (each for reading in readings for each in reading.bounds)
    return tuple(replace(each, bounds=()) if each.by_image and rewriting > 1 else each for each in found)


def _rules(reading: Reading, section: Section, stage: Stage | None) -> Iterator[Fact]:
    kind = {"permits": "permit", "access": "access"}.get(section, "rule")
    for fact in reading.facts.get(kind, []):
        if not isinstance(fact, Rule) or fact.stage == stage:
            yield fact


def _file(reading: Reading) -> str:
    return next((fact.place.file for members in reading.facts.values() for fact in members if fact.place.file), "")
