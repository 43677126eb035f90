"""Translations, in the words of RFC 2663, RFC 3022 and RFC 8512.

Each is a frozen value; names and zones are resolved. `None` in a match means "any". A
`description` is a remark that stays in the intent.
"""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import Services
from agile_lattice.packets.spans import Spans

Ports = Literal["shared", "kept"]
Moment = Literal["arrival", "departure", "both"]
Direction = Literal["both", "outbound", "inbound"]
Sides = tuple[str, ...]
Own = Literal["interface", "device"]


class Goal(msgspec.Struct, frozen=True):
    """What an exemption is for: the peer whose packets, and the services, that must stay as they are."""

    peer: AddressSet | None = None
    services: Services | None = None


class Exempt(msgspec.Struct, frozen=True, tag="exempt"):
    """Packets that no later translation may touch.

    Attributes:
        arrives, leaves: Interfaces, sorted; `None` for any.
        at: Where it speaks: on arrival, on departure, or at both. One that names `leaves`
            speaks on departure only, since the egress interface is not known on arrival.
        own: If it is only for packets to an address of the `interface` by which they arrive, or to any of the `device`:
            on arrival.
        goal: What it is for, if that is said.
    """

    name: str = ""
    arrives: Sides | None = None
    leaves: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    at: Moment = "both"
    own: Own | None = None
    goal: Goal | None = None
    description: str = ""
    place: Place = NOWHERE


class Reserved(msgspec.Struct, frozen=True):
    """An external address of a pool that one internal host always gets."""

    internal: Address
    external: Address


class Dynamic(msgspec.Struct, frozen=True, tag="dynamic"):
    """Source translation of whatever matches (RFC 2663 section 4.1).

    Attributes:
        pool: External addresses; `None` for the address of the egress interface.
        ports: `shared` is NAPT; with `kept` each internal host has an external address to itself.
        reserved: Who always gets which address of the pool.
    """

    name: str = ""
    arrives: Sides | None = None
    leaves: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    pool: AddressSet | None = None
    ports: Ports = "shared"
    reserved: tuple[Reserved, ...] = ()
    description: str = ""
    place: Place = NOWHERE


class Static(msgspec.Struct, frozen=True, tag="static"):
    """A one-to-one translation of a host, or of a whole prefix by its offset (RFC 3022 section 2).

    Attributes:
        external, internal: Prefixes of one length; a host is a host-length one.
        facing: Interfaces on the external side, sorted; `None` for any.
        direction: `both` ways; `outbound` if only the host itself opens connections, `inbound` if only others do.
        rewrites_dns: Whether answers in DNS that name one address are rewritten to the other (RFC 2694).
        hairpin: Interfaces whose clients use the external address, from inside (RFC 4787 section 6).
    """

    external: Prefix
    internal: Prefix
    name: str = ""
    facing: Sides | None = None
    direction: Direction = "both"
    rewrites_dns: bool = False
    hairpin: Sides = ()
    description: str = ""
    place: Place = NOWHERE


class Publish(msgspec.Struct, frozen=True, tag="publish"):
    """A service of an internal host made reachable at external addresses.

    Attributes:
        external: The addresses; `interface` for those that the interface has on which a packet arrives, `device` for
            all that the device has, whatever they are.
        facing: Interfaces on the external side, sorted; `None` for any.
        source: Who may use it; `None` for anybody.
        services: External protocols and ports; `None` for everything.
        internal_port: The port on the internal host; `None` where it is the external one.
        rewrites_dns, hairpin: As in `Static`.
    """

    external: AddressSet | Own
    internal: Address
    name: str = ""
    facing: Sides | None = None
    source: AddressSet | None = None
    services: Services | None = None
    internal_port: int | None = None
    rewrites_dns: bool = False
    hairpin: Sides = ()
    description: str = ""
    place: Place = NOWHERE

    @property
    def named(self) -> Spans:
        """The external addresses that are named; none where it says of what they are the addresses, or any will do."""
        anything = AddressSet.everything(self.internal.family)
        return () if isinstance(self.external, str) or self.external == anything else self.external.spans


class Twice(msgspec.Struct, frozen=True, tag="twice"):
    """Source and destination translated together (twice NAT, RFC 2663 section 4.3).

    Attributes:
        destination: The address that the sender uses.
        new_destination: The host that it means.
        pool: What the source becomes; `None` for the address of the egress interface.
    """

    destination: Address
    new_destination: Address
    name: str = ""
    arrives: Sides | None = None
    leaves: Sides | None = None
    source: AddressSet | None = None
    services: Services | None = None
    pool: AddressSet | None = None
    ports: Ports = "shared"
    description: str = ""
    place: Place = NOWHERE


class Intercept(msgspec.Struct, frozen=True, tag="intercept"):
    """Packets to others that the device takes for itself, as for an interception proxy (RFC 3040 section 2.5).

    Their destination becomes the first address of the interface by which they arrive.

    Attributes:
        port: The port on which the device takes them; `None` where it is the one that they were sent to.
        taken_at: That address, once it was looked up: no intent says it.
    """

    name: str = ""
    arrives: Sides | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    port: int | None = None
    description: str = ""
    taken_at: Address | None = None
    place: Place = NOWHERE


Translation = Exempt | Dynamic | Static | Publish | Twice | Intercept


def described(one: Translation) -> str:
    """Return a translation in a few words."""
    if one.name:
        return f"translation {one.name}"
    if isinstance(one, Publish):
        return f"publish {one.external} on {one.internal}"
    if isinstance(one, Static):
        return f"static {one.external.shortest} on {one.internal.shortest}"
    if isinstance(one, Intercept):
        return f"interception of {', '.join(map(str, one.services)) if one.services is not None else 'everything'}"
    return "exemption" if isinstance(one, Exempt) else "dynamic translation"
