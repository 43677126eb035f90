"""Kinds of spelling: how one value is written in a text, in both directions.

A dialect file makes its own kinds from the ones here, by narrowing or by giving words:

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
from functools import lru_cache
from socket import inet_ntop, inet_pton
from typing import Any

import msgspec

from agile_lattice.intent.addresses import AF_INET, AF_INET6, BITS, Address, AddressSet, Prefix
from agile_lattice.intent.masks import netmask, wildcard
from agile_lattice.intent.services import spell_ports
from agile_lattice.packets.spans import Span, Spans, merged, minus

CACHED = 1 << 16
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
        join: What stands between the members of a list.
        pieces: The pattern with a group for each of several pieces, and what reads those instead: quicker than to
            find them in the text again.
        words: The words of all its values, if it has no others; there the trait of a value is the value.
    """

    name: str
    pattern: str
    read: Callable[[str], Any]
    write: Callable[[Any], str]
    accepts: Callable[[Any], bool]
    collect: Callable[[Iterable[Any]], Any] | None = None
    scatter: Callable[[Any], Iterable[Any]] | None = None
    bare: bool = False
    join: str = ", "
    pieces: tuple[str, Callable[..., Any]] | None = None
    words: Mapping[Any, str] | None = None

    def listed(self) -> Kind:
        """Return the kind of comma-separated lists of this one.

        Raises:
            ValueError: If values of this kind do not make up a set.
        """
        collect, scatter = self.collect, self.scatter
        if collect is None or scatter is None:
            raise ValueError(f"there are no lists of {self.name}")
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
        return Kind(f"{self.name},", pattern, read_all, write_all, accepts)


def _always(trait: Any) -> bool:
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
        return Kind(name, pattern, values.__getitem__, spell, lambda trait: trait in spelling, words=spelling)

    def read(text: str) -> Any:
        return values[text] if text in values else base.read(text)

    def write(value: Any) -> str:
        return spelling[value] if value in spelling else base.write(value)

    pattern = rf"(?:(?:{alternatives})(?![\w.:/-])|{base.pattern})"
    return Kind(name, pattern, read, write, base.accepts, base.collect, base.scatter)


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

    return Kind(name, f"{re.escape(opening)}(?:{pattern}){re.escape(closing)}", read, write, _always, bare=bare)


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
    )  # fmt: skip


