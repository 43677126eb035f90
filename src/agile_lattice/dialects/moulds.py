"""Moulds: a phrase with all its choices made, for reading, as a shape is one for writing.

Lines of one phrase differ in what they leave out and which of several ways they take, and neighbours seldom differ in
that. What one line chose is worked out once: an expression with nothing to choose between, and a maker of the fact with
nothing to ask. The lines that follow are tried in it first.

A mould never understands a line otherwise than its block does. An expression takes the first way that leads to the
end; where a mould leaves a way out that would be tried earlier, it looks ahead and refuses a line in which that way
begins, even if it would lead nowhere. In the same way it refuses what the phrases that stand before its own begin with.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from functools import partial
from itertools import repeat, takewhile
from typing import Any

import msgspec

from agile_lattice.dialects.grammar import AnyOrder, Choice, Element, Hole, Maybe, Word
from agile_lattice.dialects.kinds import each_once
from agile_lattice.dialects.patterns import SPACE, Compiler, HoleReader, Match, Pattern, kind_of, reserved_pattern
from agile_lattice.intent.places import Place

Maker = Callable[..., Any]
FactsMaker = Callable[[Sequence[Place], Sequence[tuple[str, ...]]], list[Any]]
SEEN_OFTEN = 8  # lines of one choice, before a mould is worth its making


class Mould(msgspec.Struct, frozen=True, eq=False):
    """What lines of one choice look like.

    Attributes:
        match: Matches a statement with a space in front.
        lines: Finds the groups of all lines of a text that are such statements.
        facts: Makes facts of places, and of a column for each group, field by field.
    """

    match: Match
    lines: Callable[[str], list[tuple[str, ...]]]
    facts: FactsMaker


class Moulds:
    """All moulds of a phrase whose statements are whole facts by themselves, field for field.

    Args:
        pattern: The phrase.
        record: The class of the facts.
        constants: Fields that the phrase sets by being there.
        before: The phrases that are tried earlier.

    Attributes:
        make: Makes a fact of a place and the groups of a match of the whole phrase.
    """

    def __init__(
        self,
        pattern: Pattern,
        record: type[Any],
        constants: Mapping[str, Any],
        before: Sequence[Pattern],
    ) -> None:
        self._pattern, self._record, self._constants = pattern, record, constants
        self._rivals = [each for each in before if not pattern.first or each.may_begin(pattern.first)]
        self._seen: Counter[tuple[bool, ...]] = Counter()
        self._known: dict[tuple[bool, ...], Mould | None] = {}
        fields, defaults = record.__struct_fields__, record.__struct_defaults__
        self._defaults = dict(zip(fields[::-1], defaults[::-1], strict=False))
        self.make = self._maker(pattern.holes)

    def of(self, found: re.Match[str]) -> Mould | None:
        """Return the mould of a line that was understood; None if such lines are few, or there can be none."""
        choice = tuple([group is not None for group in found.groups()])
        if choice not in self._known:
            self._seen[choice] += 1
            if self._seen[choice] < SEEN_OFTEN:
                return None
            mould = self._mould({group for group, there in enumerate(choice) if there})
            self._known[choice] = mould if mould is not None and mould.match(found.string) else None
        return self._known[choice]

    def _mould(self, present: Collection[int]) -> Mould | None:
        choices = _Choices(self._pattern, " ", present)
        try:
            expression = choices.run(self._pattern.elements, " ")
            rivals = [_Choices(each, SPACE, ()).opening(each.elements) for each in self._rivals]
        except _Undecided:
            return None
        refused = f"(?!{'|'.join(rivals)})" if rivals else ""
        # A group more, so that there are several: of one alone a list of texts would be found.
        lines = re.compile(f"^{refused}{expression}()()$", re.MULTILINE)
        return Mould(re.compile(refused + expression).fullmatch, lines.findall, self._facts_maker(choices.kept))

    def _maker(self, holes: Sequence[HoleReader | None]) -> Maker:
        """Return what makes a fact of groups of which some may have taken no part in the match."""
        readings: dict[str, str] = {}
        names: dict[str, Any] = {"record": self._record, "absent": _absent}
        for group, hole in enumerate(holes):
            if hole is not None:
                field, names[f"read{group}"] = hole
                readings[field] = f"{readings.get(field, '')}read{group}(g{group}) if g{group} is not None else "
        for field in readings:
            names[f"default_{field}"] = self._defaults.get(field)
            readings[field] += f"default_{field}" if field in self._defaults else "absent()"
        names |= {f"constant_{field}": value for field, value in self._constants.items()}
        arguments = [f"{field}={reading}" for field, reading in readings.items()]
        arguments += [f"{field}=constant_{field}" for field in self._constants]
        parameters = "".join(f", g{group}" for group in range(len(holes)))
        made = f"lambda place{parameters}: record({', '.join(arguments)}, place=place)"
        maker: Maker = eval(made, names)  # of our own names only
        return maker

    def _facts_maker(self, holes: Sequence[_Column]) -> FactsMaker:
        """Return what makes facts of groups that all took part; the first hole of a field counts."""
        readers: dict[str, tuple[slice, Callable[..., Iterable[Any]]]] = {}
        group = 0
        for field, read, count in holes:
            readers.setdefault(field, (slice(group, group + count), read))
            group += count
        record, fields = self._record, self._record.__struct_fields__
        same = {**self._defaults, **self._constants}

        def facts(places: Sequence[Place], groups: Sequence[tuple[str, ...]]) -> list[Any]:
            columns: dict[str, Iterable[Any]] = {field: repeat(value) for field, value in same.items()}
            columns |= {field: read(*groups[where]) for field, (where, read) in readers.items()}
            columns["place"] = places
            return [*map(record, *[columns[field] for field in fields])]

        return facts


_Column = tuple[str, Callable[..., Iterable[Any]], int]  # a field, what reads many values of it, from how many groups


class _Undecided(Exception):
    """What a line chose cannot be told from its groups."""


class _Choices(Compiler):
    """Compiles a phrase as a line chose, of which these groups of the phrase's expression took part."""

    def __init__(self, pattern: Pattern, space: str, present: Collection[int]) -> None:
        super().__init__(pattern.kinds, reserved_pattern(pattern.elements), space, in_order=True)
        self.present = present
        self.kept: list[_Column] = []

    def hole(self, hole: Hole) -> str:
        text = super().hole(hole)
        if hole.field == "_":
            return text
        if len(self.holes) - 1 not in self.present:
            return f"(?:{self.pattern(hole)})"
        kind = kind_of(hole, self.kinds)
        grouped, read = kind.columns or (f"({kind.pattern})", partial(each_once, kind.read))
        grouped = self.reserved + grouped if kind.bare else grouped
        self.kept.append((hole.field, read, re.compile(grouped).groups))
        return grouped

    def maybe(self, element: Maybe, space: str) -> str:
        text, chosen = self.way(element.body, space)
        if chosen:
            return text
        return f"(?!{self.beginning(element.body, space)})" if _tells(element.body) else f"(?:{text})?"

    def choice(self, element: Choice, space: str) -> str:
        ways = [(*self.way(body, space), _tells(body)) for body in element.bodies]
        if sum(chosen for _, chosen, _ in ways) > 1:
            raise _Undecided
        chosen_here = any(chosen for _, chosen, _ in ways)
        if not chosen_here and all(tells for _, _, tells in ways):
            return f"(?:{'|'.join([text for text, _, _ in ways])})"  # it is part of what is left out
        left_out: list[str] = []
        open_ways = []
        for body, (text, chosen, tells) in zip(element.bodies, ways, strict=True):
            if chosen or not (chosen_here or tells):
                open_ways.append(f"(?!{'|'.join(left_out)}){text}" if left_out else text)
            else:
                left_out.append(self.beginning(body, space))
        return open_ways[0] if len(open_ways) == 1 else f"(?:{'|'.join(open_ways)})"

    def any_order(self, element: AnyOrder, space: str) -> str:
        ways = []
        for body in element.bodies:
            mark = len(self.holes)
            self.holes.append(None)
            text, _ = self.way(body, space)
            ways.append(text if mark in self.present else f"(?!{self.beginning(body, space)})")
        return "".join(ways)

    def way(self, body: tuple[Element, ...], space: str) -> tuple[str, bool]:
        """Compile one way; return it, and whether the line took it as far as its groups tell."""
        before = len(self.holes)
        text = self.run(body, space)
        return text, any(group in self.present for group in range(before, len(self.holes)))

    def beginning(self, body: tuple[Element, ...], space: str) -> str:
        """Compile what every line that takes a way has there: its first words, or what it may choose from at once."""
        words = [*takewhile(lambda each: isinstance(each, Word), body)]
        if words:
            return self.run(tuple(words), space)
        if body and isinstance(body[0], Choice):
            return "|".join([self.beginning(each, space) for each in body[0].bodies])
        if body and isinstance(body[0], Hole):
            return f"{space}(?:{self.pattern(body[0])})"
        raise _Undecided

    def opening(self, elements: tuple[Element, ...]) -> str:
        """Compile what every statement of a phrase begins with, up to what may be missing."""
        text = ""
        for index, each in enumerate(elements):
            space = "" if index and each.glued else self.space
            if isinstance(each, Word):
                text += self.element(each, space)
            elif isinstance(each, Hole):
                text += f"{space}(?:{self.pattern(each)})"
            elif isinstance(each, Choice):
                return f"{text}(?:{self.beginning((each,), space)})"
            else:
                break
        return text


def _tells(body: Sequence[Element]) -> bool:
    """Tell whether a line that takes this way has a group that says so."""
    return any(
        (isinstance(each, Hole) and each.field != "_")
        or (isinstance(each, Choice) and all(_tells(way) for way in each.bodies))
        for each in body
    )


def _absent() -> Any:
    raise ValueError("the statement does not say enough")
