"""Which devices may be changed at the same time: none that stand in for each other.

Of two routers between the same two subnets, or that a third one has routes through to the same destination, one has to
work while the other is changed.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device

Duty = tuple[object, ...]  # what more than one device does


def duties(devices: Iterable[Device]) -> dict[str, set[Duty]]:
    """Return for each device what others do as well: those that have a duty in common stand in for each other.

    Args:
        devices: All devices of a network.

    Example:
        Two routers that both connect 10.40.10.0/24 and 10.40.20.0/24 have that in common.
    """
    devices = list(devices)
    found: dict[str, set[Duty]] = {each.name: set() for each in devices}
    having = defaultdict[Prefix, set[str]](set)
    for device in devices:
        for subnet in _subnets(device):
            having[subnet].add(device.name)
    for device in devices:
        shared = sorted((each for each in _subnets(device) if len(having[each]) > 1), key=str)
        found[device.name].update(("between", *pair) for pair in combinations(shared, 2))
    owners = {own.address: each.name for each in devices for port in each.interfaces for own in port.addresses}
    for device in devices:
        for duty, names in _ways(device, owners):
            for name in names:
                found[name].add(duty)
    return found


def _subnets(device: Device) -> set[Prefix]:
    return {own.network for each in device.interfaces if _carries(each) for own in each.addresses if not own.is_host}


def _carries(port: Interface) -> bool:
    return port.enabled and not port.loopback and not port.management


def _ways(device: Device, owners: Mapping[Address, str]) -> Iterator[tuple[Duty, set[str]]]:
    """Yield the destinations that a device has routes to through several others, and these."""
    through = defaultdict[Duty, set[str]](set)
    for route in device.routes:
        if route.via is not None and route.via in owners:
            through["towards", device.name, route.instance, route.to].add(owners[route.via])
    yield from ((duty, names) for duty, names in through.items() if len(names) > 1)


def in_waves(names: Sequence[str], having: Mapping[str, set[Duty]], most: int) -> list[list[str]]:
    """Part devices into waves, in which no two have a duty in common.

    Args:
        names: The devices, in the order in which they are wanted.
        having: The duties of each.
        most: How many a wave may have.

    Example:
        >>> in_waves(["a", "b", "c"], {"a": {("x",)}, "b": {("x",)}, "c": set()}, 2)
        [['a', 'c'], ['b']]
    """
    waves: list[tuple[list[str], set[Duty]]] = []
    full = 0  # the waves before this one take no more
    for name in names:
        mine = having.get(name, set())
        place = next((each for each in waves[full:] if len(each[0]) < most and not mine & each[1]), None)
        if place is None:
            place = [], set()
            waves.append(place)
        place[0].append(name)
        place[1].update(mine)
        while full < len(waves) and len(waves[full][0]) >= most:
            full += 1
    return [members for members, _ in waves]
