"""Permits: what may pass, what may reach the device itself, and what a translation needs let through."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import Service, Services
from agile_lattice.intent.translations import Publish, Sides, Static, Translation, Twice


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
    """Who may manage the device itself.

    Attributes:
        arrives: Interfaces, sorted; `None` for any.
        source: From where; `None` for anybody. A set without members is a list that nobody has filled yet.
        services: What may be used.
    """

    services: Services
    name: str = ""
    arrives: Sides | None = None
    source: AddressSet | None = None
    description: str = ""
    place: Place = NOWHERE


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
    elif isinstance(one, Twice):
        to, services, source, side = AddressSet.of(one.new_destination), one.services, one.source, one.arrives
    else:
        return []
    permit = Permit(
        one.name, side, None, source, to, services, log=log, origin=one.name or str(one.place), place=one.place
    )
    inside = getattr(one, "hairpin", ())
    return [permit, msgspec.structs.replace(permit, arrives=inside)] if inside and side is not None else [permit]


def real_services(one: Publish) -> Services | None:
    """Return what arrives at the internal host of a published service: its protocols and real ports."""
    if one.services is None or one.internal_port is None:
        return one.services
    return tuple(Service(each.protocol, ((one.internal_port, one.internal_port),)) for each in one.services)
