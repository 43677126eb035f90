"""Forwarding tables: longest prefix first, then lowest distance (RFC 1812 section 5.2.4).

A table is flattened into the intervals between all prefix ends, so that a look-up is one
bisection and a whole network can be swept in the order of addresses.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from typing import Literal

import msgspec

from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route

Means = Literal["own", "connected", "via", "discard"]
CONNECTED = (0, 0)


class Hop(msgspec.Struct, frozen=True):
    """What a table says about some destinations.

    Attributes:
        prefix: The entry's prefix.
        means: They are the device itself (`own`), on the link (`connected`), behind a next hop or an
            interface (`via`), or nowhere (`discard`).
        interface: The way out; empty for `own` and `discard`.
        route: The static route that says so; `None` for what follows from addresses.
        rank: Distance and metric; the lowest wins among equal prefixes.
    """

    prefix: Prefix
    means: Means
    interface: str = ""
    route: Route | None = None
    rank: tuple[int, int] = CONNECTED

    @property
    def order(self) -> tuple[tuple[int, int], str, int]:
        """By what one of several entries for a prefix is taken.

        What stands first decides nothing: interfaces and routes have no order. Of equal ones it is the first by name.
        """
        return self.rank, self.interface, self.next_hop.value if self.next_hop is not None else 0

    @property
    def next_hop(self) -> Address | None:
        """The neighbour that packets are given to; `None` if they are given to the destination itself."""
        return self.route.via if self.route is not None else None


class Table:
    """The forwarding table of a device, for one family and one routing instance.

    Args:
        device: The device.
        family: 4 or 6.
        instance: Name of the routing instance; empty for the main one.

    Attributes:
        starts: First addresses of the intervals, ascending, from 0.
        hops: What is said about each interval; `None` where nothing is.
    """

    def __init__(self, device: Device, family: int, instance: str = "") -> None:
        best: dict[tuple[int, int], Hop] = {}
        for hop in _entries(device, family, instance):
            key = hop.prefix.first, hop.prefix.length
            known = best.get(key)
            if known is None or hop.order < known.order:
                best[key] = hop
        self.starts, self.hops = _flattened(best, BITS[family])

    def look_up(self, value: int) -> Hop | None:
        """Return what is said about an address, given as an integer; `None` if there is no route."""
        return self.hops[bisect_right(self.starts, value) - 1]

    def intervals(self) -> Iterator[tuple[int, Hop | None]]:
        """Yield the intervals in ascending order, each by its first address; it ends where the next begins."""
        return zip(self.starts, self.hops, strict=True)


def _entries(device: Device, family: int, instance: str) -> Iterator[Hop]:
    here = [each for each in device.interfaces if each.enabled and each.instance == instance]
    for one in here:
        for own in one.addresses:
            if own.family == family:
                yield Hop(Prefix.host(own.address), "own")
                if not own.is_host and not one.loopback:
                    yield Hop(own.network, "connected", one.name)
    names = {each.name for each in here}
    ways: dict[Address, str | None] = {}  # many routes have one next hop
    for route in device.routes:
        if route.to.family != family or route.instance != instance:
            continue
        rank = route.distance, route.metric or 0
        name = route.interface
        if route.discard:
            yield Hop(route.to.network, "discard", "", route, rank)
            continue
        if name is None and route.via is not None:
            if route.via not in ways:
                ways[route.via] = way_to(route.via, here)
            name = ways[route.via]
        if name in names:  # else its way out is not there, and it is not used
            yield Hop(route.to.network, "via", name or "", route, rank)


def way_to(next_hop: Address, interfaces: list[Interface]) -> str | None:
    """Return the interface whose subnet holds a next hop, the longest; None if none does."""
    subnets = [(-subnet.length, one.name) for one in interfaces if (subnet := one.subnet_of(next_hop)) is not None]
    return min(subnets)[1] if subnets else None


def _flattened(best: dict[tuple[int, int], Hop], bits: int) -> tuple[list[int], list[Hop | None]]:
    """Cut the line of addresses at all prefix ends; the longest prefix around an interval speaks for it."""
    starts: list[int] = [0]
    hops: list[Hop | None] = [None]
    around: list[tuple[int, Hop | None]] = [((1 << bits) - 1, None)]

    def begin(at: int, hop: Hop | None) -> None:
        if starts[-1] == at:
            hops[-1] = hop
        else:
            starts.append(at)
            hops.append(hop)

    for (first, _), hop in sorted(best.items(), key=lambda each: each[0]):
        while around[-1][0] < first:
            ended, _ = around.pop()
            begin(ended + 1, around[-1][1])
        begin(first, hop)
        around.append((hop.prefix.last, hop))
    while len(around) > 1:
        ended, _ = around.pop()
        if ended < around[0][0]:
            begin(ended + 1, around[-1][1])
    return starts, hops
