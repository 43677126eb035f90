"""From text to facts. Nothing is lost: a statement is understood, passed over, or left over."""

from __future__ import annotations

from typing import Any

import msgspec

from agile_lattice.dialects.definition import Block, Dialect, Form, Phrase
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.facts import FACTS, Fact, combine
from agile_lattice.dialects.passes import PASSES, Facts
from agile_lattice.dialects.surfaces import ENTRY, Statement
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import Place

Fields = dict[str, Any]
Lines = dict[str | int, Place]


class Leftover(msgspec.Struct, frozen=True):
    """A line that no phrase understood.

    Attributes:
        place: File and line.
        text: The statement.
        block: The statements that it stands in, outermost first.
        reason: Why it was left over.
    """

    place: Place
    text: str
    block: tuple[str, ...] = ()
    reason: str = "no phrase of the dialect understands it"


class Reading(msgspec.Struct, frozen=True):
    """What one text says.

    Attributes:
        dialect, form: What it was read as.
        facts: By kind.
        leftovers: What was not understood, in order.
        sections: The sections that the text speaks of, even if only to say that there is nothing.
        statements: How many statements it has, and how many of them were understood.
    """

    dialect: str
    form: str
    facts: Facts
    leftovers: tuple[Leftover, ...]
    sections: frozenset[Section]
    statements: tuple[int, int]


def read_form(dialect: Dialect, form: Form, text: str, file: str) -> Reading:
    """Read a text in one form of a dialect.

    Raises:
        CaptureError: If the text is cut off or of another surface altogether.
    """
    statements = form.surface.parse(text, file)
    reader = _Reader(file, form)
    reader.block(statements, form.block, {}, None, {}, ())
    facts = reader.finish()
    for name in dialect.passes:
        facts = PASSES[name].up(facts)
    count = sum(1 for statement in statements for _ in statement.walk())
    leftovers = tuple(sorted(reader.leftovers, key=lambda each: each.place.line))
    return Reading(dialect.name, form.name, facts, leftovers, frozenset(reader.sections), (count, count - reader.left))


def read(dialect: Dialect, text: str, file: str) -> Reading:
    """Read a text in whichever form of the dialect understands most of it.

    Raises:
        CaptureError: If no form understands anything.
    """
    return best_reading([dialect], text, file)


def best_reading(dialects: list[Dialect], text: str, file: str) -> Reading:
    """Read a text in whichever of several dialects understands most of it.

    Raises:
        CaptureError: If none understands anything, or the text is damaged.
    """
    best: Reading | None = None
    error: CaptureError | None = None
    for dialect in dialects:
        for form in dialect.forms:
            try:
                reading = read_form(dialect, form, text, file)
            except CaptureError as caught:
                error = error or caught
                continue
            if reading.statements[0] and not reading.leftovers:
                return reading
            if best is None or reading.statements[1] > best.statements[1]:
                best = reading
    if best is not None and best.statements[1] > 0:
        return best
    if error is not None and (best is None or text.lstrip()[:1] in "[{"):
        raise error
    names = ", ".join(dialect.name for dialect in dialects)
    raise CaptureError(
        Place(file), f"nothing in it can be understood as {names}",
        "Check that it is the right file, and which dialects the device speaks.",
    )  # fmt: skip


