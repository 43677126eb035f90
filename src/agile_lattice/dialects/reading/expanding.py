"""Statements that stand for several, or for other words: with names for words, or with collections in them.

A form says how its texts write these. What is expanded is only read; it keeps its line.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial

import msgspec

from agile_lattice.dialects.expressions import ungrouped
from agile_lattice.dialects.reading.members import MOST, MOST_LETTERS, Declared, Joined, Mapped, Parting, put_in_place
from agile_lattice.dialects.reading.spelling import InTurn, Spelled, in_turn, respelled
from agile_lattice.dialects.surfaces import Statement, rewritten

QUOTED = re.compile(r'"[^"]*"')


class Named(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    r"""Words that a name stands for.

    Attributes:
        stands: The statement that gives words a name, as a regular expression with a group for the name and one for
            the words: `define (\w+) = (.+)`.
        used: How the name is used, `%` being the name: `$%`.
        means: What that stands for, `%` being the words.
    """

    stands: str
    used: str
    means: str = "%"

    @property
    def mark(self) -> str:
        """What stands beside a name that is used, and tells it from other words; empty if nothing does."""
        return self.used.strip("%")

    @property
    def uses(self) -> str:
        """A regular expression for its uses, with a group for the name."""
        return r"(?<!\w)" + re.escape(self.used).replace("%", r"(\w+)")


class Expansion(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What stands for several statements, or for other words.

    Attributes:
        named: What gives words a name, and how that is used.
        spelled: Other spellings of what the phrases know, each put in place behind the one before it.
        in_turn: What a statement may go on behind, if it may.
        includes: Whether a line `include "FILE"` stands for what that file says.
        maps: How maps are written.
        joined: How tests of several fields at once are written, if they are.
        apart: Fields of which a statement that names several values stands for one with each.
        declared: How collections are declared apart, if they are.
        each: What statements begin with that name what the block around them is about: with several names, the
            block is about each of them. Empty if there are none.
        several: What statements begin with that list several words: each stands for one with each of them.
    """

    named: tuple[Named, ...] = ()
    spelled: tuple[Spelled, ...] = ()
    in_turn: InTurn | None = None
    includes: bool = False
    maps: tuple[Mapped, ...] = ()
    joined: Joined | None = None
    apart: tuple[str, ...] = ()
    declared: Declared | None = None
    each: str = ""
    several: tuple[str, ...] = ()

    @property
    def expressions(self) -> tuple[str, ...]:
        """All regular expressions in it, without their groups."""
        fields = [self.joined.field] if self.joined else []
        turns = [self.in_turn.action, self.in_turn.ends] if self.in_turn else []
        grouped = [*turns, *(each.says for each in self.spelled), *(each.stands for each in self.named)]
        remarks = [self.declared.remarks] if self.declared and self.declared.remarks else []
        return (*(each.action for each in self.maps if each.action), *fields, *remarks, *map(ungrouped, grouped))


def with_names(statements: list[Statement], how: Expansion) -> list[Statement]:
    """Return statements with words in the place of names that stand for them; those without are the same objects."""
    return list(_Names(how.named).put_in(statements)) if how.named else statements


def unnamed(statements: Iterable[Statement], how: Expansion) -> Iterator[Statement]:
    """Yield statements with words that are used as names, and stand for nothing: a program refuses them."""
    uses = [(each.mark, re.compile(each.uses)) for each in how.named if each.mark]
    for each in statements if uses else ():
        if any(mark in each.text and use.search(QUOTED.sub("", each.text)) for mark, use in uses):
            yield each
        if each.children:
            yield from unnamed(each.children, how)


def expanded(statements: list[Statement], how: Expansion) -> list[Statement]:
    """Return statements with collections written out, and in one spelling; those that are so are the same objects."""
    if how.spelled:
        statements = respelled(statements, how.spelled)
    if how.each:
        statements = list(_about_each(statements, how.each))
    if how.several:
        statements = list(rewritten(statements, partial(_one_word_each, how.several)))
    if how.declared is not None:
        statements = list(put_in_place(statements, how.declared, how.joined.between if how.joined else "."))
    if how.maps or how.joined or how.apart:
        statements = list(Parting(how.maps, how.joined, how.apart).each(statements))
    return in_turn(statements, how.in_turn) if how.in_turn is not None else statements


def _one_word_each(begins: tuple[str, ...], statement: Statement) -> list[Statement] | None:
    start = next((start for start in begins if statement.text.startswith(start)), None)
    words = statement.text.removeprefix(start).split()[:MOST] if start else []
    return [Statement(f"{start}{word}", statement.line) for word in words] if len(words) > 1 else None


def _about_each(statements: Iterable[Statement], begins: str) -> Iterator[Statement]:
    """Yield a block for each of the names that it is about, and for each pattern among them."""
    for block in statements:
        naming = [each for each in block.children or () if each.text.startswith(begins) and each.children is None]
        names = [(name, each.line) for each in naming for name in each.text.removeprefix(begins).split()]
        if len(names) < 2 or any(name.startswith("!") for name, _ in names):
            yield block
            continue
        rest = [each for each in block.children or () if each not in naming]
        for name, line in names[:MOST]:
            yield Statement(block.text, block.line, [Statement(f"{begins}{name}", line), *rest])


def with_values(statements: Iterable[Statement], how: Expansion) -> dict[int, str]:
    """Return, by identity, what statements say that use names, with the words that these stand for in their place."""
    names = _Names(how.named)
    if how.named:
        list(names.put_in(statements))
    return names.texts


class _Names:
    """Puts what names stand for in their place.

    Args:
        named: What gives words a name, and how that is used.

    Attributes:
        texts: By identity of statements that use names, what they say then.
    """

    def __init__(self, named: Sequence[Named]) -> None:
        self.named = [(each, re.compile(each.stands)) for each in named]
        self.known: dict[Named, dict[str, str]] = {}
        self.texts: dict[int, str] = {}
        self.room = MOST_LETTERS

    def put_in(self, statements: Iterable[Statement]) -> Iterator[Statement]:
        """Yield statements with the words in place of names; those that only give names are left out.

        One that gives words a name that has some already stays: programs refuse it.
        """
        for each in statements:
            defined = self._defined(each)
            if defined is not None and defined[1] not in self.known.get(defined[0], {}):
                how, name, words = defined
                self.known.setdefault(how, {})[name] = how.means.replace("%", self._filled(words))
                continue
            text = self._filled(each.text)
            if text != each.text:
                self.texts[id(each)] = text
            children = None if each.children is None else list(self.put_in(each.children))
            same = text == each.text and children == each.children
            yield each if same else Statement(text, each.line, children)

    def _defined(self, statement: Statement) -> tuple[Named, str, str] | None:
        """Return what a statement names: by which way, the name, and the words."""
        if statement.children is None:
            for each, stands in self.named:
                found = stands.fullmatch(statement.text)
                if found is not None:
                    return each, found[1], found[2]
        return None

    def _filled(self, text: str) -> str:
        """Return a text with words in place of names; a name for which there is no more room stays."""
        for how, words in self.known.items():
            if how.mark in text:
                text = re.sub(how.uses, partial(self._words, words), text)
        return text

    def _words(self, words: Mapping[str, str], found: re.Match[str]) -> str:
        """Return what a name stands for: names of names can grow without end, and few letters say so."""
        told = words.get(found[1])
        if told is None or len(told) > self.room:
            return found[0]
        self.room -= len(told)
        return told
