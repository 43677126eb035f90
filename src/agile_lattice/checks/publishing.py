"""Checks of what is made reachable from outside."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import BITS, Address, AddressSet, Prefix
from agile_lattice.intent.model import Device
from agile_lattice.intent.services import ALL_PORTS, PROTOCOL_NUMBERS, Service, Services
from agile_lattice.intent.translations import Publish, Static, Translation, Twice
from agile_lattice.packets.shadows import meetings
from agile_lattice.packets.spans import Marked, Spans, meet, merged

SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
"""
ZONED = """\
zones: {sea: {exposure: public}, office: {exposure: own}, pier: {exposure: shared}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      wan0: {zone: sea, address: 203.0.113.2/28}
      lan0: {zone: office, address: 10.40.10.1/24}
      pier0: {zone: pier, address: 10.40.20.1/24}
    routes: [{to: default, via: 203.0.113.1}]
    translations:
      - {to: sea, source-becomes: interface}
"""


def internal_host(one: Translation) -> Address | None:
    """Return the internal host of a translation that makes one reachable."""
    if isinstance(one, Publish):
        return one.internal
    if isinstance(one, Static) and one.direction != "outbound":
        return one.internal.address
    return one.new_destination if isinstance(one, Twice) else None


def shared_services(left: Services | None, right: Services | None) -> Services:
    """Return the services that are in both; `None` is all of them, and both of that give none."""
    if left is None or right is None:
        return left or right or ()
    found = []
    for one in left:
        for other in right:
            if one.protocol == other.protocol:
                if one.ports is None or other.ports is None:
                    found.append(Service(one.protocol, one.ports or other.ports))
                elif both := meet(one.ports, other.ports):
                    found.append(Service(one.protocol, both))
    return tuple(found)


def _numbers(services: Services | None) -> Spans:
    """Return services as numbers: of each protocol all ports, side by side; `None` is all of them."""
    if services is None:
        return ((0, 256 << 16),)
    firsts = ((PROTOCOL_NUMBERS[each.protocol] << 16, each.ports or ALL_PORTS) for each in services)
    return merged((first + low, first + high) for first, ports in firsts for low, high in ports)


def _same_users(left: Publish, right: Publish) -> bool:
    sides = left.facing is None or right.facing is None or bool(set(left.facing) & set(right.facing))
    return sides and left.source == right.source


def _clash(left: Publish, right: Publish) -> str:
    """Say what two publications of one external address both want; nothing if they do not clash."""
    if left.services is None or right.services is None:
        both = "with every service" if left.services is right.services else ""
    else:
        both = ", ".join(str(each) for each in shared_services(left.services, right.services))
    return both if both and _same_users(left, right) else ""


def published_already(one: Translation, earlier: Iterable[Translation]) -> bool:
    """Tell whether `published-twice` says it already, and better, that a rule is never reached."""
    return isinstance(one, Publish) and any(
        isinstance(each, Publish) and meet(each.named, one.named) and _clash(each, one) for each in earlier
    )


@check(
    "published-twice",
    "error",
    "One external port leads to one host: the second publication is never reached.",
    wrong=SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}\n"
    + "- {publish: 203.0.113.5, service: [tcp/8443, tcp/443], on: 10.40.10.12, facing: wan0}",
    right=SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}\n"
    + "- {publish: 203.0.113.5, service: udp/443, on: 10.40.10.12, facing: wan0}",
)
def published_twice(design: Design) -> Iterator[Found]:
    """Find external ports that are published to two hosts, for the same side and the same users."""
    for device in design.devices:
        published = [one for one in device.translations if isinstance(one, Publish)]
        told = set()
        for at, other in meetings([(one.named, _numbers(one.services)) for one in published]):
            one, earlier = published[at], published[other]
            both = _clash(earlier, one) if at not in told else ""
            if both:
                told.add(at)
                where = AddressSet(4, meet(earlier.named, one.named))
                yield Found(
                    one.place.at("publish"), translation_subject(device, one),
                    f"{where} {both} is published already, on {earlier.internal} ({earlier.place})",
                    "Use another external port or address for one of them.",
                )  # fmt: skip


@check(
    "static-and-published",
    "warning",
    "A one-to-one translation takes every port of its external address; what is published there too depends on order.",
    wrong=SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}\n"
    + "- {static: 203.0.113.5, on: 10.40.10.12, facing: wan0}",
    right=SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}\n"
    + "- {static: 203.0.113.6, on: 10.40.10.12, facing: wan0}",
)
def static_and_published(design: Design) -> Iterator[Found]:
    """Find external addresses that are both one-to-one and published."""
    for device in design.devices:
        statics = [one for one in device.translations if isinstance(one, Static) and one.direction != "outbound"]
        for one in device.translations:
            if not isinstance(one, Publish):
                continue
            spans = one.named
            other = next((each for each in statics if meet(((each.external.first, each.external.last),), spans)), None)
            if other is not None:
                yield Found(
                    one.place.at("publish"), translation_subject(device, one),
                    f"{one.external} is also translated one-to-one, to {other.internal.shortest} ({other.place})",
                    "Give one of them another external address.",
                )  # fmt: skip


