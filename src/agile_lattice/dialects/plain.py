"""Plain statements, of which most of a long text is: each is a whole fact by itself. It must be quick."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from operator import attrgetter

import msgspec

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.moulds import Maker
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.patterns import NOT_OF_KIND, Match
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.places import Place

MOULDS = 6  # in how many a line is tried before all phrases are


def all_but_plain(statements: Iterable[Statement], block: Block, file: str, facts: Facts) -> Iterator[Statement]:
    """Make facts of plain statements; yield the others in turn.

    A line is first tried in moulds of those before it.

    Args:
        statements: Those of a block that makes no fact, and of which facts inside take over nothing.
        block: The phrases that they can be.
        file: The name of the text.
        facts: By kind; gets those that are made.
    """
    known: list[_Known] = []
    for statement in statements:
        if statement.children is not None:
            yield statement
            continue
        text = " " + statement.text
        try:
            for each in known:
                found = each.match(text)
                if found is not None:
                    each.keep(each.make(Place(file, statement.line), *found.groups()))
                    each.hits += 1
                    if each is not known[0] and each.hits > known[0].hits:
                        known.sort(key=_hits, reverse=True)
                    break
            else:
                again = _moulded(statement, block, file, facts)
                if again is not None and all(again.match is not each.match for each in known):
                    known = [*known[: MOULDS - 1], again]
        except (*NOT_OF_KIND, _NotPlain):
            yield statement


class _Known(msgspec.Struct, eq=False):
    """The mould of some lines before, what keeps its facts, and how many lines it understood."""

    match: Match
    make: Maker
    keep: Callable[[Fact], None]
    hits: int = 0


_hits = attrgetter("hits")


def _moulded(statement: Statement, block: Block, file: str, facts: Facts) -> _Known | None:
    """Make the fact that a statement is by itself; return a mould for the next one, if there is one.

    Raises:
        _NotPlain: If it is none.
        ValueError, OSError, KeyError: If only its form is right.
    """
    phrase, found = _first_match(statement.text, block)
    if phrase is None or found is None or phrase.moulds is None:
        raise _NotPlain
    keep = facts[phrase.kind].append
    keep(phrase.moulds.make(Place(file, statement.line), *found.groups()))
    mould = phrase.moulds.of(found)
    return _Known(mould.match, mould.make, keep) if mould is not None else None


class _NotPlain(Exception):
    """A statement is not a whole fact by itself."""


def _first_match(text: str, block: Block) -> tuple[Phrase | None, re.Match[str] | None]:
    """Return the first phrase of a block that a statement has the form of."""
    for phrase in block.by_word.get(text.partition(" ")[0], block.loose):
        found = phrase.pattern.usual(" " + text) or phrase.pattern.match(" " + text)
        if found is not None:
            return phrase, found
    return None, None
