"""Rules as exact sets of IPv4 packets: what a rule matches, what earlier ones leave of it.

The dimensions of a box are the interface that a packet arrives on, the one that it leaves by,
protocol, source, destination, and destination port (or type, for ICMP).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.permits import Passage, Permit
from agile_lattice.intent.services import PORT_PROTOCOLS, PROTOCOL_NUMBERS, Service
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.boxes import Box, some_point
from agile_lattice.packets.spans import Spans, merged

ANY_PROTOCOL: Spans = ((0, 255),)
ANY_PORT: Spans = ((0, 65535),)
ANY_ADDRESS: Spans = ((0, 2**32 - 1),)
PROTOCOL_NAMES = {number: name for name, number in PROTOCOL_NUMBERS.items()}
# What an ordinary packet looks like, where a set leaves the choice.
LIKED_PROTOCOLS = (6, 17, 1)
LIKED_PORTS = (443, 80, 53, 22, 8)
LIKED_SOURCE = 0x0A00000A  # 10.0.0.10
LIKED_DESTINATION = 0xC6336409  # 198.51.100.9


class Packet(msgspec.Struct, frozen=True):
    """One packet, as an example.

    Attributes:
        arrives, leaves: Interfaces; empty if any would do.
        service: Protocol and destination port, in words.
    """

    arrives: str
    leaves: str
    source: Address
    destination: Address
    service: str

    def __str__(self) -> str:
        way = f" from {self.arrives}" * bool(self.arrives) + f" to {self.leaves}" * bool(self.leaves)
        return f"{self.source} -> {self.destination} {self.service}{way}"


class Space:
    """The packets of one device: its interfaces, as numbers.

    Args:
        interfaces: Those of the device.
    """

    def __init__(self, interfaces: Iterable[Interface]) -> None:
        self.names = [each.name for each in interfaces]
        self.numbers = {name: number for number, name in enumerate(self.names)}
        self.any_side: Spans = ((0, max(len(self.names) - 1, 0)),)

    def side(self, names: Iterable[str] | None) -> Spans:
        """Return interfaces as numbers; all of them for None."""
        if names is None:
            return self.any_side
        return merged((self.numbers[name], self.numbers[name]) for name in names if name in self.numbers)

    def box(
        self,
        arrives: Iterable[str] | None = None,
        leaves: Iterable[str] | None = None,
        source: AddressSet | None = None,
        destination: AddressSet | None = None,
        service: Service | None = None,
    ) -> Box:
        """Return the box of what a match says; `None` is any."""
        protocol = ANY_PROTOCOL if service is None else _number(service.protocol)
        ports = ANY_PORT if service is None or service.ports is None else service.ports
        return self.side(arrives), self.side(leaves), protocol, _addresses(source), _addresses(destination), ports

    def of_rule(self, rule: Rule) -> Box:
        """Return what a stage rule matches."""
        service = Service(rule.protocol, rule.ports) if rule.protocol else None
        return self.box(rule.arrives, rule.leaves, rule.source, rule.destination, service)

    def of_permit(self, permit: Permit) -> list[Box]:
        """Return what a permit matches, a box for each of its services; nothing if it speaks of IPv6."""
        if any(each is not None and each.family != 4 for each in (permit.source, permit.destination)):
            return []
        services: Sequence[Service | None] = permit.services if permit.services is not None else [None]
        return [self.box(permit.arrives, permit.leaves, permit.source, permit.destination, each) for each in services]

    def example(self, box: Box) -> Packet:
        """Return an ordinary packet of a box: hosts rather than network addresses, well-known ports."""
        sources = [LIKED_SOURCE, _ordinary(box[3])] if box[3][0][0] == 0 else [_ordinary(box[3])]
        destinations = [LIKED_DESTINATION, _ordinary(box[4])]
        liked = [(), (), LIKED_PROTOCOLS, sources, destinations, LIKED_PORTS]
        arrives, leaves, protocol, from_, to, port = some_point(box, liked)
        name = PROTOCOL_NAMES.get(protocol, f"protocol {protocol}")
        with_port = name in PORT_PROTOCOLS or box[5] != ANY_PORT
        return Packet(
            "" if box[0] == self.any_side else self.names[arrives],
            "" if box[1] == self.any_side else self.names[leaves],
            Address(4, from_), Address(4, to), f"{name}/{port}" if with_port else name,
        )  # fmt: skip


def is_of_ipv4(rule: Rule | Passage) -> bool:
    """Tell whether a rule can match packets of IPv4; only those have boxes."""
    sets = (rule.source, rule.destination, getattr(rule, "to", None))
    return rule.protocol != "icmp6" and all(each is None or each.family == 4 for each in sets)


def _ordinary(spans: Spans) -> int:
    """Return an address inside the first span, past its edge if it has one."""
    first, last = spans[0]
    return min(first + 10, last) if last - first > 10 else min(first + 1, last)


def _number(protocol: str) -> Spans:
    number = PROTOCOL_NUMBERS[protocol]
    return ((number, number),)


def _addresses(addresses: AddressSet | None) -> Spans:
    return ANY_ADDRESS if addresses is None else addresses.spans
