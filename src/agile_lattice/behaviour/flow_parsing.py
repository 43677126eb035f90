"""Packets in words: source, destination and service, and where they come in."""

from __future__ import annotations

import msgspec

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import ICMP_TYPES, PORT_PROTOCOLS, PROTOCOLS
from agile_lattice.notation.errors import fail
from agile_lattice.notation.lookup import device_named

ORDINARY_SOURCE_PORT = 49152  # the first of those that RFC 6335 leaves to clients


class Sent(msgspec.Struct, frozen=True):
    """A packet, and where it comes in.

    Attributes:
        header: The packet.
        device: The first device.
        arrives: The ingress interface; empty if the device sends it itself.
    """

    header: Header
    device: str
    arrives: str


def packet_of(network: Network, words: tuple[str, str, str], at: str | None, place: Place = NOWHERE) -> Sent:
    """Read a packet.

    Args:
        network: Where hosts and devices are looked up.
        words: Source and destination, as addresses or names of hosts, and the service.
        at: The interface on which it arrives, as `DEVICE:INTERFACE`; `None` if that is on its source's own link, or if
            the source is an address of a device, which sends it itself.
        place: Where the words are written.

    Raises:
        NotationError: If it is no packet, or it cannot be told where it comes in.
    """
    source, destination = (_address(network, each, place) for each in words[:2])
    if source.family != destination.family:
        raise fail(place, f"{source} and {destination} are of two families", "Give both as IPv4, or both as IPv6.")
    header = _header(source, destination, words[2], place)
    return Sent(header, *_entrance(network, source, at, place))


def follow(network: Network, source: str, destination: str, service: str, at: str | None = None) -> Walk:
    """Follow a packet through a network.

    Args:
        network: The network.
        source: An address, or a host that the intent names.
        destination: Likewise.
        service: Protocol and port, such as `tcp/443`, or `icmp`.
        at: The interface on which it arrives, as `DEVICE:INTERFACE`; `None` if that is on its source's own link, or if
            the source is an address of a device, which sends it itself.

    Raises:
        NotationError: If it is no packet, or it cannot be told where it comes in.
    """
    sent = packet_of(network, (source, destination, service), at)
    return walk(Topology(network), sent.header, sent.device, sent.arrives)


def _address(network: Network, text: str, place: Place) -> Address:
    for host in network.hosts:
        if host.name == text:
            return host.address.address
    try:
        return Address.parse(text)
    except ValueError:
        names = ", ".join(host.name for host in network.hosts)
        raise fail(
            place, f"{text!r} is neither an address nor a host that the intent names",
            f"Its hosts are {names}." if names else "It names no hosts.",
        ) from None  # fmt: skip


def _header(source: Address, destination: Address, service: str, place: Place) -> Header:
    protocol, _, number = service.partition("/")
    if protocol == "icmp" and source.family == 6:
        protocol = "icmp6"
    if protocol not in PROTOCOLS:
        raise fail(place, f"there is no protocol {protocol!r}", f"Known are {', '.join(PROTOCOLS)}.")
    if protocol in ICMP_TYPES:
        kinds = ICMP_TYPES[protocol]
        kind = kinds.get(number or "echo-request", int(number) if number.isascii() and number.isdigit() else 256)
        if kind > 255:
            raise fail(place, f"{number!r} is not a type of {protocol}", f"Known by name are {', '.join(kinds)}.")
        return Header(source, destination, protocol, kind)
    if protocol not in PORT_PROTOCOLS:
        return Header(source, destination, protocol)
    if not number:
        raise fail(place, f"{service!r} has no port", f"Write it as {protocol}/443.")
    return Header(source, destination, protocol, _port(number, place), ORDINARY_SOURCE_PORT)


def _port(text: str, place: Place) -> int:
    if not (text.isascii() and text.isdigit() and int(text) <= 65535):
        raise fail(place, f"{text!r} is not a port", "Ports are numbers up to 65535.")
    return int(text)


def _entrance(network: Network, source: Address, at: str | None, place: Place) -> tuple[str, str]:
    """Find out where the packet comes in: where it is said, nowhere if a device sends it, or on its source's link."""
    if at:
        name, colon, interface = at.partition(":")
        device = device_named(network.devices, name, place)
        known = [each.name for each in device.interfaces]
        if not colon or interface not in known:
            raise fail(
                place, f"{at!r} names no interface of {device.name}",
                f"Write it as {device.name}:INTERFACE; it has {', '.join(known)}.",
            )  # fmt: skip
        return device.name, interface
    holders = {port.device.name for port in Topology(network).neighbours.holders.get(source, ())}
    if len(holders) == 1:
        return holders.pop(), ""
    found = [
        (device.name, one.name)
        for device in network.devices
        for one in device.interfaces
        if one.enabled and not one.loopback and one.subnet_of(source) is not None
    ]
    gateway = next((host.gateway for host in network.hosts if host.address.address == source), None)
    if len(found) > 1 and gateway is not None:
        holders = {port.device.name for port in Topology(network).neighbours.holders.get(gateway, ())}
        found = [each for each in found if each[0] in holders] or found
    if len(found) == 1:
        return found[0]
    if not found:
        public = [
            f"{device.name}:{one.name}"
            for device in network.devices
            for one in device.interfaces
            if network.exposure(one.zone) == "public"
        ]
        hint = f"Say where it comes in with --at, as in --at {(public or ['DEVICE:INTERFACE'])[0]}."
        raise fail(place, f"{source} is on no link that the intent describes", hint)
    places = ", ".join(":".join(each) for each in found)
    raise fail(place, f"{source} is on the link of several devices", f"Say which with --at: {places}.")