def spaced(kind: Kind, between: str) -> Kind:
    """Return a kind whose ranges have something else than a dash between their ends: `8000:8010`."""
    return msgspec.structs.replace(
        kind,
        pattern=kind.pattern.replace("-[0-9]", f"{re.escape(between)}[0-9]"),
        read=lambda text: kind.read(text.replace(between, "-")),
        write=lambda value: kind.write(value).replace("-", between),
        pieces=None,
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

    return Kind(name, r"[0-9]{1,10}", read, write, _always)


# Every line of a long text may hold some of these: they are read without the messages of `Prefix.parse`.
_FAMILY = {4: AF_INET, 6: AF_INET6}
_LENGTHS = {
    family: {f"{length:0{digits}}": length for digits in (1, 2, 3) for length in range(bits + 1)}
    for family, bits in BITS.items()
}


def _address_kind(family: int, pattern: str) -> Kind:
    kind, from_bytes = _FAMILY[family], int.from_bytes

    @lru_cache(CACHED)
    def read(text: str) -> Address:
        return Address(family, from_bytes(inet_pton(kind, text)))

    return Kind(f"address{family}", pattern, read, lru_cache(CACHED)(str), lambda trait: trait == family)


def _prefix_kind(family: int, pattern: str) -> Kind:
    kind, octets, lengths, from_bytes = _FAMILY[family], BITS[family] // 8, _LENGTHS[family], int.from_bytes

    def write(value: Prefix) -> str:
        return f"{inet_ntop(kind, value.value.to_bytes(octets))}/{value.length}"

    def read(address: str, length: str) -> Prefix:
        return Prefix(family, from_bytes(inet_pton(kind, address)), lengths[length])

    return Kind(
        f"prefix{family}", pattern + r"/[0-9]{1,3}", lambda text: read(*text.split("/")), write,
        lambda trait: trait in (family, (family, WHOLE)), pieces=(rf"({pattern})/([0-9]{{1,3}})", read),
    )  # fmt: skip


def _host_kind(family: int, pattern: str) -> Kind:
    def write(value: Prefix) -> str:
        if not value.is_host:
            raise Unspellable(f"{value} is not a single address")
        return str(value.address)

    return Kind(
        f"host{family}",
        pattern,
        lambda text: Prefix.host(Address.parse(text)),
        write,
        lambda trait: trait == family,
    )


def _span_kind(name: str, family: int, pattern: str, as_prefix: bool) -> Kind:
    """One span as a set; `as_prefix` if it is written as a prefix where it is one, and not as a range."""
    kind, bits, lengths, from_bytes = _FAMILY[family], BITS[family], _LENGTHS[family], int.from_bytes
    octets = bits // 8

    @lru_cache(CACHED)
    def read(text: str) -> AddressSet:
        if "-" in text:
            return AddressSet.parse(text)
        address, slash, length = text.partition("/")
        first = from_bytes(inet_pton(kind, address))
        if not slash:
            return AddressSet(family, ((first, first),))
        host = bits - lengths[length]
        first = first >> host << host
        return AddressSet(family, ((first, first | (1 << host) - 1),))

    def write(value: AddressSet) -> str:
        first, last = value.spans[0]
        text, host = inet_ntop(kind, first.to_bytes(octets)), last - first
        if not host:
            return text
        if as_prefix and not host & (host + 1) and not first & host:
            return f"{text}/{bits - host.bit_length()}"
        return f"{text}-{inet_ntop(kind, last.to_bytes(octets))}"

    def scatter(value: AddressSet) -> list[AddressSet]:
        return [AddressSet(family, (span,)) for span in value.spans]

    return Kind(
        name, rf"{pattern}(?:/[0-9]{{1,3}}|-{pattern})?", read, write,
        lambda trait: bool(trait == (family, False)), lambda members: AddressSet.of(*members), scatter,
    )  # fmt: skip


def _prefixed_kind(name: str, family: int, pattern: str) -> Kind:
    """One prefix as a set, with its length even if it is a single address; other spans have another spelling."""
    kind, bits = _FAMILY[family], BITS[family]

    def write(value: AddressSet) -> str:
        first, last = value.spans[0]
        host = last - first
        if len(value.spans) > 1 or host & (host + 1) or first & host:
            raise Unspellable(f"{value} is not one prefix")
        return f"{inet_ntop(kind, first.to_bytes(bits // 8))}/{bits - host.bit_length()}"

    plain = _span_kind(name, family, pattern, as_prefix=True)
    return msgspec.structs.replace(plain, pattern=rf"{pattern}(?:/[0-9]{{1,3}})?", write=write)


def _complement_kind(family: int, pattern: str) -> Kind:
    """Everything but one span: read as the set that is left, never written."""
    everything = AddressSet(family, ((0, (1 << BITS[family]) - 1),))

    def read(text: str) -> AddressSet:
        left = minus(everything.spans, AddressSet.parse(text).spans)
        if not left:
            raise ValueError("nothing is left")
        return AddressSet(family, left)

    return Kind(f"allbut{family}", rf"{pattern}(?:/[0-9]{{1,3}}|-{pattern})?", read, str, lambda trait: False)


def _read_ports(text: str) -> Spans:
    first, _, last = text.partition("-")
    span: Span = (int(first), int(last or first))
    if not span[0] <= span[1] <= 65535:
        raise ValueError(f"{text} is not a range of ports")
    return (span,)


def _read_length(text: str) -> int:
    return int(text)


def _read_mask(spell: Callable[[int], str]) -> Callable[[str], int]:
    lengths = {spell(length): length for length in range(33)}

    def read(text: str) -> int:
        if text not in lengths:
            raise ValueError(f"{text} is no mask: its bits are not contiguous")
        return lengths[text]

    return read


_IPV4 = r"[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}"  # written out: a counted group takes twice as long
_IPV6 = r"[0-9a-fA-F]*:[0-9a-fA-F:.]+"

BASE: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        _address_kind(4, _IPV4),
        _address_kind(6, _IPV6),
        _prefix_kind(4, _IPV4),
        _prefix_kind(6, _IPV6),
        _host_kind(4, _IPV4),
        _host_kind(6, _IPV6),
        _span_kind("span4", 4, _IPV4, as_prefix=True),
        _span_kind("span6", 6, _IPV6, as_prefix=True),
        _span_kind("range4", 4, _IPV4, as_prefix=False),
        _prefixed_kind("prefixed4", 4, _IPV4),
        _prefixed_kind("prefixed6", 6, _IPV6),
        _span_kind("range6", 6, _IPV6, as_prefix=False),
        _complement_kind(4, _IPV4),
        _complement_kind(6, _IPV6),
        Kind(
            "ports", r"[0-9]{1,5}(?:-[0-9]{1,5})?", lru_cache(CACHED)(_read_ports),
            lambda value: spell_ports(value[0]), lambda trait: trait is False,
            lambda members: merged(span for each in members for span in each),
            lambda value: [(each,) for each in value],
        ),
        Kind("length", r"[0-9]{1,3}", _read_length, str, _always),
        Kind("netmask", _IPV4, _read_mask(netmask), netmask, lambda trait: trait == 4),
        Kind("wildcard", _IPV4, _read_mask(wildcard), wildcard, lambda trait: trait == 4),
        number_kind("number", 0, 0, NUMBERS),
        text_kind("word", r"[^\s]+", None, "", "", True),
        text_kind("line", r"\S(?:.*\S)?", None, "", "", False),
        text_kind("quoted", r'[^"]*', None, '"', '"', False),
    )
}  # fmt: skip