@check(
    "own-address-static",
    "error",
    "A one-to-one translation of the device's own address takes the device itself off the network.",
    wrong=SIDES + "- {static: 203.0.113.2, on: 10.40.10.12, facing: wan0}",
    right=SIDES + "- {static: 203.0.113.6, on: 10.40.10.12, facing: wan0}",
)
def own_address_static(design: Design) -> Iterator[Found]:
    """Find one-to-one translations of an interface's own address."""
    for device in design.devices:
        for one in device.translations:
            if not isinstance(one, Static) or one.direction == "outbound":
                continue
            held = next((each for each in own_addresses(device) if one.external.contains(each[1].address)), None)
            if held is not None:
                yield Found(
                    one.place.at("static"), translation_subject(device, one),
                    f"{held[1].address} is the device's own address on {held[0].name}",
                    "Use an address that nothing else has, or publish single services instead.",
                )  # fmt: skip


@check(
    "internal-host-nowhere",
    "error",
    "If the device has no route to the internal host, what arrives for it is sent back out or dropped.",
    wrong=SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.77.0.11}",
    right=SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}",
)
def internal_host_nowhere(design: Design) -> Iterator[Found]:
    """Find internal hosts that neither a connected subnet nor a route (other than a default) leads to."""
    for device in design.devices:
        for one in device.translations:
            host = internal_host(one)
            if host is None:
                continue
            hop = design.topology.table(device.name, host.family).look_up(host.value)
            if isinstance(one, Static) and _leads_into(device, one.internal):
                continue
            outside = isinstance(one, Twice)  # there the host that is meant may well be behind the provider
            if hop is None or hop.means == "discard" or (hop.prefix.length == 0 and not outside):
                yield Found(
                    one.place.at("on"), translation_subject(device, one),
                    f"{device.name} has no route to the internal host {host}",
                    "Correct the address, or add the interface or the route that leads to it.",
                )  # fmt: skip


def _leads_into(device: Device, prefix: Prefix) -> bool:
    """Tell whether some subnet or route of a device lies in a prefix."""
    known = [*(each for one in device.interfaces for each in one.addresses), *(each.to for each in device.routes)]
    return any(each.length > prefix.length and prefix.contains(each.network.address) for each in known)


@check(
    "host-in-other-zone",
    "error",
    "Rules speak of zones; a host that is not where it is said to be is treated by the rules of another side.",
    wrong="names: {hosts: {web: {address: 10.40.10.11, zone: pier}}}\n" + ZONED,
    right="names: {hosts: {web: {address: 10.40.20.11, zone: pier}}}\n" + ZONED,
    across=True,
)
def host_in_other_zone(design: Design) -> Iterator[Found]:
    """Find hosts that lie on a subnet which faces another zone than the one they are said to be in."""
    segments = {
        family: Marked(
            ((network.first, network.last), ports)
            for (_, network), ports in design.topology.neighbours.segments.items()
            if network.family == family and any(port.interface.zone for port in ports)
        )
        for family in BITS
    }  # fmt: skip
    for host in design.network.hosts:
        if not host.zone:
            continue
        around = segments[host.address.family].meeting((host.address.value, host.address.value))
        zones = {port.interface.zone: port for ports in around for port in ports if port.interface.zone}
        if zones and host.zone not in zones:
            port = next(iter(zones.values()))
            yield Found(
                host.place.at("zone"), f"host {host.name}",
                f"{host.address.address} is behind {port.device.name} {port.interface.name}, which faces"
                f" {port.interface.zone}, not {host.zone}",
                "Correct the address or the zone.",
            )  # fmt: skip


@check(
    "own-zone-published",
    "warning",
    "Whoever takes over a published host is then among its neighbours: better among published hosts than at home.",
    wrong=ZONED + "      - {publish: 203.0.113.5, service: tcp/443, on: 10.40.20.11, facing: sea}\n"
    "      - {publish: 203.0.113.6, service: tcp/443, on: 10.40.10.11, facing: sea}",
    right=ZONED + "      - {publish: 203.0.113.5, service: tcp/443, on: 10.40.20.11, facing: sea}\n"
    "      - {publish: 203.0.113.6, service: tcp/443, on: 10.40.20.12, facing: sea}",
)
def own_zone_published(design: Design) -> Iterator[Found]:
    """Find hosts in an own zone that are published to the public where a shared zone holds published hosts."""
    for device in design.devices:
        published = [
            (one, way)
            for one in device.translations
            if isinstance(one, Publish | Static | Twice)
            and (host := internal_host(one)) is not None
            and design.faces_public(device, one.arrives if isinstance(one, Twice) else one.facing)
            and (way := design.way_out(device, host)) is not None
        ]
        place_for_them = next((way.zone for _, way in published if design.exposure(way) == "shared"), "")
        for one, way in published:
            if place_for_them and design.exposure(way) == "own":
                yield Found(
                    one.place, translation_subject(device, one),
                    f"its host is in the own zone {way.zone}, while other published hosts are in {place_for_them}",
                    f"Move the host to {place_for_them}, or publish it by a proxy there.",
                )  # fmt: skip
