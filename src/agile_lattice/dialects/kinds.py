"""Kinds of spelling: how one value is written in a text, in both directions.

A dialect file makes its own kinds from those of `base_kinds.py`, by narrowing or by giving words:

    interface = {is = "word", pattern = '[a-z][a-z0-9.]*', most = 15}
    metric    = {is = "number", offset = 1023, least = 1}
    priority  = {is = "number", less = 201, most = 201}
    to        = {is = "prefix4", words = {default = "0.0.0.0/0"}}
    enabled   = {words = {up = true, down = false}}
    port      = {is = "ports", also = {https = "443"}}

For a value with several `words` the first is written and all are read; what is under `also` is only read.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache, reduce
from typing import Any

import msgspec

from agile_lattice.dialects.expressions import takes
from agile_lattice.packets.spans import Spans, meet, minus

CACHED = 1 << 16
EVERY_PORT = ((0, 65535),)
NUMBERS = 2**32 - 1
WHOLE = "whole prefix"  # the trait of an end that is more than one address


class Unspellable(ValueError):
    """A value has no spelling in this kind; the message says why."""


class Kind(msgspec.Struct, frozen=True):
    """One kind of spelling.

    Attributes:
        name: What a dialect file calls it.
        pattern: A regular expression without capturing groups that every spelling matches.
        read: Text to value; a `ValueError` means that the text is not of this kind after all.
        write: Value to text; raises `Unspellable`.
        accepts: Whether values with this trait (see `facts`) belong to the kind.
        collect: For members of a set: several values that were read, as one.
        scatter: The reverse, values that can be written one by one.
        bare: Whether a spelling could be taken for a word of the phrase around it.
        is_list: Whether it is a comma-separated list.
        join: What stands between the members of a list.
        words: The words of all its values, if it has no others; there the trait of a value is the value.
        gives: The type of what is read; `None` if that is something that stands for a value, such as a name.
        constants: The values that have words of their own.
    """

    name: str
    pattern: str
    read: Callable[[str], Any]
    write: Callable[[Any], str]
    accepts: Callable[[Any], bool]
    collect: Callable[[Iterable[Any]], Any] | None = None
    scatter: Callable[[Any], Iterable[Any]] | None = None
    bare: bool = False
    is_list: bool = False
    join: str = ", "
    words: Mapping[Any, str] | None = None
    gives: Any = None
    constants: tuple[Any, ...] = ()

    def listed(self) -> Kind:
        """Return the kind of comma-separated lists of this one.

        Raises:
            ValueError: If values of this kind do not make up a set.
        """
        collect, scatter = self.collect, self.scatter
        if collect is None or scatter is None:
            raise ValueError(f"there are no lists of {self.name}")
        if takes(self.pattern, ",") or takes(self.pattern, " "):
            raise ValueError(f"there are no lists of {self.name}: a comma or a space may be part of one")
        read, write, join = self.read, self.write, self.join

        @lru_cache(CACHED)
        def read_all(text: str) -> Any:
            return collect([read(each.strip()) for each in text.split(",")])

        def write_all(value: Any) -> str:
            return join.join([write(each) for each in scatter(value)])

        def accepts(trait: Any) -> bool:
            # The trait of a set says whether it has many members: here any number will do.
            return self.accepts((trait[0], False) if isinstance(trait, tuple) else False)

        pattern = rf"{self.pattern}(?:\s*,\s*{self.pattern})*"
        return Kind(
            f"{self.name},", pattern, read_all, write_all, accepts, bare=self.bare, is_list=True, gives=self.gives,
            constants=self.constants,
        )  # fmt: skip


def always(trait: Any) -> bool:
    """Accept every value."""
    return True


def worded(name: str, words: dict[str, Any], also: dict[str, Any], base: Kind | None) -> Kind:
    """Return a kind that spells some values as words, and leaves the others to `base` if there is one.

    Args:
        name: What the dialect file calls it.
        words: Values by their word; for a value with several the first is written, all are read.
        also: Values by words that are read and never written.
        base: The kind of the other values.
    """
    values = {
        text: base.read(value) if base and isinstance(value, str) else value
        for text, value in {**also, **words}.items()
    }
    spelling: dict[Any, str] = {}
    for text in words:
        spelling.setdefault(values[text], text)
    alternatives = "|".join(re.escape(text) for text in sorted(values, key=len, reverse=True))

    if base is None:
        pattern, spell = rf"(?:{alternatives})(?![\w-])", spelling.__getitem__
        return Kind(
            name, pattern, values.__getitem__, spell, lambda trait: trait in spelling, words=spelling,
            constants=tuple(values.values()),
        )  # fmt: skip

    def read(text: str) -> Any:
        return values[text] if text in values else base.read(text)

    def write(value: Any) -> str:
        return spelling[value] if value in spelling else base.write(value)

    pattern = rf"(?:(?:{alternatives})(?![\w.:/-])|{base.pattern})"
    return Kind(
        name, pattern, read, write, base.accepts, base.collect, base.scatter, gives=base.gives,
        constants=tuple(values.values()),
    )  # fmt: skip


def text_kind(name: str, pattern: str, most: int | None, opening: str, closing: str, bare: bool) -> Kind:
    """Return a kind for text between quotes, or for a bare word.

    Args:
        name: What the dialect file calls it.
        pattern: What is allowed inside.
        most: The greatest length in octets; `None` for no limit.
        opening: The quote before, as text.
        closing: The quote behind, as text.
        bare: See `Kind`.
    """
    allowed = re.compile(pattern).fullmatch
    inside = slice(len(opening), -len(closing) or None)

    def read(text: str) -> str:
        if not text.isprintable():
            raise ValueError("a control character in a text")
        return text[inside]

    def write(value: str) -> str:
        if most is not None and len(value) * 4 > most and len(value.encode()) > most:
            raise Unspellable(f"{value!r} is longer than {most} octets")
        if not allowed(value) or not value.isprintable():
            raise Unspellable(f"{value!r} cannot be written as {name} here (allowed: {pattern})")
        return f"{opening}{value}{closing}"

    whole = f"{re.escape(opening)}(?:{pattern}){re.escape(closing)}"
    return Kind(name, whole, read, write, always, bare=bare, gives=str)


def wild(kind: Kind, mark: str) -> Kind:
    """Return the kind for names of which those that end in a mark stand for all that begin so: `eth*`."""
    return msgspec.structs.replace(
        kind,
        read=lambda text: f"{name[: -len(mark)]}*" if (name := kind.read(text)).endswith(mark) else name,
        accepts=lambda trait: False,
    )


def negated(kind: Kind) -> Kind:
    """Return the kind for what stands for anything else: ports, or names as `!lan0`. It is only read."""

    def read(text: str) -> Any:
        value = kind.read(text)
        return f"!{value}" if isinstance(value, str) else minus(EVERY_PORT, value)

    def collect(members: Iterable[Spans]) -> Spans:
        return reduce(meet, members)  # none of them

    spans = kind.gives == Spans
    return msgspec.structs.replace(
        kind, read=read, accepts=lambda trait: False,
        collect=collect if spans else None, scatter=tuple if spans else None,
    )  # fmt: skip


def set_of(kind: Kind) -> Kind:
    """Return the kind for sets of names (sorted tuples) with exactly one member; its list has any number."""

    def collect(members: Iterable[tuple[str, ...]]) -> tuple[str, ...]:
        return tuple(sorted({name for member in members for name in member}))

    @lru_cache(CACHED)
    def read(text: str) -> tuple[str, ...]:
        return (kind.read(text),)

    @lru_cache(CACHED)
    def write(value: tuple[str, ...]) -> str:
        return kind.write(value[0])

    return Kind(
        kind.name, kind.pattern, read, write,
        lambda trait: trait is False, collect, lambda value: [(name,) for name in value], kind.bare,
        gives=tuple[str, ...],
    )  # fmt: skip


def spaced(kind: Kind, between: str) -> Kind:
    """Return a kind whose ranges have something else than a dash between their ends: `8000:8010`."""
    pattern = kind.pattern.replace("-[0-9]", f"{re.escape(between)}[0-9]")
    return msgspec.structs.replace(
        kind,
        pattern=pattern,
        read=lambda text: kind.read(text.replace(between, "-")),
        write=lambda value: kind.write(value).replace("-", between),
    )


def number_kind(name: str, offset: int, least: int, most: int, less: int | None = None) -> Kind:
    """Return a kind for whole numbers from `least` to `most`.

    Args:
        name: What the dialect file calls it.
        offset: What is added when a number is written.
        least: The lowest number.
        most: The highest.
        less: What a number is taken from when it is written: for scales that run the other way.
    """

    def read(text: str) -> int:
        value = int(text) - offset if less is None else less - int(text)
        if not least <= value <= most:
            raise ValueError(f"{text} is out of range")
        return value

    def write(value: int) -> str:
        if not least <= value <= most:
            raise Unspellable(f"{value} is not from {least} to {most}")
        return str(value + offset if less is None else less - value)

    return Kind(name, r"[0-9]{1,10}", read, write, always, gives=int)
