"""Flows as single packets: what a header says, and whether a rule matches it."""

from __future__ import annotations

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import ICMP_PROTOCOLS, PORT_PROTOCOLS
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Spans

ECHO = {4: 8, 6: 128}  # the request that ICMP stands for where no type is said
REPLY_TYPES = {8: 0, 13: 14, 15: 16, 17: 18, 128: 129, 139: 140}  # RFC 792, RFC 950, RFC 4443, RFC 4620


class Header(msgspec.Struct, frozen=True):
    """What of a packet's header decides on its way.

    Attributes:
        protocol: One of `services.PROTOCOLS`.
        port: Destination port, or type of ICMP; `None` where the protocol has none.
        source_port: Source port; `None` where the protocol has none, or any will do.
    """

    source: Address
    destination: Address
    protocol: str
    port: int | None = None
    source_port: int | None = None

    @property
    def answer(self) -> Header:
        """The header of the packet that answers it."""
        if self.protocol in PORT_PROTOCOLS:
            return Header(self.destination, self.source, self.protocol, self.source_port, self.port)
        if self.protocol in ICMP_PROTOCOLS:
            kind = self.port if self.port is not None else ECHO[self.source.family]
            return Header(self.destination, self.source, self.protocol, REPLY_TYPES.get(kind))
        return Header(self.destination, self.source, self.protocol)

    @property
    def service(self) -> str:
        """Protocol and destination port, in words."""
        return self.protocol if self.port is None else f"{self.protocol}/{self.port}"

    def __str__(self) -> str:
        return f"{self.source} -> {self.destination} {self.service}"


class Tested(msgspec.Struct, frozen=True):
    """A rule that was asked, and did not match."""

    subject: str
    place: Place = NOWHERE


def matches(rule: Rule | Passage, header: Header, arrives: str, leaves: str = "") -> bool:
    """Tell whether a rule matches a packet.

    Args:
        rule: A rule of a stage, or of permits or access.
        header: The packet's header as the rule sees it.
        arrives: The ingress interface.
        leaves: The egress interface; empty where that is not known yet.
    """
    return (
        (rule.protocol is None or rule.protocol == header.protocol)
        and includes(rule.arrives, arrives)
        and includes(rule.leaves, leaves)
        and _holds(rule.source, header.source)
        and _holds(rule.destination, header.destination)
        and (rule.ports is None or _within(rule.ports, header.port))
    )


def _holds(addresses: AddressSet | None, address: Address) -> bool:
    return addresses is None or address in addresses


def _within(spans: Spans, port: int | None) -> bool:
    return port is not None and any(first <= port <= last for first, last in spans)


def moved(address: Address, matched: AddressSet, to: AddressSet) -> Address:
    """Shift an address by the offset between the set that matched and the one it becomes."""
    return Address(address.family, address.value - matched.spans[0][0] + to.spans[0][0])
