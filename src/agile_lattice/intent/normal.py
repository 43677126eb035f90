"""The one normal form in which two descriptions of a device are compared.

What it settles, each because two spellings mean the same:

* Interfaces, addresses and routes have no order; translations have the order of `joining.join`, and a rule that stands
  there twice is there once: the second never decides. Those of IPv4 come before those of IPv6: no packet is of both.
* A zone, a block and a link are labels, already resolved wherever they count; they are dropped, and so is
  what stays in the intent: remarks on routes, rules and permits, what a summary stands for, what a permit came from.
* A loopback of which nothing is said is on every system; it is dropped.
* An MTU that equals the medium's default (1500 octets, RFC 894), that of a VLAN's parent, or the least of those of a
  bridge's members, is as good as unsaid. That an interface is for management only is a remark,
  and its gateway is a default route.
* Resolvers of IPv4 are asked before those of IPv6: some systems keep two lists.
* Host bits of a route's destination mean nothing, nor does the same way again at a higher distance.
* A next hop on a connected subnet implies its egress interface (of several, the longest prefix's).
* A next hop on a connected subnet of its interface is on the link, whether that is said or not.
* A permit for everything, alone, is as good as none: without permits everything passes.
* A two-way static and its two halves under one name are one thing, and so on: see `joining`.
* An identity that the first IPv4 loopback gives anyhow is as good as unsaid.
* What a device answers for follows from its translations. A host-length address beside the
  subnet that holds it, and which a translation uses, is there to be answered for, and so is an `extra` address.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cache

from msgspec.structs import replace

from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.intent.answering import Answered, with_answers
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.joining import join
from agile_lattice.intent.model import Device, Settings
from agile_lattice.intent.permits import Permit, joined_access, joined_permits, passages
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import family_of, split


def normal(device: Device, answered: Answered | None = None) -> Device:
    """Return the device in normal form, with its answers spelt out.

    Args:
        device: The device.
        answered: Addresses of which an intent says that it only answers for them.
    """
    translations, _ = join(sorted(dict.fromkeys(split(device.translations)), key=family_of))
    permits = joined_permits(passages(device.permits))
    parted, answers = with_answers(device, answered)
    named = {each.name: each for each in parted}
    interfaces = [
        one for each in parted if (one := _normal_interface(each, named)) != Interface(one.name, loopback=True)
    ]
    return replace(
        device,
        interfaces=tuple(sorted(interfaces, key=lambda each: each.name)),
        routes=normal_routes(device.ways, interfaces),
        translations=translations,
        answers=answers,
        permits=permits if permits != (Permit(),) else (),
        access=joined_access(passages(device.access)),
        settings=_normal_settings(device),
        description="",
        named=(),
        connection=None,
    )


def _normal_settings(device: Device) -> Settings:
    settings = replace(device.settings, hosts=tuple(sorted(device.settings.hosts, key=lambda each: each.name)))
    if settings.host_name == device.name:
        settings = replace(settings, host_name="")
    unsaid = replace(settings, identity=None)
    return unsaid if replace(device, settings=unsaid).identity == device.identity else settings


def _usual_mtu(one: Interface, named: Mapping[str, Interface], below: int = 0) -> int:
    """Return the MTU that an interface has if none is said: a VLAN its parent's, a bridge the least of its members'."""
    parts = [
        named[each]
        for each in ((one.parent,) if one.parent else one.bridge.members if one.bridge else ())
        if each in named
    ]
    if not parts or below == len(named):
        return one.usual_mtu
    return min(each.mtu or _usual_mtu(each, named, below + 1) for each in parts)


def without_usual_mtus(device: Device) -> Device:
    """Return a device in which no VLAN and no bridge is said to have the MTU that follows from others."""
    named = {each.name: each for each in device.interfaces}
    interfaces = (
        replace(each, mtu=None) if each.mtu == _usual_mtu(each, named) != each.usual_mtu else each
        for each in device.interfaces
    )
    return replace(device, interfaces=tuple(interfaces))


def with_mtus(device: Device) -> Device:
    """Return a device in which every VLAN and bridge is said to have its MTU, if it is not that of the medium."""
    named = {each.name: each for each in device.interfaces}
    mtus = {name: each.mtu or _usual_mtu(each, named) for name, each in named.items()}
    interfaces = (
        replace(each, mtu=None if mtus[each.name] == each.usual_mtu else mtus[each.name])
        if each.parent or each.bridge
        else each
        for each in device.interfaces
    )
    return replace(device, interfaces=tuple(interfaces))


def _normal_interface(interface: Interface, named: Mapping[str, Interface]) -> Interface:
    return replace(
        interface,
        addresses=tuple(sorted(set(interface.addresses))),
        mtu=None if interface.mtu == _usual_mtu(interface, named) else interface.mtu,
        resolvers=tuple(sorted(interface.resolvers, key=lambda each: each.family)),
        management=False,
        gateway=None,
        zone="",
        block="",
        link="",
        extra=(),
        answers=None,
    )


def normal_routes(routes: Iterable[Route], interfaces: Iterable[Interface]) -> tuple[Route, ...]:
    """Return the routes that count, sorted, each with the egress interface its next hop implies."""
    return tuple(sorted(ways(settled(routes, interfaces)), key=_route_order))


def settled(routes: Iterable[Route], interfaces: Iterable[Interface]) -> list[Route]:
    """Return routes one by one as they count: to a network, with the egress interface its next hop implies."""
    interfaces = tuple(interfaces)

    @cache
    def egress(via: Address) -> str | None:
        subnets = [
            (not one.enabled, -subnet.length, one.name)
            for one in interfaces
            if (subnet := one.subnet_of(via)) is not None
        ]
        # Of equally long ones the first by name: interfaces have no order that could decide.
        return min(subnets)[2] if subnets else None

    def on_link(via: Address, name: str | None) -> bool:
        return any(one.name == name and one.subnet_of(via) is not None for one in interfaces)

    found = []
    for route in routes:
        one = route
        if route.via is not None and route.interface is None:
            one = replace(one, interface=egress(route.via))
        if route.off_link and route.via is not None and on_link(route.via, route.interface):
            one = replace(one, off_link=False)
        if route.to.first != route.to.value:
            one = replace(one, to=route.to.network)
        if route.members or route.description:
            one = replace(one, members=(), description="")
        found.append(one)
    return found


_HOST_BITS = {family: [(1 << bits - length) - 1 for length in range(bits + 1)] for family, bits in BITS.items()}


def ways(routes: Iterable[Route]) -> list[Route]:
    """Return the routes without those that lead the same way as another at a higher distance: no packet takes them.

    To discard is one way, whatever answer the sender gets: such a route never goes down, so the first one decides.
    """
    routes = list(routes)
    destinations = [route.to for route in routes]
    hosts = [to for to in destinations if to.value & _HOST_BITS[to.family][to.length]]
    if len({*destinations}) == len(routes) and not hosts:  # most devices have one way to each destination
        return routes
    by_destination: dict[tuple[str, Prefix], list[Route]] = {}
    for route in routes:
        by_destination.setdefault((route.instance, route.to.network), []).append(route)
    return [route for same in by_destination.values() for route in (same if len(same) == 1 else _best(same))]


def _best(routes: list[Route]) -> Iterable[Route]:
    best: dict[tuple[object, ...], Route] = {}
    for route in routes:
        way = route.via, route.interface, route.discard is not None
        if way not in best or _rank(route) < _rank(best[way]):
            best[way] = route
    return best.values()


def _rank(route: Route) -> tuple[int, int]:
    return route.distance, route.metric or 0


def _route_order(route: Route) -> tuple[Prefix, tuple[int, int], str, str, str]:
    return route.to, _rank(route), route.instance, str(route.via or ""), route.interface or ""
