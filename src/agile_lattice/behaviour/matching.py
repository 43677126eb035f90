"""Rules as exact sets of packets of one family: what a rule matches, and an ordinary packet of it.

The dimensions of a box are the interface that a packet arrives on, the one that it leaves by,
protocol, source, destination, and destination port (or type, for ICMP).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from agile_lattice.intent.addresses import BITS, Address, AddressSet, stand_ins_between
from agile_lattice.intent.interface_names import includes, is_plain
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.permits import Passage, Permit
from agile_lattice.intent.services import PORT_PROTOCOLS, PROTOCOL_NUMBERS, Service
from agile_lattice.intent.stages import Rule, family_of
from agile_lattice.packets.boxes import Box, some_point
from agile_lattice.packets.spans import Span, Spans, merged, minus

ANY_PROTOCOL: Spans = ((0, 255),)
ANY_PORT: Spans = ((0, 65535),)
ARRIVES, LEAVES, PROTOCOL, SOURCE, DESTINATION, PORT = range(6)  # dimensions of a box
PROTOCOL_NAMES = {number: name for name, number in PROTOCOL_NUMBERS.items()}
# What an ordinary packet looks like, where a set leaves the choice.
LIKED_PROTOCOLS = {4: (6, 17, 1), 6: (6, 17, 58)}
LIKED_PORTS = (443, 80, 53, 22, 8, 128, 3, 1)
ICMP_TYPES = {1: (8, 3, 11, 0), 58: (128, 1, 3, 129)}  # what people see of it: a request, errors, a reply
INSIDER = {4: Address.parse("10.0.0.10"), 6: Address.parse("2001:db8:a::10")}
STRANGER = {4: Address.parse("198.51.100.9"), 6: Address.parse("2001:db8:ffff:ffff::9")}
OTHER_ICMP = {4: "icmp6", 6: "icmp"}


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


class Match(msgspec.Struct, frozen=True):
    """A box in words: `None` is any.

    Attributes:
        arrives, leaves: Names of interfaces.
        protocols: IP protocol numbers.
        source, destination: Addresses.
        ports: Destination ports, or types of ICMP.
    """

    arrives: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    protocols: Spans | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    ports: Spans | None = None

    def __str__(self) -> str:
        names = None if self.protocols is None else [*_numbers(self.protocols, PROTOCOL_NAMES)]
        service = f"{', '.join(names)}" if names else "any protocol" if self.ports else ""
        service += f"/{', '.join(_numbers(self.ports))}" if self.ports else ""
        ends = f"{_end(self.source)} -> {_end(self.destination)}"
        way = f"from {', '.join(self.arrives)}" if self.arrives is not None else ""
        way += f" to {', '.join(self.leaves)}" if self.leaves is not None else ""
        return " ".join(each for each in (ends, service, way.strip()) if each)


def _end(addresses: AddressSet | None) -> str:
    """Return addresses in words: as all but some, where these are fewer."""
    if addresses is None:
        return "any"
    others = minus(((0, (1 << BITS[addresses.family]) - 1),), addresses.spans)
    return (
        f"any but {AddressSet(addresses.family, others)}" if 0 < len(others) < len(addresses.spans) else str(addresses)
    )


def _numbers(spans: Spans, names: Mapping[int, str] | None = None) -> Iterator[str]:
    for first, last in spans:
        low, high = (str((names or {}).get(number, number)) for number in (first, last))
        yield low if first == last else f"{low}-{high}"


class Space:
    """The packets of one device and one family: its interfaces, as numbers.

    Args:
        interfaces: Those of the device.
        family: 4 or 6.

    Attributes:
        liked: For each dimension the numbers of an ordinary packet, the best first.
    """

    def __init__(self, interfaces: Iterable[Interface], family: int = 4) -> None:
        self.family = family
        self.names = [each.name for each in interfaces]
        self.numbers = {name: number for number, name in enumerate(self.names)}
        self.any_side: Spans = ((0, max(len(self.names) - 1, 0)),)
        self.any_address: Spans = ((0, (1 << BITS[family]) - 1),)
        ends = ((INSIDER[family].value,), (STRANGER[family].value,))
        self.liked: Sequence[Sequence[int]] = ((), (), LIKED_PROTOCOLS[family], *ends, LIKED_PORTS)

    def speaks(self, rule: Rule | Passage) -> bool:
        """Tell whether a rule can match packets of this family: only then it has a box."""
        if rule.protocol == OTHER_ICMP[self.family]:
            return False
        if isinstance(rule, Rule):
            return family_of(rule) == self.family
        return all(each is None or each.family == self.family for each in (rule.source, rule.destination))

    def side(self, names: Iterable[str] | None) -> Spans:
        """Return interfaces as numbers; all of them for None."""
        if names is None:
            return self.any_side
        if all(map(is_plain, names := tuple(names))):
            return merged((self.numbers[name], self.numbers[name]) for name in names if name in self.numbers)
        return merged((number, number) for name, number in self.numbers.items() if includes(names, name))

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
        ends = self._addresses(source), self._addresses(destination)
        return self.side(arrives), self.side(leaves), protocol, *ends, ports

    def of_rule(self, rule: Rule | Passage) -> Box:
        """Return what a rule matches."""
        service = Service(rule.protocol, rule.ports) if rule.protocol else None
        return self.box(rule.arrives, rule.leaves, rule.source, rule.destination, service)

    def of_match(self, match: Match) -> Box:
        """Return the box that words mean."""
        sides = self.side(match.arrives), self.side(match.leaves)
        addresses = self._addresses(match.source), self._addresses(match.destination)
        return *sides, match.protocols or ANY_PROTOCOL, *addresses, match.ports or ANY_PORT

    def words_of(self, boxes: Iterable[Box]) -> tuple[Match, ...]:
        """Return boxes in words, those that differ in their sources only as one."""
        together: dict[tuple[Spans, ...], list[Span]] = {}
        for box in boxes:
            together.setdefault((*box[:SOURCE], *box[SOURCE + 1 :]), []).extend(box[SOURCE])
        return tuple(
            self.words((*rest[:SOURCE], merged(sources), *rest[SOURCE:])) for rest, sources in together.items()
        )

    def words(self, box: Box) -> Match:
        """Return a box in words."""
        arrives, leaves, protocols, source, destination, ports = box
        return Match(
            self._named(arrives), self._named(leaves), None if protocols == ANY_PROTOCOL else protocols,
            self._set(source), self._set(destination), None if ports == ANY_PORT else ports,
        )  # fmt: skip

    def _set(self, spans: Spans) -> AddressSet | None:
        # Only a stand-in that is left out makes no difference to what people read.
        whole = merged((*spans, *stand_ins_between(self.family, spans))) if len(spans) > 1 else spans
        return None if whole == self.any_address else AddressSet(self.family, whole)

    def _named(self, side: Spans) -> tuple[str, ...] | None:
        if side == self.any_side:
            return None
        return tuple(self.names[at] for first, last in side for at in range(first, last + 1))

    def of_permit(self, permit: Permit) -> list[Box]:
        """Return what a permit matches, a box for each of its services; nothing if it speaks of the other family."""
        if any(each is not None and each.family != self.family for each in (permit.source, permit.destination)):
            return []
        services: Sequence[Service | None] = permit.services if permit.services is not None else [None]
        return [self.box(permit.arrives, permit.leaves, permit.source, permit.destination, each) for each in services]

    def example(self, box: Box) -> Packet:
        """Return an ordinary packet of a box: hosts rather than network addresses, well-known ports."""
        liked = list(self.liked)
        for at in (SOURCE, DESTINATION):
            whole = box[at][0][0] == 0  # from there on everything: then somebody who could be anybody
            liked[at] = [*self.liked[at], _ordinary(box[at])] if whole else [_ordinary(box[at])]
        liked[PORT] = ICMP_TYPES.get(some_point(box, liked)[PROTOCOL], LIKED_PORTS)
        arrives, leaves, protocol, from_, to, port = some_point(box, liked)
        name = PROTOCOL_NAMES.get(protocol, f"protocol {protocol}")
        with_port = name in PORT_PROTOCOLS or box[PORT] != ANY_PORT
        return Packet(
            "" if box[0] == self.any_side else self.names[arrives],
            "" if box[1] == self.any_side else self.names[leaves],
            Address(self.family, from_), Address(self.family, to), f"{name}/{port}" if with_port else name,
        )  # fmt: skip

    def _addresses(self, addresses: AddressSet | None) -> Spans:
        return self.any_address if addresses is None else addresses.spans


def _ordinary(spans: Spans) -> int:
    """Return an address inside the first span, past its edge if it has one."""
    first, last = spans[0]
    return min(first + 10, last) if last - first > 10 else min(first + 1, last)


def _number(protocol: str) -> Spans:
    number = PROTOCOL_NUMBERS[protocol]
    return ((number, number),)
