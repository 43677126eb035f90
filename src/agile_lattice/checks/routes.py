"""Checks of static routes."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.rulebook import Found, check
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route

_LAN = "interfaces: {lan0: {address: 10.40.10.1/24}}\nroutes: "


def _routes(network: Network) -> Iterator[tuple[Device, Route, str]]:
    for device in network.devices:
        for route in device.routes:
            yield device, route, f"{device.name} route {route.destination}"


@check(
    "host-bits",
    "error",
    "A destination with host bits set is a typing error: either the address or the length is not what was meant.",
    wrong=_LAN + "[{to: 10.41.0.9/16, via: 10.40.10.2}]",
    right=_LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def host_bits(network: Network) -> Iterator[Found]:
    """Find destinations that are not networks."""
    for _, route, subject in _routes(network):
        if route.to.value != route.to.first:
            yield Found(
                route.place.at("to"), subject, f"{route.to} has host bits set; the network is {route.to.network}",
                f"Write {route.to.network}, or {Prefix.host(route.to.address)} for the one address.",
            )  # fmt: skip


@check(
    "next-hop-off-link",
    "error",
    "A next hop that is on no connected subnet cannot be asked for its hardware address; the route is never used.",
    wrong=_LAN + "[{to: 10.41.0.0/16, via: 10.99.0.2}]",
    right=_LAN + '[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: "2001:db8::/32", via: "fe80::1", interface: lan0}]',
)
def next_hop_off_link(network: Network) -> Iterator[Found]:
    """Find next hops on no connected subnet, or on another one than the route says."""
    for device, route, subject in _routes(network):
        via = route.via
        if via is None:
            continue
        if via.is_link_local:
            if route.interface is None:
                yield Found(
                    route.place.at("via"), subject, f"the next hop {via} is link-local, so it could be on any link",
                    "Say which with `interface`.",
                )  # fmt: skip
            continue
        behind = [each.name for each in device.interfaces if each.subnet_of(via)]
        if not behind:
            yield Found(
                route.place.at("via"), subject, f"the next hop {via} is on no connected subnet of {device.name}",
                _nearest(device, via),
            )  # fmt: skip
        elif route.interface is not None and route.interface not in behind:
            yield Found(
                route.place.at("interface"), subject,
                    f"the next hop {via} is behind {behind[0]}, not {route.interface}",
                f"Write `interface: {behind[0]}`, or leave it out.",
            )  # fmt: skip


def _nearest(device: Device, via: Address) -> str:
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
    wrong=_LAN + "[{to: 10.41.0.0/16, via: 10.40.10.1}]",
    right=_LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}]",
)
def next_hop_own(network: Network) -> Iterator[Found]:
    """Find next hops that are addresses of the device itself."""
    for device, route, subject in _routes(network):
        for interface in device.interfaces:
            if route.via is not None and any(each.address == route.via for each in interface.addresses):
                yield Found(
                    route.place.at("via"), subject,
                    f"the next hop {route.via} is {device.name}'s own address on {interface.name}",
                    "Name the neighbour's address.",
                )  # fmt: skip


@check(
    "same-route",
    "error",
    "Of two routes to one destination with one distance, systems keep the first, the last or both.",
    wrong=_LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.0.0/16, via: 10.40.10.3}]",
    right=_LAN + "[{to: 10.41.0.0/16, via: 10.40.10.2}, {to: 10.41.0.0/16, via: 10.40.10.3, distance: 5}]",
)
def same_route(network: Network) -> Iterator[Found]:
    """Find routes that nothing ranks."""
    seen: dict[tuple[str, Prefix, int], Place] = {}
    for device, route, subject in _routes(network):
        key = device.name, route.to.network, route.distance
        if key in seen:
            yield Found(
                route.place, subject, f"another route to it has the distance {route.distance} too ({seen[key]})",
                "Remove one, or give the second choice a higher `distance`.",
            )  # fmt: skip
        seen.setdefault(key, route.place)
