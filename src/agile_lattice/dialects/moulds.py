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
from agile_lattice.dialects.patterns import SPACE, Compiler, HoleReader, Match, Pattern, kind_of, reserved_pattern
from agile_lattice.intent.places import Place

Maker = Callable[..., Any]
Column = Sequence[str]
SEEN_OFTEN = 8  # lines of one choice, before a mould is worth its making


class Mould(msgspec.Struct, frozen=True, eq=False):
    """What statements of one choice look like.

    Attributes:
        match: Matches a statement with a space in front.
        lines: Finds the groups of all lines of a text that are such statements.
        fields: Reads the values of all fields, of a column for each group.
    """

    match: Match
    lines: Callable[[str], list[tuple[str, ...]]]
    fields: Callable[[Sequence[Column]], dict[str, Iterable[Any]]]


def mould_of(pattern: Pattern, found: re.Match[str], before: Sequence[Pattern]) -> Mould | None:
    """Return the mould of a statement; None if there can be none.

    Args:
        pattern: The phrase that it is.
        found: How it is matched.
        before: What it must not be, because that is tried earlier.
    """
    present = {group for group, text in enumerate(found.groups()) if text is not None}
    choices = _Choices(pattern, " ", present)
    try:
        expression = choices.run(pattern.elements, " ")
        refused = [_Choices(each, SPACE, ()).opening(each.elements) for each in pattern.rivals(before)]
    except _Undecided:
        return None
    expression = f"(?!{'|'.join(refused)})" * bool(refused) + expression
    match = re.compile(expression).fullmatch
    if not match(found.string):
        return None
    # A group more, so that there are several: of one alone a list of texts would be found.
    lines = re.compile(f"^{expression}()()$", re.MULTILINE).findall
    return Mould(match, lines, _fields_of(choices.kept))


def facts_of(
    record: type[Any], fields: Mapping[str, Iterable[Any]], constants: Mapping[str, Any], places: Sequence[Place]
) -> list[Any]:
    """Make facts of columns of their fields.

    Args:
        record: Their class.
        fields: The columns.
        constants: Fields that are the same in all of them.
        places: Where they stand.
    """
    same = {**defaults_of(record), **constants}
    columns = {**{field: repeat(value) for field, value in same.items()}, **fields, "place": places}
    return [*map(record, *[columns[field] for field in record.__struct_fields__])]


def defaults_of(record: type[Any]) -> dict[str, Any]:
    """Return what the fields of a record are if nothing is said."""
    return dict(zip(record.__struct_fields__[::-1], record.__struct_defaults__[::-1], strict=False))


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
        self, pattern: Pattern, record: type[Any], constants: Mapping[str, Any], before: Sequence[Pattern]
    ) -> None:
        self._pattern, self._record, self._constants, self._before = pattern, record, constants, before
        self._seen: Counter[tuple[bool, ...]] = Counter()
        self._known: dict[tuple[bool, ...], Mould | None] = {}
        self.make = self._maker(pattern.holes)

    def of(self, found: re.Match[str]) -> Mould | None:
        """Return the mould of a line that was understood; None if such lines are few, or there can be none."""
        choice = tuple([group is not None for group in found.groups()])
        if choice not in self._known:
            self._seen[choice] += 1
            if self._seen[choice] < SEEN_OFTEN:
                return None
            self._known[choice] = mould_of(self._pattern, found, self._before)
        return self._known[choice]

    def facts(self, mould: Mould, columns: Sequence[Column], places: Sequence[Place]) -> list[Any]:
        """Make facts of the groups that a mould found, and of places."""
        return facts_of(self._record, mould.fields(columns), self._constants, places)

    def _maker(self, holes: Sequence[HoleReader | None]) -> Maker:
        """Return what makes a fact of groups of which some may have taken no part in the match."""
        defaults = defaults_of(self._record)
        readings: dict[str, str] = {}
        names: dict[str, Any] = {"record": self._record, "absent": _absent}
        for group, hole in enumerate(holes):
            if hole is not None:
                field, names[f"read{group}"] = hole
                readings[field] = f"{readings.get(field, '')}read{group}(g{group}) if g{group} is not None else "
        for field in readings:
            names[f"default_{field}"] = defaults.get(field)
            readings[field] += f"default_{field}" if field in defaults else "absent()"
        names |= {f"constant_{field}": value for field, value in self._constants.items()}
        arguments = [f"{field}={reading}" for field, reading in readings.items()]
        arguments += [f"{field}=constant_{field}" for field in self._constants]
        parameters = "".join(f", g{group}" for group in range(len(holes)))
        made = f"lambda place{parameters}: record({', '.join(arguments)}, place=place)"
        maker: Maker = eval(made, names)  # of our own names only
        return maker


_Kept = tuple[str, Callable[..., Iterable[Any]], int]  # a field, what reads many values of it, of how many groups


def _fields_of(holes: Sequence[_Kept]) -> Callable[[Sequence[Column]], dict[str, Iterable[Any]]]:
    """Return what reads columns of groups that all took part; the first hole of a field counts."""
    readers: dict[str, tuple[slice, Callable[..., Iterable[Any]]]] = {}
    group = 0
    for field, read, count in holes:
        readers.setdefault(field, (slice(group, group + count), read))
        group += count
    return lambda columns: {field: _values(read, columns[where]) for field, (where, read) in readers.items()}


def _values(read: Callable[..., Iterable[Any]], columns: Sequence[Column]) -> Iterable[Any]:
    """Read values of columns; if many of them are the same, each of them once."""
    first, *others = columns
    once = few_of(first) if not others else None
    return read(*columns) if once is None else map(dict(zip(once, read(once), strict=True)).__getitem__, first)


def few_of(column: Column) -> Column | None:
    """Return the different texts of a column; None if they are not much fewer."""
    once = [*{*column}]
    return once if len(once) <= len(column) // 2 else None


class _Undecided(Exception):
    """What a line chose cannot be told from its groups."""


class _Choices(Compiler):
    """Compiles a phrase as a line chose, of which these groups of the phrase's expression took part."""

    def __init__(self, pattern: Pattern, space: str, present: Collection[int]) -> None:
        super().__init__(pattern.kinds, reserved_pattern(pattern.elements), space, in_order=True)
        self.present = present
        self.kept: list[_Kept] = []

    def hole(self, hole: Hole) -> str:
        text = super().hole(hole)
        if hole.field == "_":
            return text
        if len(self.holes) - 1 not in self.present:
            return f"(?:{self.pattern(hole)})"
        kind = kind_of(hole, self.kinds)
        grouped, read = kind.columns or (f"({kind.pattern})", partial(map, kind.read))
        grouped = self.reserved + grouped if kind.bare else grouped
        self.kept.append((hole.field, read, re.compile(grouped).groups))
        return grouped

    def maybe(self, element: Maybe, space: str, glued: bool) -> str:
        text, chosen = self.way(element.body, space)
        if chosen:
            return text
        return f"(?!{self.beginning(element.body, space)})" if _tells(element.body) else f"(?:{text})?"

    def choice(self, element: Choice, space: str, glued: bool) -> str:
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

    def any_order(self, element: AnyOrder, space: str, glued: bool) -> str:
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
                text += f"(?:{self.beginning((each,), space)})"
                if not all(isinstance(inner, Word) for body in each.bodies for inner in body):
                    break
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
