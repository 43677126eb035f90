"""Checks of static routes, one by one."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Found, check
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route
from agile_lattice.packets.spans import meet, merged

LAN = "interfaces: {lan0: {address: 10.40.10.1/24}}\nroutes: "


@check(
    "host-bits",
    "error",
    "A destination with host bits set is a typing error: either the address or the length is wrong.",
    wrong=LAN + "[{to: 10.41.0.9/16, via: 10.40.10.2}]",
    right=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def host_bits(design: Design) -> Iterator[Found]:
    """Find destinations that are not networks."""
    for _, route, subject in design.routes:
        if route.to.value != route.to.first:
            yield Found(
                route.place.at("to"), subject, f"{route.to} has host bits set; the network is {route.to.network}",
                f"Write {route.to.network}, or {Prefix.host(route.to.address)} for the one address.",
            )  # fmt: skip


@check(
    "next-hop-off-link",
    "error",
    "A next hop that is on no connected subnet cannot be asked for its hardware address; the route is never used.",
    wrong=LAN + "[{to: 10.41.0.0/16, via: 10.99.0.2}]",
    right=LAN
    + '[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: "2001:db8::/32", via: "fe80::1", interface: lan0},'
    + " {to: 10.42.0.0/16, via: 10.99.0.2, interface: lan0, off-link: true}]",
)
def next_hop_off_link(design: Design) -> Iterator[Found]:
    """Find next hops on no connected subnet, or on another one than the route says."""
    for device, route, subject in design.routes:
        via = route.via
        if via is None or route.off_link:
            continue
        if via.is_link_local:
            if route.interface is None:
                yield Found(
                    route.place.at("via"), subject, f"the next hop {via} is link-local, so it could be on any link",
                    "Say which with `interface`.",
                )  # fmt: skip
            continue
        behind = [each.name for each, _ in design.links(device, via)]
        if not behind and not any(each.learns or each.dial for each in device.interfaces):
            yield Found(
                route.place.at("via"), subject, f"the next hop {via} is on no connected subnet of {device.name}",
                f"{_connected(device, via)} If it is meant to be elsewhere, say `interface` and `off-link: true`.",
            )  # fmt: skip
        elif behind and route.interface is not None and route.interface not in behind:
            yield Found(
                route.place.at("interface"), subject,
                f"the next hop {via} is behind {behind[0]}, not {route.interface}",
                f"Write `interface: {behind[0]}`, or leave it out.",
            )  # fmt: skip


def _connected(device: Device, via: Address) -> str:
    subnets = [
        f"{address.network} on {interface.name}"
        for interface in device.interfaces
        for address in interface.addresses
        if address.family == via.family and not address.is_host and not interface.loopback
    ]
    return f"Connected are {', '.join(subnets)}." if subnets else "It has no connected subnet of that family."


@check(
    "next-hop-own",
    "error",
    "A route to oneself goes nowhere.",
    wrong=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.1}]",
    right=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def next_hop_own(design: Design) -> Iterator[Found]:
    """Find next hops that are addresses of the device itself."""
    for device, route, subject in design.routes:
        own = design.holder(device, route.via) if route.via is not None else None
        if own is not None:
            yield Found(
                route.place.at("via"), subject,
                f"the next hop {route.via} is {device.name}'s own address on {own.name}",
                "Name the neighbour's address.",
            )  # fmt: skip


@check(
    "next-hop-edge",
    "error",
    "The network and the broadcast address of a subnet are nobody's, so no neighbour has them (RFC 1122).",
    wrong=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.0}]",
    right=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def next_hop_edge(design: Design) -> Iterator[Found]:
    """Find next hops that are the edge of a connected subnet."""
    for device, route, subject in design.routes:
        for interface, subnet in design.links(device, route.via) if route.via is not None else ():
            if route.via is not None and route.via.value in subnet.edges:
                which = "network" if route.via.value == subnet.first else "broadcast"
                yield Found(
                    route.place.at("via"), subject,
                    f"the next hop {route.via} is the {which} address of {subnet.network} on {interface.name}",
                    "Name the neighbour's address.",
                )  # fmt: skip


@check(
    "egress-only-on-shared-link",
    "warning",
    "Without a next hop every single destination is asked for on the link, and only one that answers is reached.",
    wrong=LAN + "[{to: 10.41.0.0/16, interface: lan0}]",
    right="interfaces: {ptp0: {address: 10.40.10.0/31}}\nroutes: [{to: 10.41.0.0/16, interface: ptp0}]",
)
def egress_only_on_shared_link(design: Design) -> Iterator[Found]:
    """Find routes out of an interface, without a next hop, on a link of more than two."""
    for device, route, subject in design.routes:
        if route.interface is None or route.via is not None:
            continue
        one = design.interface(device, route.interface)
        wide = (
            next((each for each in one.addresses if each.family == route.to.family and each.host_bits > 2), None)
            if (one is not None and not one.dial and not one.loopback)
            else None
        )
        if wide is not None:
            yield Found(
                route.place.at("interface"), subject,
                f"it has no next hop, and {wide.network} on {route.interface} is shared by many",
                "Add `via`.",
            )  # fmt: skip


@check(
    "same-route",
    "error",
    "Of two routes to one destination with one distance, systems keep the first, the last or both.",
    wrong=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.0.0/16, via: 10.40.10.3}]",
    right=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.0.0/16, via: 10.40.10.3, distance: 5}]",
)
def same_route(design: Design) -> Iterator[Found]:
    """Find routes, other than defaults, that nothing ranks."""
    yield from _unranked(design, default=False)


@check(
    "equal-defaults",
    "error",
    "Of two equal default routes, systems take one, or both by turns: connections break, and each provider sees the"
    " other's addresses.",
    wrong=LAN + "[{to: default, via: 10.40.10.2}, {to: default, via: 10.40.10.3}]",
    right=LAN + "[{to: default, via: 10.40.10.2}, {to: default, via: 10.40.10.3, distance: 200}]",
)
def equal_defaults(design: Design) -> Iterator[Found]:
    """Find default routes that nothing ranks."""
    yield from _unranked(design, default=True)


def _unranked(design: Design, default: bool) -> Iterator[Found]:
    seen: dict[tuple[object, ...], Place] = {}
    for device, route, subject in design.routes:
        if (route.to.length == 0) != default:
            continue
        key = device.name, route.instance, route.to.network, route.distance, route.metric
        if key in seen:
            yield Found(
                route.place, subject, f"another route to it has the distance {route.distance} too ({seen[key]})",
                "Remove one, or give the second choice a higher `distance`.",
            )  # fmt: skip
        seen.setdefault(key, route.place)


@check(
    "route-redundant",
    "note",
    "A route that a wider one with the same next hop covers changes nothing, and has to be kept in step with it.",
    wrong=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.5.0/24, via: 10.40.10.2}]",
    right=LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.5.0/24, via: 10.40.10.3}]",
)
def route_redundant(design: Design) -> Iterator[Found]:
    """Find routes whose nearest covering one leads the same way."""
    for device in design.devices:
        by_prefix: dict[tuple[str, Prefix], list[Route]] = {}
        for route in device.routes:
            by_prefix.setdefault((route.instance, route.to.network), []).append(route)
        lengths = sorted({prefix.length for _, prefix in by_prefix}, reverse=True)
        for (instance, prefix), same in by_prefix.items():
            shorter = (length for length in lengths if length < prefix.length)
            wider = (Prefix(prefix.family, prefix.value, length).network for length in shorter)
            around = next((by_prefix[instance, each] for each in wider if (instance, each) in by_prefix), None)
            if around is None or len(same) > 1:
                continue
            best = min(around, key=lambda each: (each.distance, each.metric or 0))
            [route] = same
            if _way(best) == _way(route) and not _in_between(design, device, prefix, best.to):
                yield Found(
                    route.place, f"{device.name} route {route.destination}",
                    f"{best.destination} leads the same way and covers it ({best.place})",
                    "Remove it, unless it is a reserve for the day when the wider one goes.",
                )  # fmt: skip


def _way(route: Route) -> tuple[object, ...]:
    return route.via, route.interface, route.discard


def _in_between(design: Design, device: Device, prefix: Prefix, wider: Prefix) -> bool:
    """Whether a connected subnet lies between the two, so that without the route it would speak."""
    connected = (own.network for one in device.interfaces for own in one.addresses if not own.is_host)
    return any(wider.contains(each) and each.contains(prefix) and each != wider for each in connected)


@check(
    "forwarding-off",
    "error",
    "A device that does not forward drops every packet that is not its own, whatever its routes and rules say.",
    wrong="settings: {forwarding: false}\n" + LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
    right="settings: {forwarding: true}\n" + LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def forwarding_off(design: Design) -> Iterator[Found]:
    """Find devices that have routes, translations or several subnets, so that others send through them."""
    for device in design.devices:
        what = _sent_through(device) if device.settings.forwarding4 is False else ""
        if what:
            yield Found(
                device.settings.place.at("forwarding"), device.name, f"it has {what}, and forwarding is off",
                "Write `forwarding: true`.",
            )  # fmt: skip


@check(
    "forwarding-unsaid",
    "warning",
    "Some systems forward nothing until they are told to, and drop every packet that is not their own.",
    wrong="""\
