"""Ordinary packets: towards an address, of a box. What a walk needs to show something.

A candidate is the interface on which a packet arrives, and its header.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import ip_address

from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import DESTINATION, PROTOCOL_NAMES, SOURCE, STRANGER, Space
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import BITS, Address, Prefix, is_stand_in
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.services import ICMP_PROTOCOLS, PORT_PROTOCOLS
from agile_lattice.packets.boxes import Box

ECHO = {"icmp": 8, "icmp6": 128}  # the type of a request
MOST_ENTRANCES = 6
DOCUMENTATION = tuple(
    Prefix.parse(each) for each in ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32")
)

Candidate = tuple[str, Header]


def towards(target: Address, ports: Iterable[Interface]) -> Iterator[Candidate]:
    """Yield packets to an address: from a neighbour inside, or from a stranger."""
    for port in ports:
        yield port.name, Header(sender(port, target), target, "tcp", 443, 49152)


def sender(port: Interface, target: Address) -> Address:
    """Return who would send something to an interface: a neighbour inside, or a stranger."""
    near = next((each for each in port.addresses if each.family == target.family and not each.is_host), None)
    if near is not None and _is_private(port) and near.length < 28:
        return Address(near.family, near.first + (9 if near.first + 9 not in (near.value, target.value) else 10))
    return STRANGER[target.family]


def is_outside(port: Interface) -> bool:
    """Tell whether an interface has no address of a private range."""
    return not _is_private(port)


def _is_private(port: Interface) -> bool:
    """Tell whether an interface has an address of RFC 1918 or RFC 4193."""
    known = (each for each in port.addresses if not is_stand_in(each.address))
    return any(ip_address(str(each.address)).is_private and not _is_example(each) for each in known)


def _is_example(prefix: Prefix) -> bool:
    """Tell whether a prefix is one of those for documentation (RFC 5737, RFC 3849), which stand for public ones."""
    return any(each.family == prefix.family and each.contains(prefix.address) for each in DOCUMENTATION)


def packets_of(space: Space, topology: Topology, device: str, box: Box) -> Iterator[Candidate]:
    """Yield packets of a box; where it says by which interface they leave, they have to go there."""
    example = space.example(box)
    protocol, _, port = example.service.partition("/")
    if protocol not in (*PORT_PROTOCOLS, *ICMP_PROTOCOLS) and protocol not in PROTOCOL_NAMES.values():
        return
    number = int(port) if port.isdigit() else ECHO.get(protocol)
    source_port = 49152 if protocol in PORT_PROTOCOLS else None
    header = Header(example.source, example.destination, protocol, number, source_port)
    targets = [example.destination]
    if space.any_address == box[DESTINATION] or space.any_side != box[1]:
        targets += list(_behind(space, topology, device, box))
    arrivals = [space.names[at] for first, last in box[0] for at in range(first, last + 1)]
    anybody = space.any_address == box[SOURCE]
    home = topology.table(device, space.family).look_up(example.source.value)
    ports = {each.name: each for each in topology.devices[device].interfaces if each.enabled and not each.loopback}
    # Where the source is at home comes first; if it may be anybody, somebody inside.
    arrivals.sort(key=lambda name: _rank(ports.get(name), anybody, home.interface if home is not None else ""))
    for target in dict.fromkeys(targets):
        for name in arrivals[:MOST_ENTRANCES]:
            if name in ports:
                source = sender(ports[name], target) if anybody else header.source
                yield name, replace(header, destination=target, source=source)


def _rank(port: Interface | None, anybody: bool, home: str) -> bool:
    return port is None or (is_outside(port) if anybody else port.name != home)


def _behind(space: Space, topology: Topology, device: str, box: Box) -> Iterator[Address]:
    """Yield destinations of a box that are behind the interfaces by which it says that packets leave."""
    leaves = {space.names[at] for first, last in box[1] for at in range(first, last + 1)}
    table = topology.table(device, space.family)
    others = []  # rather a host inside a subnet than what else there is of it
    for (start, hop), end in zip(table.intervals(), [*table.starts[1:], 1 << BITS[space.family]], strict=True):
        if hop is None or hop.interface not in leaves:
            continue
        for first, last in box[DESTINATION]:
            low, high = max(first, start), min(last, end - 1)
            if low <= hop.prefix.first + 9 <= high:
                yield Address(space.family, hop.prefix.first + 9)
            elif low <= high:
                others.append(min(low + 9, high))
    yield from (Address(space.family, value) for value in others)
