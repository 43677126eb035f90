"""The neutral model: a network of devices, its zones and its provider blocks.

Everything here is a frozen value. Names and zones that an intent file refers to are already
resolved: a match holds interfaces, addresses and ports. The parts of a device have modules
of their own: `interfaces`, `routes`, `translations`, `permits`.
"""

from __future__ import annotations

from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.errors import UnknownName
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.connections import Connection
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.permits import Access, Listening, Permit
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import Services
from agile_lattice.intent.translations import Translation
from agile_lattice.intent.vocabulary import Named

Exposure = Literal["own", "shared", "public"]
Delivery = Literal["on-link", "routed"]
ReversePath = Literal["off", "strict", "loose"]
Section = Literal[
    "interfaces", "dial-up", "bridging", "descriptions", "answers", "routes", "translations", "permits", "access",
    "settings", "identity", "resolvers", "lookups", "hosts", "helpers",
]  # fmt: skip
SECTIONS: tuple[Section, ...] = (
    "interfaces", "dial-up", "bridging", "descriptions", "answers", "routes", "translations", "permits", "access",
    "settings", "identity", "resolvers", "lookups", "hosts", "helpers",
)  # fmt: skip
OWN_SETTINGS: tuple[Section, ...] = ("identity", "resolvers", "lookups", "hosts", "helpers")


_TOGETHER: dict[str, Section] = {"host-name": "identity", "search": "resolvers"}


def section_of_setting(name: str) -> Section:
    """Return the section that a setting belongs to, by its name or its key in the notation."""
    name = name.replace("_", "-")
    if name in _TOGETHER:
        return _TOGETHER[name]
    return next((section for section in OWN_SETTINGS if section == name), "settings")


class Answer(msgspec.Struct, frozen=True):
    """Addresses besides its own that a device answers ARP or ND for on an interface (RFC 826, RFC 4861)."""

    interface: str
    addresses: AddressSet
    place: Place = NOWHERE


class HostEntry(msgspec.Struct, frozen=True):
    """A name and its addresses, in the device's own table of hosts."""

    name: str
    addresses: tuple[Address, ...]


Helped = Literal["ftp", "tftp", "sip", "irc", "pptp", "sane", "amanda", "netbios-ns", "snmp"]


# The transport of their control connections.
HELPED_OVER: dict[Helped, tuple[str, ...]] = {
    "ftp": ("tcp",), "tftp": ("udp",), "sip": ("tcp", "udp"), "irc": ("tcp",), "pptp": ("tcp",), "sane": ("tcp",),
    "amanda": ("udp",), "netbios-ns": ("udp",), "snmp": ("udp",),
}  # fmt: skip


class Helper(msgspec.Struct, frozen=True, order=True):
    """A protocol that opens further connections, which the device looks into (RFC 2663 section 2.9).

    Attributes:
        name: The protocol.
        services: The ports to which its control connections are made; just IPv4 ones are looked into.
    """

    name: Helped
    services: Services


class Settings(msgspec.Struct, frozen=True):
    """What is set on a device as a whole.

    Attributes:
        host_name: If it is not the name that the intent gives the device.
        forwarding4, forwarding6: Whether it forwards packets of a family between interfaces; `None` if not said.
        reverse_path: Whether a packet's source must be reachable by its ingress interface (RFC 3704).
        resolvers: DNS resolvers that it asks.
        lookups: Whether it asks resolvers for names at all; `None` if not said.
        search: Domains in which it looks for short names, in order (RFC 1535).
        hosts: Its own table of hosts.
        helpers: Protocols of which it lets pass what their control connections open.
        identity: The address that stands for the device (router id); `None` for its first IPv4 loopback.
    """

    host_name: str = ""
    forwarding4: bool | None = None
    forwarding6: bool | None = None
    reverse_path: ReversePath | None = None
    resolvers: tuple[Address, ...] = ()
    hosts: tuple[HostEntry, ...] = ()
    identity: Address | None = None
    search: tuple[str, ...] = ()
    lookups: bool | None = None
    helpers: tuple[Helper, ...] = ()
    place: Place = NOWHERE

    def __bool__(self) -> bool:
        return self != Settings()

    def common(self) -> Settings:
        """Return what is of no section of its own."""
        return replace(self, host_name="", identity=None, resolvers=(), search=(), lookups=None, hosts=(), helpers=())


