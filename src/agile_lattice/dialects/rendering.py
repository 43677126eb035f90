"""From facts to text. What cannot be said is refused, with the field, its place and the reason."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from itertools import groupby
from typing import Any

from msgspec.structs import astuple

from agile_lattice.dialects.definition import Block, Dialect, Phrase
from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import FACTS, Fact, FactType
from agile_lattice.dialects.passes import PASSES, Facts
from agile_lattice.dialects.shapes import UnspellableField
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import NOWHERE


def render_facts(dialect: Dialect, facts: Facts) -> str:
    """Write facts as a text in the dialect's first form.

    Args:
        dialect: The dialect.
        facts: By kind; kinds that the form does not carry are not looked at.

    Raises:
        Refusals: With everything that the dialect cannot express.
    """
    for name in dialect.passes:
        facts = PASSES[name].down(facts, dialect.name)
    form = dialect.forms[0]
    writer = _Writer(dialect, facts)
    statements = [*(Statement(text, 0) for text in form.before), *writer.block(form.block, None, (), {})]
    writer.refuse_unwritten(form.carries)
    if writer.refusals:
        raise Refusals(writer.refusals)
    return form.surface.print(statements)


class _Writer:
    def __init__(self, dialect: Dialect, facts: Facts) -> None:
        self.dialect = dialect
        self.facts = facts
        self.written: dict[str, int] = defaultdict(int)
        self.refusals: list[Refusal] = []
        self._indexes: dict[tuple[str, str], dict[Any, list[Fact]]] = {}

    def block(
        self, block: Block, owner: FactType | None, values: tuple[Any, ...], fields: dict[str, Any]
    ) -> list[Statement]:
        """Write the statements of a block.

        Args:
            block: Its phrases.
            owner: The kind of fact that the block is of, if it is of one.
            values: The values of that fact.
            fields: The same by name, with those of the blocks around.
        """
        statements: list[Statement] = []
        for makes, group in groupby(block.phrases, key=lambda phrase: None if phrase.aside else phrase.makes):
            phrases = [phrase for phrase in group if not phrase.aside]
            if makes is not None:
                for fact in self.facts_here(makes, phrases, fields):
                    statements += self.fact(makes, phrases, fact, fields)
                continue
            for phrase in phrases:
                statements += self.part(phrase, owner, values, fields)
        return statements

    def part(
        self, phrase: Phrase, owner: FactType | None, values: tuple[Any, ...], fields: dict[str, Any]
    ) -> Iterator[Statement]:
        """Write a statement that adds to the enclosing fact, or a block that only holds others."""
        traits = (
            tuple(trait(value) for trait, value in zip(owner.traits.values(), values, strict=False)) if owner else ()
        )
        shape = phrase.shapes.of(traits)
        if shape is None or (owner is not None and not shape.fields):
            return
        text = shape.fill(values)
        if phrase.block is None:
            if owner is not None:
                yield Statement(text, 0)
            return
        # A block that only holds others is written even if it is empty: that there is nothing is worth saying.
        inside = self.block(phrase.block, owner, values, fields)
        heads = [condition.of(traits) for _, condition in phrase.conditions]
        yield Statement(text, 0, [*(Statement(head.fill(values), 0) for head in heads if head), *inside])

    def facts_here(self, kind: FactType, phrases: list[Phrase], fields: dict[str, Any]) -> Iterable[Fact]:
        """Return the facts of a kind that belong into this block: those that agree with what is around it."""
        shared = [name for name in kind.traits if name in fields]
        if shared:
            return self.index(kind.name, shared[0]).get(fields[shared[0]], ())
        constant = next(iter(phrases[0].constants), None)
        if constant and all(constant in phrase.constants for phrase in phrases):
            wanted = dict.fromkeys(phrase.constants[constant] for phrase in phrases)
            if len(wanted) == 1:
                return self.index(kind.name, constant).get(phrases[0].constants[constant], ())
        return self.facts.get(kind.name, ())

    def index(self, kind: str, field: str) -> dict[Any, list[Fact]]:
        """Return the facts of a kind by the value of one field, in their order."""
        if (kind, field) not in self._indexes:
            index: dict[Any, list[Fact]] = defaultdict(list)
            for fact in self.facts.get(kind, ()):
                index[getattr(fact, field)].append(fact)
            self._indexes[kind, field] = index
        return self._indexes[kind, field]

    def fact(self, kind: FactType, phrases: list[Phrase], fact: Fact, around: dict[str, Any]) -> list[Statement]:
        """Write one fact, by the first phrase that can say all of it, or by several that each say some."""
        self.written[kind.name] += 1
        values = astuple(fact)
        traits = tuple([trait(value) for trait, value in zip(kind.traits.values(), values, strict=False)])
        present = {name for name, trait in zip(kind.traits, traits, strict=True) if trait is not None}
        missing = present
        statements: list[Statement] = []
        try:
            for phrase in phrases:
                constants = phrase.constants
                if constants and any(getattr(fact, name) != value for name, value in constants.items()):
                    continue
                shape = phrase.shapes.of(traits)
                if shape is None:
                    continue
                unsaid = present.difference(shape.fields, constants, around)
                if kind.key and phrase.block is None:
                    # One of several statements: worth writing if it says something new.
                    if shape.fields & missing - {kind.key}:
                        statements.append(Statement(shape.fill(values), 0))
                        missing = missing - shape.fields
                    continue
                if phrase.block is not None:
                    unsaid -= self.fields_inside(phrase.block, traits)
                if unsaid:
                    missing = min(missing, unsaid, key=len)
                    continue
                text = shape.fill(values)
                if phrase.block is None:
                    return [Statement(text, 0)]
                fields = {**around, **dict(zip(kind.traits, values, strict=False))}
                inherited = {kind.key: fields[kind.key]} if kind.key else fields
                return [Statement(text, 0, self.block(phrase.block, kind, values, inherited))]
        except UnspellableField as error:
            self.refuse(kind, fact, list(kind.traits)[error.index], error.reason)
            return []
        if missing:
            field = next(name for name in kind.traits if name in missing)
            usual = "no statement of this dialect says it together with the rest" if missing == present else ""
            reason = self.dialect.cannot.get(f"{kind.name}.{field}", usual or "there is no statement for it")
            self.refuse(kind, fact, field, reason)
        return statements

    def fields_inside(self, block: Block, traits: tuple[Any, ...]) -> set[str]:
        """Return the fields of a fact that the statements inside its block can say."""
        found: set[str] = set()
        for phrase in block.phrases:
            if phrase.makes is None and not phrase.aside:
                shape = phrase.shapes.of(traits)
                if shape is not None:
                    found |= shape.fields
        return found

    def refuse(self, kind: FactType, fact: Fact, field: str, reason: str) -> None:
        keys = kind.keys.get(field, (field,))
        place = getattr(fact, "place", NOWHERE).at(*keys)
        self.refusals.append(Refusal(self.dialect.name, kind.describe(fact), ".".join(keys), place, reason))

    def refuse_unwritten(self, sections: Iterable[Section]) -> None:
        """Refuse facts that no block had a place for."""
        for name, kind in FACTS.items():
            members = self.facts.get(name, [])
            if kind.section is not None and kind.section in sections and self.written[name] < len(members):
                for fact in members[self.written[name] :]:
                    self.refuse(kind, fact, "", "no block of this dialect has a place for it")
