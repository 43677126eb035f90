"""Which packets somebody could send into a device, and what an ordinary one looks like."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice

from agile_lattice.behaviour.links import comes_in
from agile_lattice.behaviour.matching import (
    ARRIVES,
    DESTINATION,
    ICMP_TYPES,
    LIKED_PORTS,
    LIKED_PROTOCOLS,
    PORT,
    PROTOCOL,
    SOURCE,
    STRANGER,
    Space,
)
from agile_lattice.behaviour.sample_packets import is_outside, sender
from agile_lattice.behaviour.set_pipeline import Treating
from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, merged, minus

OTHER_STRANGER = {4: Address.parse("192.0.2.9"), 6: Address.parse("2001:db8:fffe::9")}
MOST_LIKELY = 48  # addresses that are thought of first
MOST_SORTED = 64  # boxes of which the most ordinary packet is looked for

# What no packet that is forwarded has as its source, or as its destination: this network, loopback, link-local,
# multicast, limited broadcast (RFC 1122 section 3.2.1.3, RFC 6890, RFC 4291 section 2).
_NOT_UNICAST = {
    4: ("0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "255.255.255.255/32"),
    6: ("::/127", "fe80::/10", "ff00::/8"),
}


def _all_but(family: int) -> Spans:
    odd = [Prefix.parse(each) for each in _NOT_UNICAST[family]]
    return minus(((0, (1 << BITS[family]) - 1),), merged((each.first, each.last) for each in odd))


UNICAST = {family: _all_but(family) for family in BITS}


def sendable(sides: Sequence[Treating]) -> Box | None:
    """Return the packets that somebody could send into a device, given as it is on two sides; None for none.

    They arrive on an interface that is up on one of them. Their source is not one of the device's own addresses, nor
    one that it answers for: who else would send from it?
    """
    space = sides[0].space
    names = [name for name in space.names if comes_in(name, [each.device for each in sides])]
    sources = minus(UNICAST[space.family], merged(span for each in sides for span in each.held))
    whole = space.box(arrives=names)
    return _cut(whole, {SOURCE: sources, DESTINATION: UNICAST[space.family]}) if names else None


def _cut(box: Box, within: dict[int, Spans]) -> Box | None:
    cut = tuple(meet(spans, within[at]) if at in within else spans for at, spans in enumerate(box))
    return cut if all(cut) else None


def likely(boxes: Iterable[Box], sides: Sequence[Treating]) -> Iterator[Box]:
    """Yield ordinary packets of some boxes: from hosts to hosts, to well-known ports.

    Of the first boxes the most ordinary ones come first, and those from inside.
    """
    rest = iter(boxes)
    first = [each for box in islice(rest, MOST_SORTED) for each in _ordinary(box, sides)]
    for _, narrow in sorted(first, key=lambda each: each[0]):
        yield narrow
    for box in rest:
        yield from (narrow for _, narrow in _ordinary(box, sides))


def _ordinary(box: Box, sides: Sequence[Treating]) -> Iterator[tuple[int, Box]]:
    """Yield the ordinary packets of a box for each interface, with the number of dimensions in which there are none."""
    space = sides[0].space
    ports = {one.name: one for each in sides[::-1] for one in each.device.interfaces}
    numbers = [at for first, last in box[ARRIVES] for at in range(first, last + 1)]
    neighbours = {at: sender(ports[space.names[at]], STRANGER[space.family]).value for at in numbers}

    def unusual(at: int) -> tuple[bool, bool]:
        near = neighbours[at]
        return not meet(box[SOURCE], ((near, near),)), is_outside(ports[space.names[at]])

    liked = {PROTOCOL: LIKED_PROTOCOLS[space.family], DESTINATION: _hosts(sides, space), PORT: LIKED_PORTS}
    alike = {dimension: _liked(box, dimension, numbers) for dimension, numbers in liked.items()}
    for at in sorted(numbers, key=unusual):
        mine = alike | {SOURCE: _liked(box, SOURCE, (neighbours[at], STRANGER[space.family].value))}
        narrow = [((at, at),), *box[1:]]
        for dimension, (spans, _) in mine.items():
            narrow[dimension] = spans
        yield sum(not usual for _, usual in mine.values()), tuple(narrow)


def _liked(box: Box, dimension: int, numbers: Iterable[int]) -> tuple[Spans, bool]:
    """Return those of some numbers that a box has in a dimension, and that it has any; else an ordinary one of it."""
    some = meet(box[dimension], merged((each, each) for each in numbers))
    if some:
        return some, True
    first, last = next((span for span in box[dimension] if span[1] - span[0] > 1), box[dimension][0])
    ordinary = min(first + 9, last) if dimension in (SOURCE, DESTINATION) else first
    return ((ordinary, ordinary),), False


def _hosts(sides: Sequence[Treating], space: Space) -> list[int]:
    """Return addresses that one would think of: hosts behind the device, what it answers for, itself, a stranger."""
    found = [STRANGER[space.family].value, OTHER_STRANGER[space.family].value]
    for each in sides:
        subnets = (own for one in each.device.interfaces for own in one.addresses if not own.is_host)
        routed = (route.to for route in each.device.routes)
        near = (one for one in chain(subnets, routed) if one.family == space.family and one.length)
        found += [min(one.first + 9, one.last) for one in islice(near, MOST_LIKELY)]
        found += [first for first, _ in each.held[:MOST_LIKELY]]
    return found


def chosen(box: Box, sides: Sequence[Treating]) -> tuple[int, ...]:
    """Return one packet of a box, an ordinary one if there is one."""
    narrow = next(likely([box], sides))
    best = {PROTOCOL: LIKED_PROTOCOLS[sides[0].space.family], PORT: LIKED_PORTS}
    point = [
        next((each for each in best.get(at, ()) if meet(spans, ((each, each),))), spans[0][0])
        for at, spans in enumerate(narrow)
    ]
    types = (each for each in ICMP_TYPES.get(point[PROTOCOL], ()) if meet(box[PORT], ((each, each),)))
    point[PORT] = next(types, point[PORT])
    if point[SOURCE] == point[DESTINATION]:  # nobody sends to himself
        here = ((point[SOURCE], point[SOURCE]),)
        others = minus(narrow[DESTINATION], here) or minus(box[DESTINATION], here)
        point[DESTINATION] = others[0][0] if others else point[DESTINATION]
    return tuple(point)
