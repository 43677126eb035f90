"""Facts of entries that were cut out of a long list, by the example that stays in the text.

What the example says is worked out statement by statement: the phrase that each is, and a mould of it, in which the
values of all the other entries are read, column by column. Where another entry could be something else than the
example, in any of its statements, nothing is made of any of them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from itertools import repeat, takewhile
from typing import Any, cast

from agile_lattice.dialects.dialect import Phrase
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.moulds import Column, facts_of, few_of, mould_of
from agile_lattice.dialects.patterns import NOT_OF_KIND, Pattern
from agile_lattice.dialects.reading.finding import Fields, Found, find
from agile_lattice.dialects.surfaces import Alike, Statement
from agile_lattice.intent.places import Offsets, Place


class NotAlikeError(Exception):
    """Of entries that are laid out alike, some could mean something else."""


def repeated(found: Found, fact: Fact, inherited: Fields, alike: Alike) -> list[Fact]:
    """Make facts of entries that are laid out as an example, without the example's own.

    Args:
        found: The example.
        fact: What it says.
        inherited: What the statements around it say.
        alike: The entries.

    Raises:
        NotAlikeError: If some could be something else.
    """
    values = _values(found.statement)
    if len(values) != len(alike.columns):
        raise NotAlikeError
    columns = _Columns(fact.place.file, dict(zip(map(id, values), alike.columns, strict=True)))
    known = found.phrase.makes.fields if found.phrase.makes is not None else ()
    columns.same({name: value for name, value in inherited.items() if name in known})
    columns.take(found, ())
    try:
        example, *others = facts_of(type(fact), columns.fields, {}, _places(fact.place, alike))
    except (KeyError, TypeError, *NOT_OF_KIND):  # what is said in parts is no field yet
        raise NotAlikeError from None
    if example != fact:
        raise NotAlikeError
    return others


def _values(statement: Statement) -> list[Statement]:
    """Return the statements inside one that have values, in their order."""
    if statement.children is None:
        return [statement]
    return [value for child in statement.children for value in _values(child)]


def _places(example: Place, alike: Alike) -> list[Place]:
    """Return where facts stand, each with its parts, as the example has them."""
    first = alike.lines[0]
    lines = [each + example.line - first for each in alike.lines]
    offsets = {part: each.line - first for part, each in (example.parts or {}).items()}
    if not offsets:
        return [*map(Place, repeat(example.file), lines)]
    parts = map(Offsets, repeat(example.file), alike.lines, repeat(offsets))
    return [*map(Place, repeat(example.file), lines, cast(Iterable[Mapping[str | int, Place]], parts))]


class _Columns:
    """Values of entries, field by field.

    Args:
        file: Where they stand.
        values: How each value is spelt in them, by the identity of its statement in the example, which is the first.

    Attributes:
        fields: The values of each field.
    """

    def __init__(self, file: str, values: dict[int, Column]) -> None:
        self.file, self.values = file, values
        self.fields: dict[str, Iterable[Any]] = {}

    def same(self, fields: Mapping[str, Any]) -> None:
        """Add fields that are the same in all entries."""
        self.fields.update({name: repeat(value) for name, value in fields.items()})

    def take(self, found: Found, refused: Sequence[Pattern]) -> None:
        """Add what a statement says, and what stands inside it, in the order in which a reader does.

        Args:
            found: The statement, as it is in the example.
            refused: What it must not be in other entries, besides what its block tries earlier.
        """
        phrase, statement = found.phrase, found.statement
        earlier = [*takewhile(lambda each: each is not phrase, found.block.candidates(statement.text))]
        if statement.children is None:
            refused = [*refused, *[each.pattern for each in earlier if not each.conditions]]
            self.read(phrase.pattern, statement, refused, counts=not phrase.aside)
            self.same({} if phrase.aside else phrase.constants)
        else:
            self.same(phrase.pattern.read(statement.text) or {})
            self.inside(found, statement.children, [_unmet(each, statement) for each in earlier])

    def inside(self, found: Found, children: Sequence[Statement], unmet: Sequence[Pattern | None]) -> None:
        """Add what the statements of a block say."""
        phrase = found.phrase
        refused: dict[int, list[Pattern]] = defaultdict(lambda: [each for each in unmet if each is not None])
        left = [*children]
        for condition, _ in phrase.conditions:
            for child in left:
                if condition.read(child.text) is not None:
                    left.remove(child)
                    self.read(condition, child, refused[id(child)])
                    break
                refused[id(child)].append(condition)
        self.same(phrase.constants)
        for child in left:
            inner = find(child, phrase.block, self.file) if phrase.block is not None else None
            if (
                inner is None
                or inner.phrase.makes is not None
                or (inner.phrase.aside and inner.phrase.block is not None)
            ):
                raise NotAlikeError
            if not inner.phrase.aside or child.children is None:  # what stands in a block that is passed over is, too
                self.take(inner, refused[id(child)])

    def read(self, pattern: Pattern, statement: Statement, refused: Sequence[Pattern], counts: bool = True) -> None:
        """Add what one statement says, in all entries.

        Args:
            pattern: The phrase that it is.
            statement: The statement, as it is in the example.
            refused: What it must not be.
            counts: Whether it says anything.
        """
        if statement.children is not None:
            self.same(pattern.read(statement.text) or {})
            return
        column = self.values[id(statement)]
        found = pattern.matched(statement.text)
        mould = mould_of(pattern, found, refused) if found is not None else None
        if mould is None:
            raise NotAlikeError
        once = few_of(column)
        spellings = once or column
        name = " " + statement.text.removesuffix(column[0])
        rows = mould.lines(name + f"\n{name}".join(spellings))
        if len(rows) != len(spellings):
            raise NotAlikeError
        try:
            for field, values in mould.fields([*zip(*rows, strict=True)]).items() if counts else ():
                self.fields[field] = (
                    values if once is None else map(dict(zip(once, values, strict=True)).__getitem__, column)
                )
        except NOT_OF_KIND:
            raise NotAlikeError from None


def _unmet(phrase: Phrase, statement: Statement) -> Pattern | None:
    """Return a condition of a phrase that nothing in a statement meets; None if it cannot be that phrase anyhow.

    Raises:
        NotAlikeError: If there is no such condition.
    """
    children = statement.children or ()
    if (phrase.block is None and not phrase.aside) or phrase.pattern.read(statement.text) is None:
        return None
    for condition, _ in phrase.conditions:
        if all(condition.read(each.text) is None for each in children):
            return condition
    raise NotAlikeError
