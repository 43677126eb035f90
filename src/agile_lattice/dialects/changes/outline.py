"""Outlines: the statements of a configuration, and what each of them says."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

import msgspec

from agile_lattice.dialects.dialect import Dialect, Form, Phrase
from agile_lattice.dialects.fact_types import FactType
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.reading.texts import read_statements
from agile_lattice.dialects.reading.understanding import Trace
from agile_lattice.dialects.surfaces import Statement


class Node(msgspec.Struct):
    """A statement of a configuration.

    Attributes:
        statement: The statement.
        file: The text that it is in.
        phrase: The phrase that it is; `None` if it was not understood.
        kind: The kind of fact that it is, or says something of; `None` for neither.
        fields: What it says of the fact.
        fact: The fact, if it is a whole one by itself.
        head: Whether it belongs to the head of the block that it stands in.
        children: What stands inside; `None` if it is no block. Of what was not understood nothing is known.
    """

    statement: Statement
    file: str
    phrase: Phrase | None
    kind: FactType | None
    fields: dict[str, Any]
    fact: Fact | None
    head: bool
    children: list[Node] | None

    @property
    def fixed(self) -> bool:
        """Whether it is not ours to change: it was not understood, is passed over, or belongs to a head."""
        return self.phrase is None or self.phrase.aside or self.head

    @property
    def around(self) -> bool:
        """Whether it is a fact around others, each of which is so by itself: a device around all that it has."""
        device = self.kind is not None and self.kind.holds and self.kind.section is None
        return device and self.fact is not None and self.children is not None

    @property
    def slot(self) -> object:
        """What two statements have in common of which the second takes the place of the first."""
        phrase, kind = self.phrase, self.kind
        assert phrase is not None
        if phrase.always:
            return "always", id(phrase)
        if phrase.same:
            return "same", kind and kind.name, *(self.value_of(name) for name in phrase.same)
        if self.around and kind is not None:
            return "around", kind.name
        if self.fact is not None and kind is not None:
            return "fact", kind.name, self.fact
        if phrase.makes is not None and kind is not None:
            name = self.fields.get(kind.key)
            return ("block" if self.children is not None else "setting"), kind.name, name, *self._said(kind.key)
        if self.children is not None:
            return "holder", id(phrase), *self.fields.items()
        return "setting", *self._said("")

    def _said(self, key: str) -> tuple[str, ...]:
        return () if self.children is not None else tuple(sorted(name for name in self.fields if name != key))

    def value_of(self, name: str) -> Any:
        """Return the value of a field of its fact."""
        return getattr(self.fact, name) if self.fact is not None else self.fields.get(name)

    @property
    def says_default(self) -> bool:
        """Whether it adds to its block only what holds anyhow if nothing is said."""
        if self.kind is None or self.phrase is None or self.phrase.makes is not None or self.children is not None:
            return False
        defaults = self.kind.defaults
        return bool(self.fields) and all(
            name in defaults and defaults[name] == value for name, value in self.fields.items()
        )

    def says_as(self, other: Node) -> bool:
        """Tell whether it says the same as another of its slot, apart from what stands inside."""
        if self.fact is not None or other.fact is not None:
            return self.fact == other.fact
        return self.fields == other.fields


def outline(
    dialect: Dialect, form: Form, texts: Iterable[tuple[str, str]], unheld: Collection[tuple[str, int]] = ()
) -> list[Node]:
    """Return the outline of a configuration: of all its texts, one after the other.

    Args:
        dialect: The dialect.
        form: One of its forms.
        texts: File name and text of each.
        unheld: File and line of statements that say what the model cannot hold: they are as if not understood.
    """
    nodes: list[Node] = []
    for file, text in texts:
        statements = form.surface.parse(text, file)
        trace: Trace = {}
        read_statements(dialect, form, statements, file, trace)
        if unheld:
            _forget(statements, trace, {line for name, line in unheld if name == file})
        nodes += [_node(each, file, trace, None) for each in statements]
    return nodes


def _forget(statements: Iterable[Statement], trace: Trace, lines: Collection[int]) -> None:
    for each in statements:
        known = trace.get(id(each))
        if each.line in lines and known is not None and known.fact is not None:
            del trace[id(each)]
        _forget(each.children or (), trace, lines)


def _node(statement: Statement, file: str, trace: Trace, owner: FactType | None) -> Node:
    known = trace.get(id(statement))
    if known is None:
        return Node(statement, file, None, None, {}, None, False, None)
    kind = known.phrase.makes or (None if known.phrase.always else owner)
    children = None
    if statement.children is not None and not known.phrase.aside:
        children = [_node(each, file, trace, kind) for each in statement.children]
    return Node(statement, file, known.phrase, kind, known.fields, known.fact, known.head, children)
