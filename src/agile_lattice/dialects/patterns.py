"""Phrases compiled for reading: one regular expression each, and a reader per hole.

Every element brings the space before it, so a statement is matched with one space in
front. A hole of a bare kind never takes a fixed word of its own phrase: an interface
called `metric` is not an interface here.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from functools import cached_property, lru_cache
from typing import Any

from agile_lattice.dialects.expressions import is_long, takes
from agile_lattice.dialects.grammar import (
    DROPPED,
    PASSED,
    AnyOrder,
    Choice,
    Element,
    Hole,
    Maybe,
    Word,
    holes_of,
    words_of,
)
from agile_lattice.dialects.kinds import Kind
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.packets.spans import meet

SPACE = r"[ \t]+"
END = r"(?![^ \t])"  # nothing but a space or the end follows
HoleReader = tuple[str, Callable[[str], Any]]
Match = Callable[[str], "re.Match[str] | None"]
NOT_OF_KIND = (ValueError, OSError, KeyError)  # what reading a value can raise if only its form was right


class Pattern:
    """A phrase, ready to read.

    Its expressions are compiled when they are first needed: a dialect has many of them, and a text needs few.

    Args:
        elements: The phrase.
        kinds: What its holes may be.
        text: As it stands in the dialect file, for messages.

    Attributes:
        elements, kinds, text: As given.
        holes: Per group of a match: the field (with its part), and how its text is read; a group
            that marks an element in any order is `None`.
        start: What every statement of this phrase begins with; empty if that differs.
        firsts: The words of which every statement of this phrase has one as its first; empty if there are others.

    Raises:
        ValueError: If the phrase names a kind that there is not.
    """

    def __init__(self, elements: tuple[Element, ...], kinds: Mapping[str, Kind], text: str = "") -> None:
        self.elements, self.kinds, self.text = elements, kinds, text
        self._reserved = reserved_pattern(elements)
        whole = Compiler(kinds, self._reserved, SPACE)
        self._whole = whole.run(elements, SPACE)
        self.holes = tuple(whole.holes)
        self.start = elements[0].text if elements and isinstance(elements[0], Word) else ""
        self.firsts = first_words(elements)

    @cached_property
    def match(self) -> Match:
        """Matches the whole statement with a space in front."""
        return re.compile(self._whole).fullmatch

    @cached_property
    def usual(self) -> Match:
        """As `match`, with the same groups, but only what is spelt as it would be written; that is quick."""
        # What takes several words would take those that only stand in another order.
        in_order = not (
            any(isinstance(each, AnyOrder) for each in self.elements)
            and any(takes(kind_of(each, self.kinds).pattern, " ") for each in holes_of(self.elements))
        )
        return re.compile(Compiler(self.kinds, self._reserved, " ", in_order).run(self.elements, " ")).fullmatch

    def may_begin(self, word: str) -> bool:
        """Tell whether a statement of this phrase can have a first word."""
        return word in self.firsts if self.firsts else word.startswith(self.start)

    def matched(self, statement: str) -> re.Match[str] | None:
        """Match a statement, the usual way first."""
        return self.usual(" " + statement) or self.match(" " + statement)

    def read(self, statement: str) -> dict[str, Any] | None:
        """Return the fields that a statement gives, or None if it is not one of this phrase."""
        found = self.matched(statement)
        if found is None:
            return None
        try:
            # This is hot: every line of a text comes by. A group that only marks something is empty.
            values = [(hole[0], hole[1](text)) for text, hole in zip(found.groups(), self.holes) if text and hole]  # noqa: B905
        except NOT_OF_KIND:
            # The form was right and the value was not: 10.0.0.999, a port above 65535.
            return None
        fields = dict(values)
        return fields if len(fields) == len(values) else _said_twice(values)


def _said_twice(values: Sequence[tuple[str, Any]]) -> dict[str, Any] | None:
    """Return fields of which some are said twice: of sets, what both hold; None if neither value may be lost."""
    fields: dict[str, Any] = {}
    for name, value in values:
        before = fields.get(name, value)
        if before != value and name != PASSED:
            value = _common(before, value)
            if value is None:
                return None
        fields[name] = value
    return fields


def _common(one: Any, other: Any) -> Any:
    """Return what two sets have in common; None if they are not two of one kind."""
    match one, other:
        case AddressSet(), AddressSet() if one.family == other.family:
            return AddressSet(one.family, meet(one.spans, other.spans))
        case ((int(), int()), *_), ((int(), int()), *_):
            return meet(one, other)
    return None


def first_words(elements: tuple[Element, ...]) -> frozenset[str]:
    """Return the words with which alone statements begin; empty if they may begin otherwise."""
    if not elements or (len(elements) > 1 and elements[1].glued):
        return frozenset()
    first = elements[0]
    if isinstance(first, Word):
        return frozenset([first.text])
    if not isinstance(first, Choice):
        return frozenset()
    ways = [first_words(body) for body in first.bodies]
    return frozenset().union(*ways) if all(ways) else frozenset()


def reserved_pattern(elements: tuple[Element, ...]) -> str:
    """Return a lookahead that refuses the fixed words of a phrase; empty if it has none."""
    words = sorted({word for word in words_of(elements) if word.isidentifier()})
    return rf"(?!(?:{'|'.join(words)})(?!\S))" if words else ""


def kind_of(hole: Hole, kinds: Mapping[str, Kind]) -> Kind:
    """Return the kind of a hole.

    Raises:
        ValueError: If there is no such kind.
    """
    if hole.kind not in kinds:
        raise ValueError(f"there is no type {hole.kind!r}; known are {', '.join(sorted(kinds))}")
    kind = kinds[hole.kind]
    return kind.listed() if hole.many else kind


def _takes_the_rest(kind: Kind) -> bool:
    """Tell whether a spelling is followed by any number of words as if they were part of it."""
    return is_long(kind.pattern) and takes_words(kind)


def takes_words(kind: Kind) -> bool:
    """Tell whether a spelling can be any words."""
    return _takes_words(kind.pattern)


@lru_cache(1024)
def _takes_words(pattern: str) -> bool:
    return any(re.fullmatch(pattern, text) for text in ("a a", "1 1"))


class Compiler:
    """Compiles elements to an expression.

    Attributes:
        holes: As in `Pattern`, of what is compiled so far.
    """

    def __init__(self, kinds: Mapping[str, Kind], reserved: str, space: str, in_order: bool = False) -> None:
        self.kinds = kinds
        self.reserved = reserved
        self.space = space  # what stands between two elements
        self.in_order = in_order  # what may stand in any order is wanted in the one in which it is written
        self.holes: list[HoleReader | None] = []

    def run(self, body: tuple[Element, ...], space: str, glued: bool = False) -> str:
        """Compile elements of which the first stands behind `space`, whatever it says itself.

        Args:
            body: The elements.
            space: What stands before the first.
            glued: Whether something follows the last without a space.
        """
        follow = [*(each.glued for each in body[1:]), glued]
        for each in body[:-1]:
            if isinstance(each, Hole) and _takes_the_rest(kind_of(each, self.kinds)):
                raise ValueError(
                    f"nothing can follow <{each.field}>: it takes everything up to the end of the statement"
                )
        return "".join(
            self.element(each, space if index == 0 else "" if each.glued else self.space, follow[index])
            for index, each in enumerate(body)
        )

    def element(self, element: Element, space: str, glued: bool = False) -> str:
        """Compile one element, which stands behind `space`.

        An element that ends where a word ends is settled once it is matched: it is never tried in another way because
        of what follows. So a statement takes time with its length, however many elements could share its words.
        """
        if isinstance(element, Word):
            return space + re.escape(element.text)
        if isinstance(element, Hole):
            text = space + self.hole(element)
            # What is short and takes no blank ends where one comes, or the end: there is little to try again.
            pattern = kind_of(element, self.kinds).pattern
            glued = glued or not (takes(pattern, " ") or is_long(pattern))
        elif isinstance(element, Maybe):
            return self.maybe(element, space, glued)
        elif isinstance(element, Choice):
            text = self.choice(element, space, glued)
        else:
            return self.any_order(element, space, glued)
        return text if glued else f"(?>{text}{END})"

    def maybe(self, element: Maybe, space: str, glued: bool) -> str:
        """Compile what may be missing."""
        text = self.run(element.body, space, glued)
        return f"(?:{text})?" if glued else f"(?>(?:{text}{END})?)"

    def choice(self, element: Choice, space: str, glued: bool) -> str:
        """Compile ways of which one is taken, the first if it can."""
        ways = [self.run(body, space, glued) + ("" if glued else END) for body in element.bodies]
        return f"(?:{'|'.join(ways)})"

    def pattern(self, hole: Hole) -> str:
        """Return what a hole takes."""
        kind = kind_of(hole, self.kinds)
        return f"{self.reserved}{kind.pattern}" if kind.bare else kind.pattern

    def hole(self, hole: Hole) -> str:
        """Compile a hole: a group, if its value counts."""
        if hole.field == DROPPED:
            return f"(?:{self.pattern(hole)})"
        if hole.field == PASSED:
            self.holes.append((PASSED, str))
            return f"({self.pattern(hole)})"
        field = f"{hole.field}.{hole.part}" if hole.part else hole.field
        self.holes.append((field, kind_of(hole, self.kinds).read))
        return f"({self.pattern(hole)})"

    def any_order(self, element: AnyOrder, space: str, glued: bool) -> str:
        """Compile what may stand in any order, each with a group that marks that it is there."""
        alternatives, end = [], "" if glued else END
        if self.in_order:
            for body in element.bodies:
                self.holes.append(None)
                alternatives.append(f"(?:(){self.run(body, space, glued)}{end})?")
            text = "".join(alternatives)
        else:
            for body in element.bodies:
                # An empty group remembers that this element was there; the conditional makes a second one fail.
                self.holes.append(None)
                mark = len(self.holes)
                alternatives.append(f"(?({mark})(?!)|(){self.run(body, space, glued)}{end})")
            text = f"(?:{'|'.join(alternatives)})*"
        return text if glued else f"(?>{text})"