class Device(msgspec.Struct, frozen=True):
    """A device: all that is said of it, or all that was read from it.

    Attributes:
        speaks: Names of its dialects, in order of precedence.
        answers: What it answers for besides its own addresses; `None` where that
            follows from the translations, as it does in an intent.
        permits: What may pass; without any everything may.
        access: Who may manage it.
        listens: What it offers itself: a fact about it, not a thing to be configured.
        description: A remark that stays in the intent.
        named: What sets of addresses and services are called, for systems that declare them apart.
        connection: How it is reached; `None` if that is not said.
    """

    name: str
    speaks: tuple[str, ...] = ()
    interfaces: tuple[Interface, ...] = ()
    routes: tuple[Route, ...] = ()
    translations: tuple[Translation, ...] = ()
    answers: tuple[Answer, ...] | None = None
    permits: tuple[Permit, ...] = ()
    access: tuple[Access, ...] = ()
    settings: Settings = Settings()
    listens: tuple[Listening, ...] = ()
    description: str = ""
    named: tuple[Named, ...] = ()
    connection: Connection | None = None
    place: Place = NOWHERE

    @property
    def ways(self) -> tuple[Route, ...]:
        """Its routes, with those that gateways stand for: of an interface that one is its default route (RFC 1122)."""
        gateways = [
            Route(Prefix(each.gateway.family, 0, 0), each.gateway, each.name, place=each.place.at("gateway"))
            for each in self.interfaces
            if each.gateway is not None
        ]
        return (*self.routes, *gateways)

    def interface(self, name: str) -> Interface | None:
        """Return the interface of that name, if there is one."""
        return next((each for each in self.interfaces if each.name == name), None)

    def keeps_vlans_apart(self, bridge: Interface) -> bool:
        """Tell whether an interface is a bridge in which something is said of VLANs (IEEE 802.1Q)."""
        members = bridge.bridge.members if bridge.bridge is not None else ()
        inside = (each for each in self.interfaces if each.name == bridge.name or each.name in members)
        return bridge.bridge is not None and any(each.carried for each in inside)

    def is_bridged(self, name: str) -> bool:
        """Tell whether an interface is a bridge, or a port of one."""
        return any(each.bridge and name in (each.name, *each.bridge.members) for each in self.interfaces)

    def forwards(self, family: int) -> bool:
        """Tell whether packets of a family are forwarded; they are, unless it says otherwise."""
        return (self.settings.forwarding4 if family == 4 else self.settings.forwarding6) is not False

    @property
    def filters_by(self) -> Literal["strict", "loose"] | None:
        """How IPv4 packets are filtered by the reverse path (RFC 3704); `None` if they are not."""
        mode = self.settings.reverse_path
        return None if mode == "off" else mode

    @property
    def identity(self) -> Address | None:
        """The address that stands for the device: the one that is said, or its first IPv4 loopback address."""
        if self.settings.identity is not None:
            return self.settings.identity
        own = (each for one in self.interfaces if one.loopback for each in one.addresses if each.family == 4)
        return next((each.address for each in own), None)


class Zone(msgspec.Struct, frozen=True):
    """A side of the network that interfaces face.

    Attributes:
        exposure: Who is there: `own`, `shared` with partners or guests, or `public`; `None` if nobody said.
    """

    name: str
    exposure: Exposure | None = None
    description: str = ""
    place: Place = NOWHERE


class Reservation(msgspec.Struct, frozen=True):
    """Addresses of a block that are kept free for something."""

    addresses: AddressSet
    what: str
    place: Place = NOWHERE


class Holding(msgspec.Struct, frozen=True):
    """The part of a block that a device holds."""

    device: str
    addresses: AddressSet
    place: Place = NOWHERE


class Block(msgspec.Struct, frozen=True):
    """Addresses that a provider gave.

    Attributes:
        gateway: The provider's router, if the block is delivered on a link.
        delivery: `on-link` if the provider asks for each address (ARP, ND), `routed` if all of it is sent to us.
        holdings: Which device holds which part; empty if that is not said.
    """

    name: str
    prefix: Prefix
    gateway: Address | None = None
    delivery: Delivery = "on-link"
    holdings: tuple[Holding, ...] = ()
    reservations: tuple[Reservation, ...] = ()
    description: str = ""
    place: Place = NOWHERE


class Host(msgspec.Struct, frozen=True):
    """A host that the intent names.

    Attributes:
        address: With a prefix length if that was said, else host-length.
        gateway: Its default gateway, if that was said.
        zone: The zone that it is said to be in; empty if it is not said.
    """

    name: str
    address: Prefix
    gateway: Address | None = None
    zone: str = ""
    description: str = ""
    place: Place = NOWHERE


class Accepted(msgspec.Struct, frozen=True):
    """A finding that somebody has looked at and accepts.

    Attributes:
        finding: The slug of the check.
        on: The subject of the finding, as it is printed.
    """

    finding: str
    on: str
    reason: str
    place: Place = NOWHERE


class Network(msgspec.Struct, frozen=True):
    """Everything that one intent describes."""

    name: str
    devices: tuple[Device, ...] = ()
    zones: tuple[Zone, ...] = ()
    blocks: tuple[Block, ...] = ()
    hosts: tuple[Host, ...] = ()
    accepted: tuple[Accepted, ...] = ()

    def device(self, name: str) -> Device:
        """Return the device of that name.

        Raises:
            UnknownName: If there is none; it names those that there are.

        Example:
            >>> Network("pier", (Device("quay-edge"),)).device("quay-edge").name
            'quay-edge'
        """
        found = self.find_device(name)
        if found is None:
            raise UnknownName("device", name, [each.name for each in self.devices])
        return found

    def find_device(self, name: str) -> Device | None:
        """Return the device of that name; `None` if there is none."""
        return next((device for device in self.devices if device.name == name), None)

    def exposure(self, zone: str) -> Exposure | None:
        """Return who is in a zone; `None` if there is no such zone, or nobody said."""
        return next((each.exposure for each in self.zones if each.name == zone), None)
