"""Protocols, ports and ICMP types, as canonical services."""

from __future__ import annotations

import msgspec

from agile_lattice.packets.spans import Span, Spans, meet, merged

ALL_PORTS: Spans = ((0, 65535),)
ALL_TYPES: Spans = ((0, 255),)
PORT_PROTOCOLS = ("tcp", "udp", "sctp")
FAMILY_OF_ICMP = {"icmp": 4, "icmp6": 6}
ICMP_PROTOCOLS = tuple(FAMILY_OF_ICMP)
# IANA protocol numbers.
PROTOCOL_NUMBERS = {"icmp": 1, "tcp": 6, "udp": 17, "gre": 47, "esp": 50, "ah": 51, "icmp6": 58, "sctp": 132}
OTHER_PROTOCOL = "protocol "  # before the number of one that has no name here
PROTOCOLS = (*PORT_PROTOCOLS, *ICMP_PROTOCOLS, "gre", "esp", "ah")
# IANA registries of ICMP types (RFC 792, RFC 4443), by the words of the RFCs.
ICMP_TYPES = {
    "icmp": {
        "echo-reply": 0, "destination-unreachable": 3, "redirect": 5, "echo-request": 8,
        "router-advertisement": 9, "router-solicitation": 10, "time-exceeded": 11, "parameter-problem": 12,
        "timestamp-request": 13, "timestamp-reply": 14,
    },
    "icmp6": {
        "destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4,
        "echo-request": 128, "echo-reply": 129, "router-solicitation": 133, "router-advertisement": 134,
        "neighbour-solicitation": 135, "neighbour-advertisement": 136, "redirect": 137,
    },
}  # fmt: skip


class Service(msgspec.Struct, frozen=True, order=True):
    """One protocol and, where it has them, destination ports or ICMP types.

    Attributes:
        protocol: One of `PROTOCOLS`.
        ports: Ports (0 to 65535), or types of ICMP (0 to 255); `None` for all of them.
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
        return f"{self.protocol}/{','.join(self.words())}"

    def words(self) -> list[str]:
        """Return its ports or types as text, one for each span; nothing if it has all."""
        names = {number: name for name, number in ICMP_TYPES.get(self.protocol, {}).items()}
        return [names[first] if first == last and first in names else spell_ports((first, last))
                for first, last in self.ports or ()]  # fmt: skip


Services = tuple[Service, ...]


def spell_ports(span: Span) -> str:
    """Write a span of ports: `443` or `8000-8010`."""
    first, last = span
    return str(first) if first == last else f"{first}-{last}"


def union_of_services(services: list[Service]) -> Services:
    """Return the canonical form: one service per protocol, sorted, ports merged."""
    ports: dict[str, list[Span]] = {}
    for service in services:
        ports.setdefault(service.protocol, []).extend(service.ports or all_of(service.protocol))
    canonical = []
    for protocol in sorted(ports):
        spans = meet(merged(ports[protocol]), all_of(protocol))
        canonical.append(Service(protocol, None if spans == all_of(protocol) else spans))
    return tuple(canonical)


def all_of(protocol: str) -> Spans:
    """Return all ports of a protocol, or all types of ICMP."""
    return ALL_TYPES if protocol in ICMP_PROTOCOLS else ALL_PORTS


def number_of(protocol: str) -> int:
    """Return the number of a protocol, by its name or as `protocol 2`."""
    return PROTOCOL_NUMBERS.get(protocol) or int(protocol.removeprefix(OTHER_PROTOCOL))
