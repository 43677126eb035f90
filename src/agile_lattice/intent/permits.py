"""Permits: what may pass, what may reach the device itself, and what a translation needs let through."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import groupby
from typing import Literal

import msgspec

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import Service, Services, union_of_services
from agile_lattice.intent.translations import Intercept, Publish, Sides, Static, Translation, Twice
from agile_lattice.packets.spans import Spans, minus


class Permit(msgspec.Struct, frozen=True):
    """One rule of what may pass; the first that matches decides, and what none matches does not pass.

    It sees the original source and the real destination, behind every rewriting on arrival.

    Attributes:
        arrives, leaves: Interfaces, sorted; `None` for any.
        deny: Whether what matches is dropped.
        log: Whether it is logged.
        origin: The translation that it was derived from; empty if it was written by hand.
    """

    name: str = ""
    arrives: Sides | None = None
    leaves: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    deny: bool = False
    log: bool = False
    origin: str = ""
    description: str = ""
    place: Place = NOWHERE


class Access(msgspec.Struct, frozen=True):
    """One rule of who may manage the device itself; the first that matches decides, and others may not.

    Attributes:
        services: What may be used; `None` for everything.
        arrives: Interfaces, sorted; `None` for any.
        source: From where; `None` for anybody. A set without members is a list that nobody has filled yet.
        destination: At which of its addresses; `None` for all.
        deny: Whether what matches is dropped.
    """

    services: Services | None = None
    name: str = ""
    arrives: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    deny: bool = False
    description: str = ""
    place: Place = NOWHERE

    def covers(self, other: Access) -> bool:
        """Tell whether it matches all that another one does."""
        if self.arrives is not None and (other.arrives is None or not {*other.arrives} <= {*self.arrives}):
            return False
        if not (_within(other.source, self.source) and _within(other.destination, self.destination)):
            return False
        if self.services is None or other.services is None:
            return self.services is None
        known = {(each.protocol, each.ports) for each in self.services}
        return all((each.protocol, each.ports) in known or (each.protocol, None) in known for each in other.services)


def _within(inner: AddressSet | None, outer: AddressSet | None) -> bool:
    """Tell whether addresses are all among others; `None` for any."""
    return outer is None or (
        inner is not None and inner.family == outer.family and not minus(inner.spans, outer.spans)
    )  # fmt: skip


class Passage(msgspec.Struct, frozen=True, gc=False):
    """One rule of a permit or of access to the device: with one protocol, as filters have it.

    Attributes:
        verdict: `pass` or `drop`.
        protocol: One of `services.PROTOCOLS`; `None` for any.
        ports: Destination ports, or types of ICMP; `None` for any.
        log: Whether it is logged.
        rank: Its place where order is written as a number; `None` where the order is that of the list.
    """

    verdict: Literal["pass", "drop"] = "pass"
    arrives: Sides | None = None
    leaves: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    protocol: str | None = None
    ports: Spans | None = None
    log: bool = False
    name: str = ""
    rank: int | None = None
    place: Place = NOWHERE


# Solicitations and advertisements of neighbours and routers (RFC 4861), which a device with IPv6 is lost without: they
# reach it, whatever the list of who may manage it says.
DISCOVERY = Passage(protocol="icmp6", ports=((134, 136),), name="neighbour discovery")


class Listening(msgspec.Struct, frozen=True):
    """A service that the device itself offers.

    Attributes:
        interfaces: Where; `None` for everywhere.
    """

    services: Services
    interfaces: Sides | None = None
    place: Place = NOWHERE


def derived_permits(translations: Iterable[Translation], log: bool = False) -> list[Permit]:
    """Return the permits without which translations do nothing: for what is published, to its real address and port."""
    return [permit for one in translations for permit in _needed(one, log)]


def _needed(one: Translation, log: bool) -> list[Permit]:
    if isinstance(one, Static) and one.direction != "outbound":
        to, services, source, side = AddressSet.of(one.internal), None, None, one.facing
    elif isinstance(one, Publish):
        to, services, source, side = AddressSet.of(one.internal), real_services(one), one.source, one.facing
    elif isinstance(one, Intercept) and one.taken_at is not None:
        to, services, source, side = AddressSet.of(one.taken_at), real_services(one), one.source, one.arrives
    elif isinstance(one, Twice):
        to, services, source, side = AddressSet.of(one.new_destination), one.services, one.source, one.arrives
    else:
        return []
    permit = Permit(
        one.name, side, None, source, to, services, log=log, origin=one.name or str(one.place), place=one.place
    )
    inside = getattr(one, "hairpin", ())
    return [permit, msgspec.structs.replace(permit, arrives=inside)] if inside and side is not None else [permit]


def passages(rules: Iterable[Permit | Access]) -> list[Passage]:
    """Take permits, or entries of access, apart into rules of one protocol, in their order."""
    found = []
    for one in rules:
        leaves, log = (one.leaves, one.log) if isinstance(one, Permit) else (None, False)
        verdict: Literal["pass", "drop"] = "drop" if one.deny else "pass"
        plain = Passage(
            verdict, one.arrives, leaves, one.source, one.destination, log=log, name=one.name, place=one.place
        )
        services = one.services if one.services is not None else (None,)
        for each in services:
            found.append(
                plain if each is None else msgspec.structs.replace(plain, protocol=each.protocol, ports=each.ports)
            )
    return found


def joined_permits(rules: Iterable[Passage]) -> tuple[Permit, ...]:
    """Put rules together again: neighbours that differ in their services only become one permit."""
    return tuple(
        Permit(
            one.name, one.arrives, one.leaves, one.source, one.destination, services, one.verdict == "drop", one.log,
            place=one.place,
        )
        for one, services in _neighbours(rules)
    )  # fmt: skip


def joined_access(rules: Iterable[Passage]) -> tuple[Access, ...]:
    """Put rules of access together again, likewise."""
    return tuple(
        Access(services, one.name, one.arrives, one.source, one.destination, one.verdict == "drop", place=one.place)
        for one, services in _neighbours(rules)
    )


def _neighbours(rules: Iterable[Passage]) -> Iterator[tuple[Passage, Services | None]]:
    def apart(one: Passage) -> tuple[object, ...]:
        # Rules without a protocol never merge: each is a neighbourhood of its own.
        unique = None if one.protocol else id(one)
        return one.verdict, one.arrives, one.leaves, one.source, one.destination, one.log, one.name, unique

    for _, members in groupby(rules, key=apart):
        first, *more = members
        if first.protocol is None:
            yield first, None
        else:
            yield first, union_of_services([Service(each.protocol or "", each.ports) for each in (first, *more)])


def real_services(one: Publish | Intercept) -> Services | None:
    """Return what arrives at the internal host of a published service, or is taken: its protocols and real ports."""
    port = one.port if isinstance(one, Intercept) else one.internal_port
    if one.services is None or port is None:
        return one.services
    return tuple(Service(each.protocol, ((port, port),)) for each in one.services)