class _Reader:
    def __init__(self, file: str, form: Form) -> None:
        self.file = file
        self.leftovers: list[Leftover] = []
        self.left = 0
        self.sections: set[Section] = set(form.carries)
        self.before = frozenset(form.before)
        self.single: Facts = {}
        self.keyed: dict[tuple[str, str], tuple[Fields, Lines]] = {}

    def block(
        self,
        statements: list[Statement],
        block: Block,
        inherited: Fields,
        target: Fields | None,
        lines: Lines,
        path: tuple[str, ...],
    ) -> None:
        """Read statements that stand side by side.

        Args:
            statements: What stands there.
            block: The phrases that can.
            inherited: Fields of the blocks around, which facts made here take over by name.
            target: Fields of the fact that the enclosing block makes, to be added to.
            lines: The places of those fields, to be added to.
            path: The statements around, for leftovers.
        """
        makers = []
        for statement in statements:
            found = self.find(statement, block)
            if found is None:
                if path or statement.children is not None or statement.text not in self.before:
                    self.leave(statement, path)
                continue
            phrase, fields, claimed = found
            if phrase.covers:
                self.sections.add(phrase.covers)
            if phrase.aside:
                continue
            if phrase.makes is None and target is not None:
                target.update(fields, **phrase.constants)
                for field in (*fields, *phrase.constants):
                    lines[field] = Place(self.file, statement.line)
                self.inside(statement, phrase, claimed, inherited, target, lines, path)
            else:
                makers.append((phrase, fields, claimed, statement))
        # A fact may inherit what a later neighbour sets, so facts come after all that adds to the block.
        scope = {**inherited, **target} if target is not None else inherited
        for phrase, fields, claimed, statement in makers:
            self.make(phrase, fields, claimed, statement, scope, path)

    def find(self, statement: Statement, block: Block) -> tuple[Phrase, Fields, list[Statement]] | None:
        """Return the first phrase that a statement is, its fields, and the statements that met its conditions."""
        word = statement.text.split(None, 1)[0] if statement.text else ""
        for phrase in block.by_word.get(word, block.loose):
            if statement.children is not None and phrase.block is None and not phrase.aside:
                continue
            fields = phrase.pattern.read(statement.text)
            if fields is None:
                continue
            claimed = []
            for condition, _ in phrase.conditions:
                for child in statement.children or ():
                    more = condition.read(child.text)
                    if more is not None:
                        fields.update(more)
                        claimed.append(child)
                        break
                else:
                    break
            if len(claimed) == len(phrase.conditions):
                return phrase, fields, claimed
        return None

    def inside(
        self, statement: Statement, phrase: Phrase, claimed: list[Statement],
        inherited: Fields, target: Fields | None, lines: Lines, path: tuple[str, ...],
    ) -> None:  # fmt: skip
        if statement.children and phrase.block is not None:
            rest = [child for child in statement.children if child not in claimed] if claimed else statement.children
            self.block(rest, phrase.block, inherited, target, lines, (*path, statement.text))

    def make(
        self, phrase: Phrase, fields: Fields, claimed: list[Statement], statement: Statement,
        scope: Fields, path: tuple[str, ...],
    ) -> None:  # fmt: skip
        kind = phrase.makes
        if kind is None:
            self.inside(statement, phrase, claimed, {**scope, **fields}, None, {}, path)
            return
        if scope:
            fields = {**{name: value for name, value in scope.items() if name in kind.traits}, **fields}
        if phrase.constants:
            fields.update(phrase.constants)
        lines: Lines = {}
        if statement.children:
            lines = {field: Place(self.file, statement.line) for field in fields}
            before = len(self.leftovers), self.left
            self.inside(statement, phrase, claimed, scope, fields, lines, path)
            if not kind.key and len(self.leftovers) > before[0]:
                # One member that is not understood can change what all the others mean.
                unknown = self.leftovers[before[0]].text
                del self.leftovers[before[0] :]
                self.left = before[1]
                self.leave(statement, path, f"{unknown!r} in it is not understood")
                return
        if kind.key:
            self.merge(kind.name, kind.key, fields, lines, statement.line)
            return
        try:
            combine(fields)
            fact = kind.record(**fields, place=Place(self.file, statement.line, lines or None))
        except (TypeError, ValueError) as error:
            self.leave(statement, path, f"it does not say enough: {error}")
            return
        self.single.setdefault(kind.name, []).append(fact)

    def merge(self, name: str, key: str, fields: Fields, lines: Lines, line: int) -> None:
        """Add to the fact that several statements describe together."""
        known, places = self.keyed.setdefault((name, fields.get(key, "")), ({}, {}))
        for field, value in fields.items():
            known[field] = value
            places.setdefault(field, lines.get(field, Place(self.file, line)))
            if field != key:
                places[field] = lines.get(field, Place(self.file, line))

    def leave(self, statement: Statement, path: tuple[str, ...], reason: str = "") -> None:
        reasons = (reason,) if reason else ()
        place = Place(self.file, statement.line)
        if statement.text == ENTRY:
            # An entry of a document has no line of its own to show: it is left over as a whole.
            self.left += sum(1 for _ in statement.walk())
            summary = ", ".join(each.text for each in statement.children or () if each.children is None)
            self.leftovers.append(Leftover(place, summary, path, *reasons))
            return
        self.left += 1
        self.leftovers.append(Leftover(place, statement.text, path, *reasons))
        for child in statement.children or ():
            self.leave(child, (*path, statement.text), "it stands in a block that was not understood")

    def finish(self) -> Facts:
        """Return all facts, those of several statements put together."""
        facts: Facts = {name: list(members) for name, members in self.single.items()}
        for (name, _), (fields, places) in self.keyed.items():
            kind = FACTS[name]
            line = places[kind.key].line if kind.key in places else 0
            fact: Fact = kind.record(**fields, place=Place(self.file, line, places))
            facts.setdefault(name, []).append(fact)
        return facts
