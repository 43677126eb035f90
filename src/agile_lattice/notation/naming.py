"""What names of hosts, networks and services stand for.

Wherever an address, a network or a service is asked for, a name or a literal will
do. Networks and services may be made of one another; a circle is an error.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from difflib import get_close_matches
from typing import Generic, TypeVar

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.intent.services import (
    ALL_PORTS,
    ALL_TYPES,
    ICMP_TYPES,
    PORT_PROTOCOLS,
    PROTOCOLS,
    Service,
    Services,
    union_of_services,
)
from agile_lattice.intent.vocabulary import Named, Vocabulary
from agile_lattice.notation.errors import fail
from agile_lattice.packets.spans import Span

T = TypeVar("T")


class Entry(msgspec.Struct, Generic[T], frozen=True):
    """What one name stands for, as written, and where."""

    value: T
    place: Place


class Names:
    """The names of one intent.

    Attributes:
        hosts, networks, services: What each name stands for, as written.
    """

    def __init__(self) -> None:
        self.hosts: dict[str, Entry[Prefix]] = {}
        self.networks: dict[str, Entry[list[str]]] = {}
        self.services: dict[str, Entry[list[str]]] = {}

    def check(self) -> None:
        """Resolve every name once, so that a name that nobody uses yet is right all the same.

        Raises:
            NotationError: If a name leads in a circle, to nothing, or to something malformed.
        """
        for name, networks in self.networks.items():
            if list(_expanded([name], self.networks, networks.place)):  # else nobody has filled it yet
                self.addresses([name], networks.place)
        for name, services in self.services.items():
            self.services_of([name], services.place)

    def named(self) -> Vocabulary:
        """Return what has a name and is one set of addresses, or one service."""
        found = [Named(name, AddressSet.of(each.value.address), place=each.place) for name, each in self.hosts.items()]
        for name, networks in self.networks.items():
            addresses = self.addresses([name], networks.place, may_be_empty=True)
            found += [Named(name, addresses, place=networks.place)] if addresses.spans else []
        for name, services in self.services.items():
            one, *others = self.services_of([name], services.place)
            found += [] if others else [Named(name, service=one, place=services.place)]
        return Vocabulary(found)

    def host(self, word: str, place: Place) -> Address:
        """Return the address of a host, named or literal."""
        if word in self.hosts:
            return self.hosts[word].value.address
        try:
            return Address.parse(word)
        except ValueError:
            raise self._unknown(word, "host", self.hosts, "names.hosts", place) from None

    def end(self, word: str, place: Place) -> Prefix:
        """Return a host, named or literal, or a literal prefix, as a prefix."""
        if "/" not in word:
            return Prefix.host(self.host(word, place))
        try:
            return Prefix.parse(word)
        except ValueError as error:
            raise fail(place, str(error)) from None

    def addresses(self, words: Iterable[str], place: Place, may_be_empty: bool = False) -> AddressSet:
        """Return the union of networks, hosts, prefixes, ranges and addresses.

        Args:
            words: The names and literals.
            place: Where they stand.
            may_be_empty: Whether a list that nobody has filled yet will do; it gives a set without members.

        Raises:
            NotationError: If a word is none of these, names lead in a circle, or families are mixed.
        """
        found: list[AddressSet] = []
        for word, at in _expanded(words, self.networks, place):
            if word in self.hosts:
                found.append(AddressSet.of(self.hosts[word].value.address))
                continue
            try:
                found.append(AddressSet.parse(word))
            except ValueError as error:
                if any(character in word for character in "/:") or word.replace(".", "").isdigit():
                    raise fail(at, str(error)) from None
                known = [*self.hosts, *self.networks]
                raise self._unknown(word, "host or network", known, "names", at) from None
        if not found:
            if may_be_empty:
                return AddressSet(4, ())
            raise fail(place, f"{', '.join(words)} has no members yet", "Fill it, or take it out here.")
        try:
            return AddressSet.of(*found)
        except ValueError as error:
            raise fail(place, str(error), "Write one entry for each family.") from None

    def services_of(self, words: Iterable[str], place: Place) -> Services:
        """Return the union of services, named or literal: `tcp/443`, `udp/53,8000-8010`, `icmp/echo-request`, `esp`."""
        found = []
        for word, at in _expanded(words, self.services, place):
            protocol, slash, ports = word.partition("/")
            if protocol not in PROTOCOLS:
                raise self._unknown(word, "service", self.services, "names.services", at)
            spans = [_parse_part(protocol, part.strip(), at) for part in ports.split(",")] if slash else None
            found.append(Service(protocol, tuple(spans) if spans else None))
        if not found:
            raise fail(place, f"{', '.join(words)} has no members yet", "Fill it, or take it out here.")
        return union_of_services(found)

    def _unknown(self, word: str, kind: str, known: Iterable[str], where: str, place: Place) -> Exception:
        near = get_close_matches(word, list(known), 1)
        remedy = f"Did you mean {near[0]!r}?" if near else f"Define it under `{where}`, or write it out."
        return fail(place, f"{word!r} is not a {kind} that this intent names", remedy)


def _parse_part(protocol: str, text: str, place: Place) -> Span:
    if protocol in PORT_PROTOCOLS:
        return _parse_ports(text, place)
    types = ICMP_TYPES.get(protocol)
    if types is None:
        raise fail(place, f"'{protocol}/{text}': {protocol} has no ports")
    if text in types:
        return types[text], types[text]
    first, dash, last = text.partition("-")
    numbers = [first, last if dash else first]
    if all(each.isascii() and each.isdigit() and len(each) < 4 for each in numbers):
        low, high = map(int, numbers)
        if low <= high <= ALL_TYPES[0][1]:
            return low, high
    near = get_close_matches(text, types, 1)
    remedy = (
        f"Did you mean {near[0]!r}?"
        if near
        else f"Write numbers from 0 to 255, such as 8 or 0-7, or one of {', '.join(types)}."
    )
    raise fail(place, f"{text!r} is no type of {protocol}", remedy)


def _parse_ports(text: str, place: Place) -> Span:
    first, dash, last = text.partition("-")
    numbers = [first, last] if dash else [first, first]
    if not all(each.isascii() and each.isdigit() and len(each) < 6 for each in numbers):
        raise fail(place, f"{text!r} is not a port or a range of ports", "Write it as 443 or 8000-8010.")
    low, high = int(numbers[0]), int(numbers[1])
    # Nobody listens at port 0, but a range of what others wrote may begin there.
    if not (low or dash) or not low <= high <= ALL_PORTS[0][1]:
        raise fail(place, f"{text!r} is not a range of ports", "Ports run from 1 to 65535, the lower first.")
    return low, high


def _expanded(words: Iterable[str], groups: Mapping[str, Entry[list[str]]], place: Place) -> list[tuple[str, Place]]:
    """Replace names of groups by their members, however deep, each with the place where it is written."""
    result: list[tuple[str, Place]] = []

    def visit(word: str, at: Place, path: tuple[str, ...]) -> None:
        if word in path:
            circle = " -> ".join((*path[path.index(word) :], word))
            raise fail(groups[word].place, f"circular names: {circle}", "Take one of them out of another.")
        if word not in groups:
            result.append((word, at))
            return
        entry = groups[word]
        for index, member in enumerate(entry.value):
            visit(member, entry.place.at(index), (*path, word))

    for word in words:
        visit(word, place, ())
    return result
