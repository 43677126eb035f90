"""Packets that show a difference: tried on both sides, and told with what becomes of them.

A packet proves that a difference matters; that none was found proves nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from ipaddress import ip_address
from itertools import islice
from typing import Any

from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import DESTINATION, PROTOCOL_NAMES, SOURCE, STRANGER, Space
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.differences import Difference, Gap, Witness
from agile_lattice.dialects.facts import AddressFact, AnswerFact
from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import ICMP_PROTOCOLS, PORT_PROTOCOLS
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Dynamic, Exempt, Publish, Static, Twice
from agile_lattice.packets.boxes import Box, difference, overlap

ECHO = {"icmp": 8, "icmp6": 128}  # the type of a request
MOST_TRIES = 40  # packets for one difference
MOST_WORK = 400_000  # rules that may be asked in all
DOCUMENTATION = tuple(
    Prefix.parse(each) for each in ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32")
)

Candidate = tuple[str, Header]


def with_witnesses(intent: Device, there: Device, gaps: Sequence[Gap]) -> list[Difference]:
    """Return the differences, those with a packet that shows them as consequential.

    Args:
        intent: The device as it should be.
        there: The device as it is.
        gaps: What differs.
    """
    sides = [Topology(Network("", (replace(each, name=intent.name),))) for each in (intent, there)]
    rules = 1 + sum(len(each.translations) + len(each.permits) for each in (intent, there))
    budget = MOST_WORK // rules
    found = []
    for gap in gaps:
        witness = None
        if gap.difference.weight == "open" and budget > 0:
            for arrives, header in islice(_candidates(intent, there, sides[0], gap), min(MOST_TRIES, budget)):
                budget -= 1
                witness = tried(sides, intent.name, arrives, header)
                if witness is not None:
                    break
        found.append(
            gap.difference if witness is None else replace(gap.difference, weight="consequential", witness=witness)
        )
    return found


def tried(sides: Sequence[Topology], name: str, arrives: str, header: Header) -> Witness | None:
    """Let a packet through a device on both sides; return it as a witness if that makes a difference."""
    if any(each.devices[name].interface(arrives) is None for each in sides):
        return None
    intent, there = (walk(each, header, name, arrives) for each in sides)
    if _outcome(intent) == _outcome(there):
        return None
    return Witness(arrives, header, _told(intent), _told(there))


def _outcome(found: Walk) -> object:
    """Return what becomes of a packet; of a pool any address is the same."""
    if not found.arrives:
        return "stops"
    visit = found.visits[-1]
    pool = next((each.pool for each in visit.stages if each.stage == "departure"), None)
    source = visit.after.source if pool is None or pool.is_single else pool
    to = found.reason if found.end == "handed on" else ""
    return found.end, visit.leaves, source, visit.after.destination, visit.after.port, to


def _told(found: Walk) -> str:
    visit = found.visits[-1]
    if not found.arrives or visit.before == visit.after:
        return f"{found.end}: {found.reason}"
    return f"{found.end} as {visit.after}: {found.reason}"


def _candidates(intent: Device, there: Device, topology: Topology, gap: Gap) -> Iterator[Candidate]:
    """Yield packets that could show a difference, the most ordinary first."""
    wanted, found = gap.wanted, gap.found
    one: Any = wanted if wanted is not None else found
    ports = [each for each in intent.interfaces if each.enabled and not each.loopback]
    ports.sort(key=is_outside)  # from inside first: that is where people look
    if isinstance(one, Exempt | Dynamic | Static | Publish | Twice | Permit):
        yield from _of_rules(intent, there, topology, wanted, found)
    elif isinstance(one, Route):
        for each in (wanted, found):
            if each is not None:
                yield from _into(each.to, ports)
    elif isinstance(one, AddressFact | AnswerFact):
        here = [port for port in ports if port.name == one.interface]
        for each in (wanted, found):
            if each is not None:
                yield from towards(each.address.address, [*here, *ports])
                yield from _into(each.address, ports)
    elif isinstance(one, Interface):
        for prefix in {*wanted.addresses, *found.addresses} if wanted and found else one.addresses:
            yield from towards(prefix.address, ports)
            yield from _into(prefix, ports)


def _into(prefix: Prefix, ports: Sequence[Interface]) -> Iterator[Candidate]:
    """Yield packets to a host near each end of a prefix."""
    offset = 9 if prefix.last - prefix.first > 2 * 9 else 0
    for value in dict.fromkeys((prefix.first + offset, prefix.last - offset)):
        yield from towards(Address(prefix.family, value), ports)


def towards(target: Address, ports: Iterable[Interface]) -> Iterator[Candidate]:
    """Yield packets to an address: from a neighbour inside, or from a stranger."""
    for port in ports:
        yield port.name, Header(_sender(port, target), target, "tcp", 443, 49152)


def _sender(port: Interface, target: Address) -> Address:
    """Return who would send something in by an interface: a neighbour inside, or a stranger."""
    near = next((each for each in port.addresses if each.family == target.family and not each.is_host), None)
    if near is not None and _is_private(port) and near.length < 28:
        return Address(near.family, near.first + (9 if near.first + 9 not in (near.value, target.value) else 10))
    return STRANGER[target.family]


def is_outside(port: Interface) -> bool:
    """Tell whether an interface has no address of a private range."""
    return not _is_private(port)


def _is_private(port: Interface) -> bool:
    """Tell whether an interface has an address of RFC 1918 or RFC 4193."""
    return any(ip_address(str(each.address)).is_private and not _is_example(each) for each in port.addresses)


def _is_example(prefix: Prefix) -> bool:
    """Tell whether a prefix is one of those for documentation (RFC 5737, RFC 3849), which stand for public ones."""
    return any(each.family == prefix.family and each.contains(prefix.address) for each in DOCUMENTATION)


def _of_rules(intent: Device, there: Device, topology: Topology, wanted: object, found: object) -> Iterator[Candidate]:
    """Yield packets of what only one of two rules matches, of both, and of each."""
    ports = [*intent.interfaces, *(each for each in there.interfaces if not intent.interface(each.name))]
    for space in (Space(ports, family) for family in (4, 6) if ports):
        ours, theirs = ([] if each is None else _boxes(space, each) for each in (wanted, found))
        regions: list[Box] = []
        for box in ours:
            for other in theirs:
                regions += [*difference(box, other), *difference(other, box)]
                common = overlap(box, other)
                regions += [common] if common is not None else []
        for box in dict.fromkeys([*regions, *ours, *theirs]):
            yield from packets_of(space, topology, intent.name, box)


def _boxes(space: Space, one: Any) -> list[Box]:
    if isinstance(one, Permit):
        boxes = space.of_permit(one)
    else:
        boxes = [space.of_rule(rule) for rule in split([one]) if space.speaks(rule)]
    return [each for each in boxes if all(each)]  # one that names an interface which is not there matches nothing


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
    for target in dict.fromkeys(targets):
        for name in arrivals[:6]:
            entrance = topology.devices[device].interface(name)
            if entrance is not None:
                source = _sender(entrance, target) if space.any_address == box[SOURCE] else header.source
                yield name, replace(header, destination=target, source=source)


def _behind(space: Space, topology: Topology, device: str, box: Box) -> Iterator[Address]:
    """Yield destinations of a box that are behind the interfaces by which it says that packets leave."""
    leaves = {space.names[at] for first, last in box[1] for at in range(first, last + 1)}
    table = topology.table(device, space.family)
    for (start, hop), end in zip(table.intervals(), [*table.starts[1:], 1 << BITS[space.family]], strict=True):
        if hop is None or hop.interface not in leaves:
            continue
        for first, last in box[DESTINATION]:
            low, high = max(first, start), min(last, end - 1)
            if low <= high:
                yield Address(space.family, min(low + 9, high))
