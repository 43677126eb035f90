"""What names of hosts, networks and services stand for.

Wherever an address, a network or a service is asked for, a name or a literal will
do. Networks and services may be made of one another; a circle is an error.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from difflib import get_close_matches
from typing import Generic, TypeVar

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.model import PORT_PROTOCOLS, PROTOCOLS, Service, Services, union_of_services
from agile_lattice.intent.places import Place
from agile_lattice.intent.spans import Span
from agile_lattice.notation.errors import fail

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
        self.hosts: dict[str, Entry[Address]] = {}
        self.networks: dict[str, Entry[list[str]]] = {}
        self.services: dict[str, Entry[list[str]]] = {}

    def check(self) -> None:
        """Resolve every name once, so that a name that nobody uses yet is right all the same.

        Raises:
            NotationError: If a name leads in a circle, to nothing, or to something malformed.
        """
        for name, networks in self.networks.items():
            self.addresses([name], networks.place)
        for name, services in self.services.items():
            self.services_of([name], services.place)

    def host(self, word: str, place: Place) -> Address:
        """Return the address of a host, named or literal."""
        if word in self.hosts:
            return self.hosts[word].value
        try:
            return Address.parse(word)
        except ValueError:
            raise self._unknown(word, "host", self.hosts, "names.hosts", place) from None

    def addresses(self, words: Iterable[str], place: Place) -> AddressSet:
        """Return the union of networks, hosts, prefixes, ranges and addresses.

        Raises:
            NotationError: If a word is none of these, names lead in a circle, or families are mixed.
        """
        found: list[AddressSet] = []
        for word, at in _expanded(words, self.networks, place):
            if word in self.hosts:
                found.append(AddressSet.of(self.hosts[word].value))
                continue
            try:
                found.append(AddressSet.parse(word))
            except ValueError as error:
                if any(character in word for character in "/:") or word.replace(".", "").isdigit():
                    raise fail(at, str(error)) from None
                known = [*self.hosts, *self.networks]
                raise self._unknown(word, "host or network", known, "names", at) from None
        try:
            return AddressSet.of(*found)
        except ValueError as error:
            raise fail(place, str(error), "Write one entry for each family.") from None

    def services_of(self, words: Iterable[str], place: Place) -> Services:
        """Return the union of services, named or literal such as `tcp/443`, `udp/8000-8010` or `icmp`."""
        found = []
        for word, at in _expanded(words, self.services, place):
            protocol, slash, ports = word.partition("/")
            if protocol not in PROTOCOLS:
                raise self._unknown(word, "service", self.services, "names.services", at)
            if slash and protocol not in PORT_PROTOCOLS:
                raise fail(at, f"{word!r}: {protocol} has no ports")
            found.append(Service(protocol, (_parse_ports(ports, at),) if slash else None))
        return union_of_services(found)

    def _unknown(self, word: str, kind: str, known: Iterable[str], where: str, place: Place) -> Exception:
        near = get_close_matches(word, list(known), 1)
        remedy = f"Did you mean {near[0]!r}?" if near else f"Define it under `{where}`, or write it out."
        return fail(place, f"{word!r} is not a {kind} that this intent names", remedy)


def _parse_ports(text: str, place: Place) -> Span:
    first, dash, last = text.partition("-")
    numbers = [first, last] if dash else [first, first]
    if not all(each.isascii() and each.isdigit() and len(each) < 6 for each in numbers):
        raise fail(place, f"{text!r} is not a port or a range of ports", "Write it as 443 or 8000-8010.")
    low, high = int(numbers[0]), int(numbers[1])
    if not 1 <= low <= high <= 65535:
        raise fail(place, f"{text!r} is not a range of ports", "Ports run from 1 to 65535, the lower first.")
    return low, high


def _expanded(words: Iterable[str], groups: Mapping[str, Entry[list[str]]], place: Place) -> list[tuple[str, Place]]:
    """Replace names of groups by their members, however deep, each with the place where it is written."""
    result: list[tuple[str, Place]] = []

    def visit(word: str, at: Place, path: tuple[str, ...]) -> None:
        if word in path:
            circle = " -> ".join((*path[path.index(word) :], word))
            raise fail(groups[word].place, f"the names go in a circle: {circle}", "Take one of them out of another.")
        if word not in groups:
            result.append((word, at))
            return
        entry = groups[word]
        for index, member in enumerate(entry.value):
            visit(member, entry.place.at(index), (*path, word))

    for word in words:
        visit(word, place, ())
    return result
