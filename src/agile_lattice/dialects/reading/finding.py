"""Which phrase a statement is."""

from __future__ import annotations

from typing import Any

import msgspec

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.places import Place

Fields = dict[str, Any]
Lines = dict[str | int, Place]


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


def find(statement: Statement, block: Block, file: str) -> Found | None:
    """Return the first phrase of a block that a statement is; None if it is none of them."""
    text, children = statement.text, statement.children
    for phrase in block.candidates(text):
        closed = phrase.block is None and not phrase.aside  # nothing stands inside but what meets its conditions
        if children is not None and closed and not phrase.conditions:
            continue
        fields = phrase.pattern.read(text)
        if fields is None:
            continue
        if not phrase.conditions:
            return Found(statement, phrase, block, fields, {}, children or [])
        found = _meet(Found(statement, phrase, block, fields, {}, list(children or ())), file)
        if found is not None and not (closed and found.rest):
            return found
    return None


def _meet(found: Found, file: str) -> Found | None:
    """Look for statements inside that meet the conditions of a phrase; None if one is not met."""
    for condition, _ in found.phrase.conditions:
        for child in found.rest:
            if child.children or not child.text.startswith(condition.first):
                continue  # a condition takes a statement away, and must not take what stands inside it
            more = condition.read(child.text)
            if more is not None:
                found.fields.update(more)
                found.places.update(dict.fromkeys(more, Place(file, child.line)))
                found.rest.remove(child)
                break
        else:
            return None
    return found