devices:
  quay:
    speaks: [iproute2, nftables, sysctl]
    interfaces: {lan0: {address: 10.40.10.1/24}, hall0: {address: 10.41.10.1/24}}""",
    right="""\
devices:
  quay:
    speaks: [iproute2, nftables, sysctl]
    settings: {forwarding: true}
    interfaces: {lan0: {address: 10.40.10.1/24}, hall0: {address: 10.41.10.1/24}}""",
)
def forwarding_unsaid(design: Design) -> Iterator[Found]:
    """Find devices that others send through, and whose system waits to be told to forward.

    Only where a dialect of the device carries settings: else somebody else looks after them.
    """
    for device in design.devices:
        what = _sent_through(device) if device.settings.forwarding4 is None else ""
        if what and BUILT_IN.waits_to_be_told(each for each in device.speaks if each in BUILT_IN.names()):
            yield Found(
                device.place, device.name, f"it has {what}, and nothing says whether its system forwards",
                "Write `settings: {forwarding: true}`.",
            )  # fmt: skip


def _sent_through(device: Device) -> str:
    """Return what a device has that others send through, of IPv4; empty if it has nothing of the kind."""
    if [each for each in device.routes if each.to.length or len(device.interfaces) > 1]:
        return "routes"
    sides = (one for one in device.interfaces if one.enabled and not one.loopback and not one.management)
    subnets = [one.name for one in sides if any(own.family == 4 and not own.is_host for own in one.addresses)]
    several = f"subnets on {' and '.join(subnets)}" if len(subnets) > 1 else ""
    return "translations" if device.translations else several


@check(
    "route-takes-answered",
    "warning",
    "A route to addresses that the device itself answers for takes their packets elsewhere, by the longest prefix.",
    wrong="""\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}, {to: 203.0.113.8/30, via: 10.40.10.2}]
translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]""",
    right="""\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]""",
)
def route_takes_answered(design: Design) -> Iterator[Found]:
    """Find routes into a connected subnet that lead away what the device answers for there."""
    answered = {device.name: design.answers(device) for device in design.devices}
    for device, route, subject in design.routes:
        sets = [each.addresses for each in answered[device.name] if each.addresses.family == route.to.family]
        taken = meet(merged(span for each in sets for span in each.spans), ((route.to.first, route.to.last),))
        if route.discard or not taken:
            continue
        if any(
            own.network.contains(route.to) and own.length < route.to.length and not one.loopback
            for one in device.interfaces for own in one.addresses
        ):  # fmt: skip
            yield Found(
                route.place.at("to"), subject,
                f"{device.name} answers for {AddressSet(route.to.family, taken)}, and this route leads it away",
                "Remove the route, or those addresses from the translations.",
            )  # fmt: skip
