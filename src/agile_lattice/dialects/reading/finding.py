"""Which phrase a statement is."""

from __future__ import annotations

from typing import Any

import msgspec

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.patterns import Pattern
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.places import Place

Fields = dict[str, Any]
Lines = dict[str | int, Place]


Leaf = tuple[Phrase | None, Fields]


class Found(msgspec.Struct, gc=False):
    """A statement and the phrase that it is.

    Attributes:
        block: The phrases among which it was found.
        fields: What the statement gives, and the statements inside that met the phrase's conditions.
        places: Where the fields stand that those statements gave.
        rest: The other statements inside.
    """

    statement: Statement
    phrase: Phrase
    block: Block
    fields: Fields
    places: Lines
    rest: list[Statement]


class Finder:
    """Finds the phrases of the statements of one text; what it has read once it knows when the same words come again.

    Args:
        file: The name of the text.
    """

    def __init__(self, file: str) -> None:
        self._file = file
        self._known: dict[tuple[Pattern, str], Fields | None] = {}
        self._leaves: dict[tuple[int, str], Leaf] = {}

    def find(self, statement: Statement, block: Block) -> Found | None:
        """Return the first phrase of a block that a statement is; None if it is none of them."""
        text, children = statement.text, statement.children
        if children is None:
            phrase, fields = self.leaf(text, block)
            return Found(statement, phrase, block, fields.copy(), {}, []) if phrase is not None else None
        heads: set[str] = set()
        for phrase in block.candidates(text):
            closed = phrase.block is None  # nothing stands inside but what meets its conditions
            if closed and not phrase.conditions:
                continue
            if phrase.wanted:
                heads = heads or {each.text.partition(" ")[0] for each in children}
                if not phrase.may_hold(heads):
                    continue
            read = self._read(phrase.pattern, text)
            if read is not None:
                found = Found(statement, phrase, block, read.copy(), {}, [*children])
                if not phrase.conditions or (self._meet(found) and not (closed and found.rest)):
                    return found
        return None

    def leaf(self, text: str, block: Block) -> Leaf:
        """Return the first phrase that a statement is which opens no block, and what it gives."""
        try:
            return self._leaves[id(block), text]
        except KeyError:
            found = self._leaves[id(block), text] = self._leaf(text, block)
            return found

    def _leaf(self, text: str, block: Block) -> Leaf:
        for phrase in block.candidates(text):
            fields = None if phrase.conditions else phrase.pattern.read(text)
            if fields is not None:
                return phrase, fields
        return None, {}

    def _meet(self, found: Found) -> bool:
        """Look for statements inside that meet the conditions of a phrase; tell whether all are met."""
        for number, (condition, _) in enumerate(found.phrase.conditions):
            for child in found.rest:
                # A condition takes a statement away, and must not take more than it knows of what stands inside it.
                inside = found.phrase.insides.get(number)
                if not self._is_known(child, inside) if inside is not None else child.children:
                    continue
                more = self._read(condition, child.text)
                if more is not None:
                    found.fields.update(more)
                    found.places.update(dict.fromkeys(more, Place(self._file, child.line)))
                    found.rest.remove(child)
                    break
            else:
                return False
        return True

    def _is_known(self, statement: Statement, block: Block) -> bool:
        """Tell whether a statement is one of a block, and all that stands inside it."""
        found = self.find(statement, block)
        inside = found.phrase.block if found is not None else None
        return found is not None and (inside is None or all(self._is_known(each, inside) for each in found.rest))

    def _read(self, pattern: Pattern, text: str) -> Fields | None:
        key = pattern, text
        try:
            return self._known[key]
        except KeyError:
            found = self._known[key] = pattern.read(text)
            return found
