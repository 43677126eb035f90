"""Checks of routes through several devices: there, and back."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from agile_lattice.behaviour.matching import STRANGER
from agile_lattice.behaviour.topology import Course
from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import NOWHERE
from agile_lattice.intent.routes import Route
from agile_lattice.packets.spans import meet

_TWO = """\
devices:
  quay:
    speaks: frr
    interfaces: {lan0: {address: 10.40.10.1/24}, pier0: {address: 10.40.20.1/24}}
    routes: [{to: 10.41.10.0/24, via: 10.40.20.2}]
  gate:
    speaks: frr
    interfaces: {sea0: {address: 10.40.20.2/24}, hall0: {address: 10.41.10.1/24}}
    routes: """


@check(
    "no-way-back",
    "error",
    "Packets that arrive and cannot be answered look like a dead host: a connection needs a way in both directions.",
    wrong=_TWO + "[]",
    right=_TWO + "[{to: 10.40.10.0/24, via: 10.40.20.1}]",
    across=True,
)
def no_way_back(design: Design) -> Iterator[Found]:
    """Find subnets that a device sends from to another, however far, which has no way back to them."""
    told: set[tuple[str, str]] = set()
    back: dict[Address, dict[str, bool]] = {}  # of one device at a time
    before = ""
    for (device, route, subject), course in zip(design.routes, design.once(_courses), strict=True):
        if device.name != before:
            before, back = device.name, {}
        last = course.devices[-1] if course is not None else device.name
        if course is None or last == device.name or course.end in ("no route", "loop") or (device.name, last) in told:
            continue
        told.add((device.name, last))
        lost = [(name, subnet) for name, subnet in _inside(design, device, course, route.to.family)
                if not _comes_back(design, device, last, subnet, back)]  # fmt: skip
        if lost:
            named = ", ".join(f"{subnet.network} ({name})" for name, subnet in lost)
            yield Found(
                route.place, subject,
                f"what {device.name} sends to {last} cannot be answered: no route back to {named},"
                f" such as from {_host(route.to)} to {_host(lost[0][1])}",
                f"Give {last} a route to it via {course.devices[-2]}, or translate it on egress.",
            )  # fmt: skip


@check(
    "no-way-on",
    "error",
    "A route to a router that has no way on itself leads nowhere, however right it looks.",
    wrong=_TWO.replace("[{to: 10.41", "[{to: 10.47.10.0/24, via: 10.40.20.2}, {to: 10.41")
    + "[{to: 10.40.10.0/24, via: 10.40.20.1}]",
    right=_TWO.replace("[{to: 10.41", "[{to: 10.47.10.0/24, via: 10.40.20.2}, {to: 10.41")
    + "[{to: 10.40.10.0/24, via: 10.40.20.1}, {to: 10.47.10.0/24, via: 10.41.10.2}]",
    across=True,
)
def no_way_on(design: Design) -> Iterator[Found]:
    """Find routes to a device of the intent that has no route to any of their destinations, nor anybody behind it."""
    for (_, route, subject), course in zip(design.routes, design.once(_courses), strict=True):
        if course is not None and course.end == "no route" and len(course.devices) > 1:
            yield Found(
                route.place, subject,
                f"it leads to {' and '.join(course.devices[1:])}, and {course.devices[-1]} has no route to"
                f" {route.to.shortest if route.to.length else 'the rest of the world'}",
                f"Give {course.devices[-1]} a route to it, or send it elsewhere.",
            )  # fmt: skip


def _courses(design: Design) -> list[Course | None]:
    """Follow every route of a design."""
    return [_course(design, device, route) for device, route, _ in design.routes]


def _course(design: Design, device: Device, route: Route) -> Course | None:
    """Follow a route to another device and on, to a destination that this one has a way to; None if it leads outside.

    A route may be wider than what is behind it: so it counts where something of it leads.
    """
    if route.via is None or route.instance:
        return None
    links = design.links(device, route.via)
    if links and not any(one.enabled for one, _ in links):
        return None
    owners = (port.device.name for port in design.topology.neighbours.holders.get(route.via, []))
    neighbour = next((name for name in owners if name != device.name), None)
    if neighbour is None:
        return None
    table, discarded, leading = design.topology.table(neighbour, route.to.family), False, None
    for low, _, hop in table.within(route.to.first, route.to.last):
        if hop is not None and hop.means != "discard":
            leading = low
            break
        discarded |= hop is not None
    if leading is None and discarded:
        return None  # it is discarded there, and somebody said so
    target = _host(route.to) if leading is None else Address(route.to.family, leading)
    onward = design.topology.way(neighbour, target)
    return Course((device.name, *onward.devices), onward.end, onward.hop)


def _host(subnet: Prefix) -> Address:
    """Return somebody in a subnet; of everything, a stranger."""
    if subnet.length == 0:
        return STRANGER[subnet.family]
    ninth = subnet.first + 9
    return Address(subnet.family, ninth if ninth < subnet.last and ninth != subnet.value else subnet.last)


def _inside(design: Design, device: Device, course: Course, family: int) -> Iterator[tuple[str, Prefix]]:
    """Yield the subnets of a device that are sent from untranslated all the way, other than links on it."""
    ways = [
        (name, design.topology.neighbours.port_towards(name, following, family))
        for name, following in pairwise(course.devices)
    ]
    links = {port.address.network for _, port in ways if port is not None}
    ways = [(name, port) for name, port in ways if design.departures(design.topology.devices[name])]
    for one in device.interfaces:
        if one.loopback or not one.enabled or one.instance or design.exposure(one) == "public":
            continue
        for own in one.addresses:
            if own.family != family or own.is_host or own.address.is_link_local:
                continue
            if own.network not in links and not any(
                _translated(design, name, port.interface.name if port else "", own) for name, port in ways
            ):
                yield one.name, own


def _translated(design: Design, name: str, out: str, subnet: Prefix) -> bool:
    """Whether some source NAT rule rewrites sources of a subnet: then its own addresses do not travel."""
    device = design.topology.devices[name]
    return subnet.family == 4 and any(
        rule.verdict != "keep"
        and (rule.leaves is None or out in rule.leaves)
        and (rule.source is None or bool(meet(rule.source.spans, ((subnet.first, subnet.last),))))
        for rule in design.departures(device)
    )


def _comes_back(
    design: Design, device: Device, neighbour: str, subnet: Prefix, known: dict[Address, dict[str, bool]]
) -> bool:
    """Tell whether what a neighbour sends to a subnet of a device gets there, or to somebody who may know the way.

    Ways share most of their length: `known` keeps, by destination, from where they come back to the device.
    """
    other = next(value for value in (subnet.first + 1, subnet.last - 1, subnet.first) if value != subnet.value)
    destination = Address(subnet.family, other)
    told = known.setdefault(destination, {device.name: True})
    passed, here = [], neighbour
    while here not in told:
        passed.append(here)
        told[here] = True  # if it comes by again: a loop is another check's
        hop, following = design.topology.onward(here, destination)
        if hop is None or hop.means == "discard":
            told[here] = False
        elif hop.means not in ("own", "connected") and hop.next_hop is not None:
            if following is not None:
                here = following
                continue
            told[here] = not subnet.is_private  # whoever is there may well know it
        break
    back = told[here]
    told.update(dict.fromkeys(passed, back))
    return back


@check(
    "next-hop-shut",
    "error",
    "An interface that is down answers nobody, so what is sent to its address is lost.",
    wrong=_TWO.replace("sea0: {address", "sea0: {enabled: false, address") + "[{to: 10.40.10.0/24, via: 10.40.20.1}]",
    right=_TWO + "[{to: 10.40.10.0/24, via: 10.40.20.1}]",
    across=True,
)
def next_hop_shut(design: Design) -> Iterator[Found]:
    """Find routes whose next hop is on an interface that is shut, there or here."""
    for device, route, subject in design.routes:
        there = design.shut.get(route.via) if route.via is not None else None
        here = design.links(device, route.via) if route.via is not None else []
        if there is not None and there.device.name != device.name:
            where, remedy = f"{there.device.name} {there.interface.name}", "Enable that interface, or route around it."
        elif here and not any(one.enabled for one, _ in here):
            where, remedy = f"{here[0][0].name}, its own", "Enable the interface, or remove the route."
        else:
            continue
        yield Found(route.place.at("via"), subject, f"its next hop {route.via} is on {where}, which is down", remedy)


@check(
    "forwarding-loop",
    "error",
    "Devices that send a destination to one another keep the packet until its time to live is used up.",
    wrong=_TWO
    + """[{to: default, via: 10.40.20.1}]
  back:
    speaks: frr
    interfaces: {x: {address: 10.40.20.3/24}}
    routes: [{to: 10.50.0.0/16, via: 10.40.20.4}]
  forth:
    speaks: frr
    interfaces: {x: {address: 10.40.20.4/24}}
    routes: [{to: 10.50.0.0/16, via: 10.40.20.3}]""",
    right=_TWO + "[{to: default, via: 10.40.20.1}]",
    across=True,
)
def forwarding_loop(design: Design) -> Iterator[Found]:
    """Find destinations that devices give to one another in a circle."""
    for family in (4, 6):
        for start, circle in design.topology.loops(family):
            destination = Address(family, start)
            hops = [design.topology.table(name, family).look_up(start) for name in circle]
            routes = [hop.route for hop in hops if hop is not None and hop.route is not None]
            where = ", ".join(str(route.place) for route in routes[1:])
            yield Found(
                routes[0].place if routes else NOWHERE,
                f"{circle[0]} route {routes[0].destination if routes else destination}",
                f"packets to {destination} loop: {' -> '.join((*circle, circle[0]))} (see {where})",
                "Let one of them send it on, or discard it.",
            )  # fmt: skip
