"""What is said beside a fact, in the block of its statement, of something else: a gateway in the stanza of an address.

A dialect writes such things in a block of their own, and people write them where they like. What is said is said: it is
not written a second time, and it goes from where it stands.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.changes.outline import Node


class Saying(msgspec.Struct, frozen=True):
    """Something that a statement says by itself.

    Attributes:
        kind: The kind of fact.
        of: The fact; for one that several statements describe, what tells it from others of its kind.
        field, value: What is said of it; nothing if it is the whole fact.
    """

    kind: str
    of: Any
    field: str = ""
    value: Any = None


def sayings(nodes: Iterable[Node], owner: Node | None = None) -> Iterator[tuple[Node, set[Saying]]]:
    """Yield all statements that say something, those inside others too, with what each says."""
    for node in nodes:
        kind = node.kind
        if node.fact is not None and kind is not None:
            yield node, {Saying(kind.name, node.fact)}
        elif kind is not None and kind.key:
            of = node.fields.get(kind.key, owner.fields.get(kind.key) if owner is not None else None)
            yield node, {Saying(kind.name, of, *field) for field in node.fields.items() if field[0] != kind.key}
        yield from sayings(node.children or (), node)


def beside(node: Node) -> Iterator[tuple[Node, set[Saying]]]:
    """Yield the statements inside one that is a fact that say something else, with what that is."""
    if node.fact is not None:
        for each, said in sayings(node.children or (), node):
            if not each.fixed and each.phrase is not None and each.phrase.makes is not None:
                yield each, said


def holds_others(node: Node) -> bool:
    """Tell whether something stands inside a statement that is a fact which is not of that fact."""
    return node.fact is not None and any(
        not each.head and (each.fixed or (each.phrase is not None and each.phrase.makes is not None))
        for each in node.children or ()
    )


def without(nodes: Sequence[Node], said: Collection[Saying]) -> list[Node]:
    """Return statements without those that say nothing but what is said already, and without blocks of only such."""
    what_of = {id(node): what for node, what in sayings(nodes)}
    spoken_of = {(each.kind, each.of) for each in said}

    def is_told(node: Node) -> bool:
        defaults = node.kind.defaults if node.kind is not None else {}
        what = what_of.get(id(node), set())
        # What says nothing but defaults is still what says that there is such a thing.
        return any((each.kind, each.of) in spoken_of for each in what) and all(
            each in said or (each.field in defaults and defaults[each.field] == each.value) for each in what
        )

    def left(node: Node) -> Node | None:
        if node.children is None or node.fact is not None:
            return None if is_told(node) else node
        inside = [each for each in map(left, node.children) if each is not None]
        if len(inside) == len(node.children):
            return node
        if not inside and is_told(node):
            return None
        statement = replace(node.statement, children=[each.statement for each in inside])
        return replace(node, statement=statement, children=inside)

    return [kept for kept in map(left, nodes) if kept is not None]
