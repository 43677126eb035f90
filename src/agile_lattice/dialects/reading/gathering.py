"""The facts of one text, gathered as its statements say them: what is said again replaces, adds, or is refused."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from agile_lattice.dialects.dialect import Form, Phrase
from agile_lattice.dialects.fact_types import FACTS, FactType
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.reading.finding import Fields, Lines
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.places import Place
from agile_lattice.packets.spans import merged


def united(one: Any, other: Any, again: str) -> Any:
    """Put two values of one field together.

    Args:
        one: What was said first.
        other: What is said again.
        again: What becomes of that, as a phrase has it.

    Returns:
        What holds; `None` if that is not known.
    """
    if one == other or again == "replaces":
        return other
    if again == "refused" or type(one) is not type(other):
        return None
    if isinstance(one, AddressSet):
        return AddressSet.of(one, other) if one.family == other.family else None
    if isinstance(one, tuple):
        spans = all(isinstance(each, tuple) for each in (*one, *other))
        return merged([*one, *other]) if spans else tuple(dict.fromkeys([*one, *other]))
    return None


def _there(facts: Sequence[Fact | None]) -> list[Fact]:
    return [each for each in facts if each is not None]


class Gathered:
    """The facts of one text.

    Args:
        file: The name of the text.
        form: The form of a dialect that it is in.

    Attributes:
        single: Facts that one statement each says, by kind; nothing in the place of what was replaced.
    """

    def __init__(self, file: str, form: Form) -> None:
        self.file, self.form = file, form
        self.single: dict[str, list[Any]] = defaultdict(list)
        self._keyed: dict[tuple[str, str], tuple[Fields, Lines, set[str]]] = {}
        self._slots: dict[tuple[Any, ...], int] = {}

    def keep(self, phrase: Phrase, fact: Fact, kind: str) -> bool:
        """Keep a fact, in the place of the one that it replaces; tell whether its program takes it beside the rest."""
        facts = self.single[kind]
        if not (phrase.same or phrase.again):
            facts.append(fact)
            return True
        slot = (kind, *(getattr(fact, name, None) for name in phrase.same))
        before = self._slots.get(slot)
        if before is not None and facts[before] is not None and phrase.again == "refused":
            return False
        if before is not None and phrase.again != "adds":
            facts[before] = None  # it is replaced: what came in its place stands behind all others
        self._slots[slot] = len(facts)
        facts.append(fact)
        return True

    def merge(self, kind: FactType, fields: Fields, places: Lines, phrase: Phrase) -> bool:
        """Add to the fact that several statements describe together; it stands where it is first named.

        Returns:
            Whether it can be said beside the rest: if not, nothing of it is added.
        """
        known, at, implied = self._keyed.setdefault((kind.name, fields.get(kind.key, "")), ({}, {}, set()))
        by_being = {name for name, value in phrase.constants.items() if fields.get(name) == value}
        values = dict(fields)
        for name in known.keys() & fields.keys():
            if name in by_being and name not in implied:
                values[name] = known[name]  # what is said counts, and not what follows from there being a block
            elif name in by_being or name not in implied:
                both = united(known[name], fields[name], self.form.again.get((kind.name, name), phrase.again))
                if both is None:
                    return False
                values[name] = both
        implied -= fields.keys() - by_being
        implied |= by_being - known.keys()
        known.update(values)
        at.update({field: place for field, place in places.items() if field != kind.key or kind.key not in at})
        return True

    def facts(self) -> Facts:
        """Return all facts, those of several statements put together."""
        found: Facts = {name: each for name, members in self.single.items() if (each := _there(members))}
        for (name, _), (fields, places, _) in self._keyed.items():
            kind = FACTS[name]
            first = min((each.line for each in places.values()), default=0)
            line = places[kind.key].line if kind.key in places else first
            fact: Fact = kind.record(**fields, place=Place(self.file, line, places))
            found.setdefault(name, []).append(fact)
        return found
