"""Phrases compiled for writing: shapes.

A shape is a phrase with all its choices made: text with gaps, and what fills each gap. Which
shape a fact takes depends only on the traits of its fields, so shapes are worked out once for
each combination of traits and then used over and over.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from agile_lattice.dialects.fact_types import PARTS, FactType
from agile_lattice.dialects.grammar import AnyOrder, Choice, Element, Hole, Word, holes_of
from agile_lattice.dialects.kinds import Kind, Unspellable
from agile_lattice.dialects.patterns import kind_of, reserved_pattern

Gap = tuple[str, Callable[[Any], str]]


def whole_fields(names: Iterable[str]) -> frozenset[str]:
    """Return the fields that are said as a whole, or in all their parts."""
    said = {*names}
    fields = {name for name in said if "." not in name}
    return frozenset(
        fields
        | {name for name in (each.partition(".")[0] for each in said) if {f"{name}.{part}" for part in PARTS} <= said}
    )


class Shape:
    """A phrase with all its choices made.

    Args:
        template: Text with a `%s` for each gap.
        gaps: Per gap the fact's field and how its value is written.
        names: What it writes: names of fields, and of parts of fields as `address.length`.
    """

    def __init__(self, template: str, gaps: Sequence[Gap], names: frozenset[str]) -> None:
        self.names = names
        self.fields = whole_fields(names)
        self._gaps = gaps
        self._template = template

    def quick(self, fact: Any) -> str:
        """As `fill`, but it only raises `Unspellable`."""
        return self._template % tuple([write(getattr(fact, field)) for field, write in self._gaps])

    def fill(self, fact: Any) -> str:
        """Write a statement from a fact; from nothing, if it has no gaps.

        Raises:
            UnspellableField: If a value has no spelling here.
        """
        try:
            return self.quick(fact)
        except Unspellable:
            for field, write in self._gaps:
                try:
                    write(getattr(fact, field))
                except Unspellable as error:
                    raise UnspellableField(field, str(error)) from None
            raise


class UnspellableField(ValueError):
    """A value has no spelling.

    Attributes:
        field: The field of the fact.
        reason: Why.
    """

    def __init__(self, field: str, reason: str) -> None:
        self.field, self.reason = field, reason
        super().__init__(field, reason)


class Shapes:
    """All shapes of one phrase, each worked out when it is first asked for."""

    def __init__(self, elements: tuple[Element, ...], kinds: Mapping[str, Kind], target: FactType | None) -> None:
        self._elements = elements
        self._kinds = kinds
        self._fields = list(target.fields) if target else []
        self._reserved = re.compile(reserved_pattern(elements) + r"\S+")
        self._known: dict[tuple[Any, ...], Shape | None] = {}

    def of(self, traits: tuple[Any, ...]) -> Shape | None:
        """Return the shape for a fact with these traits, or None if the phrase cannot say it at all."""
        try:
            return self._known[traits]
        except KeyError:
            shape = self._known[traits] = self._work_out(traits)
            return shape

    def takes(self, field: str, trait: Any) -> bool:
        """Tell whether some hole of the phrase can hold a field with this trait."""
        return any(
            hole.field == field and kind_of(hole, self._kinds).accepts(trait) for hole in holes_of(self._elements)
        )

    def _work_out(self, traits: tuple[Any, ...]) -> Shape | None:
        fitted = self._fit(self._elements, False, dict(zip(self._fields, traits, strict=True)))
        if fitted is None:
            return None
        template, gaps, fields = fitted
        return Shape(template.removeprefix(" "), gaps, frozenset(fields))

    def _fit(
        self, body: tuple[Element, ...], glued: bool, traits: Mapping[str, Any]
    ) -> tuple[str, list[Gap], set[str]] | None:
        """Make all choices in a run of elements; `glued` is for the first of them."""
        text, gaps, fields = "", list[Gap](), set[str]()
        for index, element in enumerate(body):
            space = "" if (glued if index == 0 else element.glued) else " "
            if isinstance(element, Word):
                text += space + element.text.replace("%", "%%")
                continue
            if isinstance(element, Hole):
                gap = self._gap(element, traits)
                if gap is None:
                    return None
                if isinstance(gap, str):
                    text += space + gap.replace("%", "%%")
                else:
                    text += space + "%s"
                    gaps.append(gap)
                fields.add(f"{element.field}.{element.part}" if element.part else element.field)
                continue
            fitted = self._fit_group(element, space == "", traits)
            if fitted is None:
                return None
            text += fitted[0]
            gaps += fitted[1]
            fields |= fitted[2]
        return text, gaps, fields

    def _fit_group(
        self, element: Element, glued: bool, traits: Mapping[str, Any]
    ) -> tuple[str, list[Gap], set[str]] | None:
        if isinstance(element, Choice):
            fits = (self._fit(body, glued, traits) for body in element.bodies)
            return next((each for each in fits if each is not None), None)
        bodies = element.bodies if isinstance(element, AnyOrder) else (getattr(element, "body", ()),)
        text, gaps, fields = "", list[Gap](), set[str]()
        for body in bodies:
            fitted = self._fit(body, glued, traits)
            # What says nothing about the fact is there to be read and dropped.
            if fitted is not None and fitted[2]:
                text += fitted[0]
                gaps += fitted[1]
                fields |= fitted[2]
        return text, gaps, fields

    def _gap(self, hole: Hole, traits: Mapping[str, Any]) -> Gap | str | None:
        """Return what fills a hole: a gap, or at once the word for a value that its trait tells."""
        trait = traits.get(hole.field)
        kind = kind_of(hole, self._kinds)
        if trait is None or not kind.accepts(trait):
            return None
        if kind.words is not None and not hole.part:
            return kind.words[trait]
        write = self._guarded(kind)
        if hole.part:
            take, whole = PARTS[hole.part], write
            write = lambda value: whole(take(value))  # noqa: E731 - a part is taken before it is written
        return hole.field, write

    def _guarded(self, kind: Kind) -> Callable[[Any], str]:
        """Keep a bare word from being taken for a fixed word of the phrase when it is read back."""
        if not kind.bare:
            return kind.write

        @lru_cache(1024)  # a name comes again and again
        def write(value: Any) -> str:
            text = kind.write(value)
            for word in re.split(r",\s*", text) if kind.is_list else [text]:
                if not self._reserved.fullmatch(word):
                    raise Unspellable(f"{word!r} is a word of the statement itself")
            return text

        return write
