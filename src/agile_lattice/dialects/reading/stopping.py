"""Where a statement that was not recognised stops fitting, and what would have fitted there.

Every element of a phrase is settled by itself (see `patterns`), so phrases are tried once more element by element; the
one that fits the most words is most likely what was meant.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from difflib import get_close_matches
from functools import lru_cache

import msgspec

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.field_types import described
from agile_lattice.dialects.grammar import DROPPED, PASSED, AnyOrder, Choice, Element, Hole, Maybe, Word
from agile_lattice.dialects.kinds import Kind
from agile_lattice.dialects.patterns import (
    END,
    NOT_OF_KIND,
    SPACE,
    Compiler,
    Pattern,
    kind_of,
    reserved_pattern,
    takes_words,
)
from agile_lattice.dialects.surfaces import ENTRY, Statement

SHOWN = 6  # what would fit, at most
PHRASES = 200  # that are tried for one statement


class Stop(msgspec.Struct, frozen=True):
    """Where a statement stops fitting.

    Attributes:
        at: Where in it, counted from 0.
        word: What stands there; empty for its end.
        reason: What is wrong, in words.
    """

    at: int
    word: str
    reason: str


def stop_of(statement: Statement, block: Block) -> Stop | None:
    """Return where a statement stops fitting all phrases of a block; `None` if there is nothing to say of it."""
    if statement.text == ENTRY:
        return None
    tried = Tried(statement.text)
    whole = [
        each for each in block.candidates(statement.text)[:PHRASES]
        if each.pattern.read(statement.text) is not None or tried.phrase(each.pattern)
    ]  # fmt: skip
    if not whole:
        return tried.stop(block)
    # Its head is that of some phrases: what counts is what stands inside.
    missing = min((_missing(each, statement) for each in whole), key=len)
    if missing:
        return Stop(0, "", f"not recognised: it wants `{missing[0]}` inside")
    more = "nothing" if not any(each.conditions for each in whole) else "nothing else"
    return Stop(0, "", f"not recognised: {more} can stand inside this statement")


def _missing(phrase: Phrase, statement: Statement) -> list[str]:
    """Return the conditions of a phrase that nothing inside a statement meets, as a dialect file has them."""
    return [
        condition.text.replace("\\", "")
        for condition, _ in phrase.conditions
        if not any(condition.matched(each.text) for each in statement.children or ())
    ]


class Tried:
    """How far phrases fit a statement, and what would have fitted where the furthest stopped."""

    def __init__(self, text: str) -> None:
        self.text = f" {text}"  # as phrases are matched: with a space in front
        self.furthest = 0
        self.wanted: dict[str, None] = {}

    def phrase(self, pattern: Pattern) -> bool:
        """Try a phrase; tell whether it fits the whole statement."""
        self._pattern, self._noting = pattern, True
        end = self._run(pattern.elements, 0, SPACE, False)
        if end is not None and end < len(self.text):
            self._note(end, "its end")
        return end == len(self.text)

    def stop(self, block: Block) -> Stop | None:
        """Return where the furthest phrase stopped."""
        rest = self.text[self.furthest :]
        word = rest.split()[0] if rest.split() else ""
        at = max(self.furthest + len(rest) - len(rest.lstrip()) - 1, 0)
        if self.furthest == 0:
            near = get_close_matches(word, [each for each in block.by_word if each not in ("", word)], 1)
            more = f"; did you mean {near[0]!r}?" if near else ""
            return Stop(at, word, f"not recognised: no statement here begins with {word!r}{more}")
        few = list(self.wanted)[:SHOWN]
        more = " or something else" if len(self.wanted) > SHOWN else ""
        where = f"from {word!r} on" if word else "at its end"
        return Stop(at, word, f"not recognised {where}: expected {' or '.join(few)}{more}")

    def _note(self, at: int, wanted: str) -> None:
        if not self._noting:
            return  # what takes any words says nothing of how far a phrase fits
        if at > self.furthest:
            self.furthest, self.wanted = at, {}
        if at == self.furthest:
            self.wanted[wanted] = None

    def _run(self, body: Sequence[Element], at: int, space: str, glued: bool) -> int | None:
        """Return where elements end that begin at a place; `None` if they do not fit."""
        follow = [*(each.glued for each in body[1:]), glued]
        for index, each in enumerate(body):
            before = space if index == 0 else "" if each.glued else SPACE
            found = self._element(each, at, before, follow[index])
            if found is None:
                return None
            at = found
        return at

    def _element(self, element: Element, at: int, space: str, glued: bool) -> int | None:
        if isinstance(element, Word | Hole):
            return self._leaf(element, at, space, glued)
        if isinstance(element, Maybe):
            end = self._run(element.body, at, space, glued)
            return at if end is None else end
        if isinstance(element, Choice):
            ends = (self._run(body, at, space, glued) for body in element.bodies)
            return next((end for end in ends if end is not None), None)
        return self._any_order(element, at, space, glued)

    def _any_order(self, element: AnyOrder, at: int, space: str, glued: bool) -> int:
        left = list(element.bodies)
        while left:
            taken = next(
                ((body, end) for body in left if (end := self._run(body, at, space, glued)) not in (None, at)), None
            )
            if taken is None or taken[1] is None:
                return at
            left.remove(taken[0])
            at = taken[1]
        return at

    def _leaf(self, element: Word | Hole, at: int, space: str, glued: bool) -> int | None:
        kinds = self._pattern.kinds
        end = "" if glued else END
        if isinstance(element, Word):
            found = _compiled(space, re.escape(element.text), end).match(self.text, at)
            words = [f"{element.text!r}"]
        else:
            kind = kind_of(element, kinds)
            expression = Compiler(kinds, reserved_pattern(self._pattern.elements), SPACE).pattern(element)
            found = _compiled(space, expression, end).match(self.text, at)
            if found is not None and element.field not in (DROPPED, PASSED) and not _reads(kind, found[1]):
                found = None
            words = list(_said(element, kind.words, described((kind.gives,))))
        if found is None:
            for each in words:
                self._note(at, each)
            return None
        if isinstance(element, Hole) and takes_words(kind_of(element, kinds)):
            self._noting = False
        return found.end()


def _reads(kind: Kind, text: str) -> bool:
    try:
        kind.read(text)
    except NOT_OF_KIND:
        return False
    return True


def _said(hole: Hole, words: object, holds: str) -> Iterator[str]:
    """Yield what a placeholder takes, in words."""
    if isinstance(words, dict):
        yield from (f"{each!r}" for each in words.values())
    else:
        yield f"{holds if holds != 'NoneType' else 'a name'} ({hole.field.replace('_', ' ')})"


@lru_cache(1024)
def _compiled(space: str, expression: str, end: str) -> re.Pattern[str]:
    return re.compile(f"{space}({expression}){end}")
