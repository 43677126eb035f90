"""What a device learns from a provider: its address and its default route, which nobody knows before.

In their place stand addresses that nobody has. What does not depend on the value is decided with them; it is taken for
granted that what is learned is none of the addresses that a configuration names.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from agile_lattice.intent.addresses import Prefix, is_stand_in, stand_in
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import DEFAULT_DISTANCE, Route


def with_learned(device: Device) -> Device:
    """Return a device with stand-ins for the addresses and default routes that it learns.

    Which of two default routes is taken, if one is learned, depends on the system: so they are of equal distance here.
    """
    if not any(families_learned(each) for each in device.interfaces):
        return device
    interfaces = tuple(
        replace(each, addresses=(*each.addresses, *_addresses(device, each))) for each in device.interfaces
    )
    routes = tuple(route for each in device.interfaces for route in _routes(device, each))
    return replace(device, interfaces=interfaces, routes=(*device.routes, *routes))


def families_learned(one: Interface) -> tuple[int, ...]:
    """Return the families of which an interface learns an address."""
    six = "dhcp6" in one.learns or "slaac" in one.learns
    return (4,) * one.learns_ipv4 + (6,) * six


def leads_to_learned(route: Route) -> bool:
    """Tell whether a route is one that is learned."""
    return route.via is not None and is_stand_in(route.via)


def _addresses(device: Device, one: Interface) -> Iterator[Prefix]:
    for family in families_learned(one):
        yield Prefix.host(stand_in(family, f"the address that {device.name} learns on {one.name}"))


def _routes(device: Device, one: Interface) -> Iterator[Route]:
    """Yield the default routes that an interface learns: by DHCP, in router advertisements (RFC 4861), by dial-up."""
    for family, learned in ((4, one.learns_ipv4 or one.dial is not None), (6, "slaac" in one.learns)):
        if not learned:
            continue
        to = Prefix(family, 0, 0)
        said = [(each.distance, each.metric) for each in device.ways if each.to == to and each.instance == one.instance]
        distance, metric = min(said, key=lambda rank: (rank[0], rank[1] or 0), default=(DEFAULT_DISTANCE, None))
        gateway = stand_in(family, f"the gateway that {device.name} learns on {one.name}")
        yield Route(to, gateway, one.name, None, distance, metric, True, one.instance, place=one.place)
