"""What a device does with one packet, written down a second time: plainly, from `docs/evaluation.md`, and slowly.

It shares nothing with `behaviour` but the model. What it says of single packets is held against what is claimed of all.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address, ip_network
from random import Random
from typing import NamedTuple
from zlib import crc32

from msgspec.structs import replace

from agile_lattice.intent.addresses import Address, AddressSet, Prefix, stand_in
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import passages
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.intent.stages import Rule, family_of, split

ODD = [ip_network(each) for each in (
    "0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "255.255.255.255/32",
    "::/127", "fe80::/10", "ff00::/8",
)]  # fmt: skip
BITS = {4: 32, 6: 128}
NOWHERE = ("", None)
NOBODY = -1


class Packet(NamedTuple):
    arrives: str
    family: int
    protocol: int
    source: int
    destination: int
    port: int


def inside(value: int, addresses: AddressSet | None, family: int) -> bool:
    if addresses is None:
        return True
    return addresses.family == family and any(first <= value <= last for first, last in addresses.spans)


def matches(rule: object, packet: Packet, leaves: str | None) -> bool:
    """Whether a rule of any list matches a packet; where it leaves is not known on arrival."""
    arrives, to, protocol, ports = rule.arrives, rule.leaves, rule.protocol, rule.ports  # type: ignore[attr-defined]
    return (
        (arrives is None or packet.arrives in arrives)
        and (to is None or leaves in to)
        and (protocol is None or PROTOCOL_NUMBERS[protocol] == packet.protocol)
        and not (protocol == "icmp" and packet.family == 6)
        and not (protocol == "icmp6" and packet.family == 4)
        and (ports is None or any(first <= packet.port <= last for first, last in ports))
        and inside(packet.source, rule.source, packet.family)  # type: ignore[attr-defined]
        and inside(packet.destination, rule.destination, packet.family)  # type: ignore[attr-defined]
    )


def own_addresses(device: Device, family: int) -> set[int]:
    return {a.value for one in device.interfaces if one.enabled for a in one.addresses if a.family == family}


def answered(device: Device, family: int, name: str | None = None) -> list[AddressSet]:
    found = normal_answers(device)
    return [each.addresses for each in found if name in (None, each.interface) and each.addresses.family == family]


def look_up(device: Device, instance: str, family: int, value: int) -> frozenset[tuple[str, int | None]] | str:
    """Where an address leads: `itself`, `nowhere`, or the interfaces and next hops that are equally good."""
    up = {one.name: one for one in device.interfaces if one.enabled and one.instance == instance}
    found: list[tuple[int, int, int, object]] = []
    for one in up.values():
        for own in one.addresses:
            if own.family != family:
                continue
            # For all hosts of a subnet of IPv4, and for any router of one of IPv6, is the device, too.
            shared = own.last if family == 4 else own.first
            shares = not one.loopback and own.length <= BITS[family] - 2
            if own.value == value or (shares and value == shared):
                found.append((BITS[family], 0, 0, "itself"))
            if own.length < BITS[family] and not one.loopback and own.first <= value <= own.last:
                found.append((own.length, 0, 0, (one.name, None)))
    for route in device.ways:
        if route.to.family != family or route.instance != instance or not route.to.first <= value <= route.to.last:
            continue
        rank = route.to.length, route.distance, route.metric or 0
        name = route.interface
        if route.discard:
            found.append((*rank, NOWHERE))
            continue
        if name is None and route.via is not None:
            over = [
                (-own.length, one.name) for one in up.values() for own in one.addresses
                if own.family == family and own.length < BITS[family] and own.first <= route.via.value <= own.last
            ]  # fmt: skip
            name = min(over)[1] if over else None
        if name in up:
            found.append((*rank, (name, route.via.value if route.via else None)))
    if not found:
        return "nowhere"
    longest = max(each[0] for each in found)
    best = min(each[1:3] for each in found if each[0] == longest)
    ways = {each[3] for each in found if each[0] == longest and each[1:3] == best}
    if "itself" in ways:
        return "itself"
    if ways == {NOWHERE}:
        return "nowhere"
    return frozenset(ways)  # type: ignore[arg-type]


# Echo, time stamp, information and mask; for IPv6 echo and who a node is (RFC 792, RFC 950, RFC 4443, RFC 4620).
ASKING = {4: {8, 13, 15, 17}, 6: {128, 139}}


def rewritten(
    device: Device, stage: str, packet: Packet, leaves: str | None, next_hop: int = 0
) -> tuple[Packet, object]:
    """The packet behind a list of translations, and what cannot be seen in one packet: pools, ports, DNS.

    A message that asks for nothing, and that nobody waits for, is not translated.
    """
    if packet.protocol == {4: 1, 6: 58}[packet.family] and packet.port not in ASKING[packet.family]:
        return packet, None
    for rule in split(device.translations):
        if rule.stage == stage and family_of(rule) == packet.family and matches(rule, packet, leaves):
            if rule.own is not None and not its_own(device, rule.own, packet):
                continue
            return _changed(device, rule, packet, leaves, next_hop)
    return packet, None


def its_own(device: Device, what: str, packet: Packet) -> bool:
    """Whether the destination is an address that the interface of arrival, or the device, has or answers for."""
    names = [packet.arrives] if what == "interface" else [one.name for one in device.interfaces]
    up = {one.name for one in device.interfaces if one.enabled and one.name in names}
    own = {a.value for one in device.interfaces if one.name in up for a in one.addresses if a.family == packet.family}
    return packet.destination in own or any(
        inside(packet.destination, each, packet.family) for name in up for each in answered(device, packet.family, name)
    )


def _changed(device: Device, rule: Rule, packet: Packet, leaves: str | None, next_hop: int) -> tuple[Packet, object]:
    beside: list[object] = ["DNS"] if rule.rewrites_dns else []
    if rule.verdict == "keep":
        return packet, None
    field = "destination" if rule.stage == "arrival" else "source"
    if rule.verdict == "ingress":
        port = device.interface(packet.arrives)
        assert port is not None
        own = [a for a in port.addresses if a.family == packet.family and not a.address.is_link_local]
        packet = packet._replace(destination=own[0].value if own else NOBODY)
        return (packet if rule.to_port is None else packet._replace(port=rule.to_port)), None
    if rule.verdict == "egress":
        port = device.interface(leaves or "")
        assert port is not None
        own = [a for a in port.addresses if a.family == packet.family and not a.address.is_link_local]
        # The kernel takes the first address of the subnet that the next hop is in, else the first of all.
        near = [a for a in own if a.first <= (next_hop or packet.destination) <= a.last]
        first = next((a for a in own if near and a.network == near[0].network), own[0] if own else None)
        return (packet._replace(source=first.value), None) if first else (packet, ("address of", leaves))
    assert rule.to is not None
    first = rule.to.spans[0][0]
    if rule.port_use == "kept":
        beside.append("kept")
    if rule.verdict == "shift":
        matched = rule.destination if rule.stage == "arrival" else rule.source
        assert matched is not None
        packet = packet._replace(**{field: getattr(packet, field) - matched.spans[0][0] + first})
    elif sum(high - low + 1 for low, high in rule.to.spans) == 1:
        packet = packet._replace(**{field: first})
    else:
        beside.append(rule.to.spans)
        packet = packet._replace(**{field: 0})
    return (packet if rule.to_port is None else packet._replace(port=rule.to_port)), tuple(beside) or None


def passes(device: Device, name: str) -> bool:
    """Whether packets pass an interface: what it is a part of is up, and a bridge is in the VLAN that it routes."""
    one = device.interface(name)
    above = device.interface(one.parent) if one is not None and one.parent else None
    if one is None or not one.enabled or (above is not None and not above.enabled):
        return False
    if above is None or above.bridge is None or not one.vlan:
        return True
    ports = [device.interface(each) for each in (above.name, *above.bridge.members)]
    apart = any(each is not None and (each.tagged or each.untagged is not None) for each in ports) or above.bridge.vlans
    return not apart or one.vlan in {*above.bridge.vlans, *above.tagged, above.untagged}


def received(device: Device, packet: Packet) -> bool:
    """Whether it comes into the device: the interface is up, and it is not for somebody else on its link."""
    port = device.interface(packet.arrives)
    if port is None or not passes(device, packet.arrives):
        return False
    if packet.destination in own_addresses(device, packet.family):
        return True
    subnets = [a for a in port.addresses if a.family == packet.family and a.length < BITS[packet.family]]
    there = [a for a in subnets if a.first <= packet.destination <= a.last]
    # Neighbours of one subnet need no router; nor does one that is behind the link, if all there is one subnet.
    one_subnet = any(all(a.first <= b.first and b.last <= a.last for b in subnets) for a in subnets)
    on_link = not port.loopback and bool(there) and (
        one_subnet or any(a.first <= packet.source <= a.last for a in there)
    )  # fmt: skip
    return not on_link or any(
        inside(packet.destination, each, packet.family) for each in answered(device, packet.family, packet.arrives)
    )


def as_learned(device: Device, first: bool) -> tuple[Device, dict[int, int]]:
    """The device once it has learned something: an address that nobody names, and a default route.

    Which of two default routes is taken is for the system to say: the learned one is the first of all, or the last.
    Returns the address by what stands for it in what is claimed, too.
    """
    interfaces, routes, known = [], list(device.routes), {}
    for one in device.interfaces:
        at = crc32(one.name.encode()) % 251  # the same on both sides, whatever else they have
        own: list[Prefix] = []
        for family, learned, default in (
            (4, one.learns_ipv4, one.learns_ipv4 or one.dial is not None),
            (6, {"dhcp6", "slaac"} & {*one.learns}, "slaac" in one.learns),
        ):
            value = (0xDFFF0107 if family == 4 else 0x2001_0DB8_DFFF << 80 | 7) + (at << 8)
            if learned:
                own.append(Prefix(family, value, BITS[family]))
                words = f"<address learned on {device.name} {one.name}>"
                known[stand_in(family, words).value] = value
            if default:
                distance = 0 if first else 1 << 33
                routes.append(
                    Route(Prefix(family, 0, 0), Address(family, value + 1), one.name, None, distance,
                          instance=one.instance)
                )  # fmt: skip
        interfaces.append(replace(one, addresses=(*one.addresses, *own)))
    return replace(device, interfaces=tuple(interfaces), routes=tuple(routes)), known


def fate(device: Device, packet: Packet, choice: int = 0) -> object:
    """What becomes of a packet: `None` if it gets nowhere. Of routes that are equally good one is chosen."""
    if not received(device, packet):
        return None
    port = device.interface(packet.arrives)
    assert port is not None
    now, beside = rewritten(device, "arrival", packet, None)
    if now.destination == NOBODY:
        return None  # taken by an interface that has no address
    mode = device.settings.reverse_path
    if packet.family == 4 and mode in ("strict", "loose"):
        back = look_up(device, port.instance, 4, packet.source)
        if back == "nowhere":
            return None
        if mode == "strict" and (back == "itself" or packet.arrives not in {name for name, _ in back}):  # type: ignore[misc]
            return None
    way = look_up(device, port.instance, packet.family, now.destination)
    if way == "itself" or any(inside(now.destination, each, packet.family) for each in answered(device, packet.family)):
        access = passages(device.access)
        let = next((each.verdict for each in access if matches(each, now, None)), "drop" if access else "pass")
        if now.family == 6 and now.protocol == 58 and 134 <= now.port <= 136:  # neighbour discovery
            let = "pass"
        return ("itself", now, beside) if let == "pass" else None
    forwards = device.settings.forwarding4 if packet.family == 4 else device.settings.forwarding6
    if way == "nowhere" or forwards is False:
        return None
    leading = sorted(((name, hop or 0) for name, hop in way if name))  # type: ignore[misc]
    leaves, next_hop = leading[choice % len(leading)]
    if not passes(device, leaves):
        return None
    permits = passages(device.permits)
    if next((each.verdict for each in permits if matches(each, now, leaves)), "drop" if permits else "pass") == "drop":
        return None
    after, more = rewritten(device, "departure", now, leaves, next_hop)
    return "out", way, after, beside, more


def could_be_sent(packet: Packet, sides: Iterable[Device]) -> bool:
    """Whether somebody could send it: a real source that is nobody of the device, a real destination, an open port."""
    make = IPv4Address if packet.family == 4 else IPv6Address
    ends = [make(value) for value in (packet.source, packet.destination)]
    if any(end in net for end in ends for net in ODD if net.version == packet.family):
        return False
    opened, ports = False, []
    sides = list(sides)
    for device in sides:
        if packet.source in own_addresses(device, packet.family):
            return False
        if any(inside(packet.source, each, packet.family) for each in answered(device, packet.family)):
            return False
        subnets = [a for one in device.interfaces for a in one.addresses if a.length <= BITS[packet.family] - 2]
        if packet.source in [a.last if a.family == 4 else a.first for a in subnets if a.family == packet.family]:
            return False
        port = device.interface(packet.arrives)
        routed = any(each.interface == packet.arrives for each in device.routes)
        ports.append(port)
        if port is not None and port.enabled and not port.loopback:
            opened = opened or bool(port.addresses or port.learns or port.dial or routed)
    if opened or None in ports:
        return opened
    # One of which nothing is set lets packets in as well, if it is no port of a bridge.
    bridged = all(
        any(one.bridge and packet.arrives in (one.name, *one.bridge.members) for one in device.interfaces)
        for device in sides
    )
    return not bridged and any(port.enabled and not port.loopback for port in ports)


def packets(sides: Iterable[Device], chance: Random, count: int) -> Iterator[Packet]:
    """Packets made of what two devices say, and of what is just beside it."""
    sides = list(sides)
    names = sorted({one.name for device in sides for one in device.interfaces})
    values: dict[int, set[int]] = {4: {0xC6336409}, 6: {0x20010DB8 << 96 | 9}}
    ports = {0, 443, 80, 53, 65535}
    protocols = {6, 17, 1, 58, 89}
    for device in sides:
        sets = [each.addresses for each in normal_answers(device)]
        for one in device.interfaces:
            for own in one.addresses:
                values[own.family] |= {own.value, own.first, own.last, own.first + 9}
        for route in device.routes:
            values[route.to.family] |= {route.to.first, route.to.last, route.to.first + 9}
        for rule in [*split(device.translations), *passages(device.permits), *passages(device.access)]:
            sets += [each for each in (rule.source, rule.destination, getattr(rule, "to", None)) if each is not None]
            ports |= {edge for span in rule.ports or () for edge in (span[0], span[1], span[1] + 1)}
            protocols |= {PROTOCOL_NUMBERS[rule.protocol]} if rule.protocol else set()
        for each in sets:
            values[each.family] |= {edge for first, last in each.spans for edge in (first, last, last + 1, first - 1)}
    known = {
        family: sorted(each for each in members if 0 <= each < 1 << BITS[family]) for family, members in values.items()
    }
    for _ in range(count if names else 0):
        family = chance.choice([4, 4, 6])
        yield Packet(
            chance.choice(names), family, chance.choice(sorted(protocols)), chance.choice(known[family]),
            chance.choice(known[family]), min(chance.choice(sorted(ports)), 65535),
        )  # fmt: skip
