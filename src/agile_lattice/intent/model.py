"""The neutral model: devices, interfaces, routes and translations.

Everything here is a frozen value. Names and zones that an intent file refers to
are already resolved: a match holds interfaces, addresses and ports. `None` in a
match means "any".
"""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.spans import Span, Spans, merged

ALL_PORTS: Spans = ((0, 65535),)
PORT_PROTOCOLS = ("tcp", "udp", "sctp")
PROTOCOLS = (*PORT_PROTOCOLS, "icmp", "gre", "esp")
ETHERNET_MTU = 1500  # RFC 894
LOOPBACK_MTU = 65536
DEFAULT_DISTANCE = 1

Discard = Literal["blackhole", "unreachable", "prohibit"]
Ports = Literal["shared", "kept"]
Moment = Literal["arrival", "departure", "both"]
Exposure = Literal["own", "shared", "public"]
Section = Literal["interfaces", "remarks", "answers", "routes", "translations"]
SECTIONS: tuple[Section, ...] = ("interfaces", "remarks", "answers", "routes", "translations")


class Service(msgspec.Struct, frozen=True, order=True):
    """One protocol and, where it has them, destination ports.

    Attributes:
        protocol: One of `PROTOCOLS`.
        ports: Ports of a protocol that has ports; `None` for all of them.
    """

    protocol: str
    ports: Spans | None = None

    @property
    def has_ports(self) -> bool:
        """Whether the protocol is one that has ports."""
        return self.protocol in PORT_PROTOCOLS

    def __str__(self) -> str:
        if self.ports is None:
            return self.protocol
        return f"{self.protocol}/{','.join(spell_ports(span) for span in self.ports)}"


Services = tuple[Service, ...]


def spell_ports(span: Span) -> str:
    """Write a span of ports: `443` or `8000-8010`."""
    first, last = span
    return str(first) if first == last else f"{first}-{last}"


def union_of_services(services: list[Service]) -> Services:
    """Return the canonical form: one service per protocol, sorted, ports merged."""
    ports: dict[str, list[Span]] = {}
    for service in services:
        ports.setdefault(service.protocol, []).extend(service.ports or ALL_PORTS)
    canonical = []
    for protocol in sorted(ports):
        spans = merged(ports[protocol])
        canonical.append(Service(protocol, None if spans == ALL_PORTS else spans))
    return tuple(canonical)


class Interface(msgspec.Struct, frozen=True):
    """An interface of a device.

    Attributes:
        addresses: Its own addresses with their prefix lengths.
        loopback: Whether it is the device's loopback.
        enabled: Whether it is administratively up.
        mtu: In octets; `None` if the intent does not say, which means the medium's default.
        zone: The side it faces; empty if it faces none.
    """

    name: str
    addresses: tuple[Prefix, ...] = ()
    loopback: bool = False
    enabled: bool = True
    mtu: int | None = None
    description: str = ""
    zone: str = ""
    place: Place = NOWHERE

    @property
    def usual_mtu(self) -> int:
        """The MTU that it has if nothing is said, in octets."""
        return LOOPBACK_MTU if self.loopback else ETHERNET_MTU

    def subnet_of(self, address: Address | Prefix) -> Prefix | None:
        """Return the own address whose subnet holds `address`, the longest; host-length ones hold nothing else."""
        around = [own for own in self.addresses if not own.is_host and own.contains(address)]
        return max(around, key=lambda own: own.length, default=None)


class Route(msgspec.Struct, frozen=True, gc=False):
    """A static route.

    Attributes:
        to: Destination prefix.
        via: Next hop.
        interface: Egress interface.
        discard: What becomes of the packets of a route that leads nowhere (RFC 8349 special next hops).
        distance: Administrative distance, from 1; the lowest wins among equal prefixes. Some systems end at
            255, others (whose metric it is) at 4294967295.
    """

    to: Prefix
    via: Address | None = None
    interface: str | None = None
    discard: Discard | None = None
    distance: int = DEFAULT_DISTANCE
    place: Place = NOWHERE

    @property
    def destination(self) -> str:
        """The destination as an intent file has it: `default` where the next hop tells the family."""
        return "default" if self.to.length == 0 and self.via is not None else str(self.to)


class Exempt(msgspec.Struct, frozen=True, tag="exempt"):
    """Packets that no later translation may touch.

    Attributes:
        arrives, leaves: Interfaces, sorted; `None` for any.
        at: Where it speaks: on arrival, on departure, or at both. One that names `leaves`
            speaks on departure only, since the way out is not known on arrival.
    """

    name: str = ""
    arrives: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    at: Moment = "both"
    place: Place = NOWHERE


class Dynamic(msgspec.Struct, frozen=True, tag="dynamic"):
    """Source translation of whatever matches (RFC 2663 section 4.1).

    Attributes:
        pool: External addresses, first and last; `None` for the address of the egress interface.
        ports: `shared` is NAPT; with `kept` each internal host has an external address to itself.
    """

    name: str = ""
    arrives: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    services: Services | None = None
    pool: AddressSet | None = None
    ports: Ports = "shared"
    place: Place = NOWHERE


class Static(msgspec.Struct, frozen=True, tag="static"):
    """A one-to-one translation of a host, both ways.

    Attributes:
        facing: Interfaces on the external side, sorted; `None` for any.
    """

    external: Address
    internal: Address
    name: str = ""
    facing: tuple[str, ...] | None = None
    place: Place = NOWHERE


class Publish(msgspec.Struct, frozen=True, tag="publish"):
    """A service of an internal host made reachable at an external address.

    Attributes:
        services: External protocols and ports; `None` for everything.
        internal_port: The port on the internal host; `None` where it is the external one.
        source: Who may use it; `None` for anybody.
    """

    external: Address
    internal: Address
    name: str = ""
    facing: tuple[str, ...] | None = None
    source: AddressSet | None = None
    services: Services | None = None
    internal_port: int | None = None
    place: Place = NOWHERE


Translation = Exempt | Dynamic | Static | Publish


class Answer(msgspec.Struct, frozen=True):
    """Addresses besides its own that a device answers ARP for on an interface (RFC 826)."""

    interface: str
    addresses: AddressSet
    place: Place = NOWHERE


class Device(msgspec.Struct, frozen=True):
    """A device: all that is said of it, or all that was read from it.

    Attributes:
        speaks: Names of its dialects, in order of precedence.
        answers: What it answers for besides its own addresses; `None` where that
            follows from the translations, as it does in an intent.
    """

    name: str
    speaks: tuple[str, ...] = ()
    interfaces: tuple[Interface, ...] = ()
    routes: tuple[Route, ...] = ()
    translations: tuple[Translation, ...] = ()
    answers: tuple[Answer, ...] | None = None
    place: Place = NOWHERE


class Zone(msgspec.Struct, frozen=True):
    """A side of the network that interfaces face.

    Attributes:
        exposure: Who is there: `own`, `shared` with partners or guests, or `public`.
    """

    name: str
    exposure: Exposure | None = None
    description: str = ""
    place: Place = NOWHERE


class Network(msgspec.Struct, frozen=True):
    """Everything that one intent describes."""

    name: str
    devices: tuple[Device, ...] = ()
    zones: tuple[Zone, ...] = ()

    def device(self, name: str) -> Device | None:
        """Return the device of that name, if there is one."""
        return next((device for device in self.devices if device.name == name), None)
