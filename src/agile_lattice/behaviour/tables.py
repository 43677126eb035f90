"""Forwarding tables: longest prefix first, then lowest distance (RFC 1812 section 5.2.4).

A table is flattened into the intervals between all prefix ends, so that a look-up is one
bisection and a whole network can be swept in the order of addresses. Prefixes are columns of
numbers, laid over one another from the shortest to the longest.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any, Literal

import msgspec
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from agile_lattice.intent.addresses import BITS, Address, AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route
from agile_lattice.packets.spans import Span, merged

Means = Literal["own", "connected", "via", "discard"]
CONNECTED = (0, 0)
Column = NDArray[Any]


class Way(msgspec.Struct, frozen=True, order=True, gc=False):
    """Where packets go.

    Attributes:
        interface: The egress interface; empty if they do not leave.
        next_hop: The neighbour that they are given to; `None` if that is the destination itself.
        means: They are for the device itself (`own`), for the link (`connected`), for a next hop or a link by a
            route (`via`), or for nobody (`discard`).
        others: What else the best routes of the prefix say, sorted: some systems spread packets over all of them
            (RFC 2992), some take one.
    """

    interface: str = ""
    next_hop: Address | None = None
    means: Means = "own"
    others: tuple[Way, ...] = ()

    def __str__(self) -> str:
        return " or ".join(map(_in_words, self.each))

    @property
    def each(self) -> tuple[Way, ...]:
        """All ways of equal rank, this one first, each by itself."""
        return (Way(self.interface, self.next_hop, self.means), *self.others) if self.others else (self,)


def _in_words(way: Way) -> str:
    if way.means == "own":
        return "the device itself"
    if way.means == "discard":
        return "discarded"
    return f"next hop {way.next_hop} via {way.interface}" if way.next_hop else f"directly on {way.interface}"


class Hop(msgspec.Struct, frozen=True, gc=False):
    """What a table says about some destinations.

    Attributes:
        prefix: The entry's prefix.
        way: Where they go.
        route: The static route that says so; `None` for what follows from addresses.
        rank: Distance and metric; the lowest wins among equal prefixes.
    """

    prefix: Prefix
    way: Way
    route: Route | None = None
    rank: tuple[int, int] = CONNECTED

    @property
    def means(self) -> Means:
        """What sort of way it is."""
        return self.way.means

    @property
    def interface(self) -> str:
        """The egress; empty for `own` and `discard`."""
        return self.way.interface

    @property
    def next_hop(self) -> Address | None:
        """The neighbour that packets are given to; `None` if they are given to the destination itself."""
        return self.way.next_hop


def is_way_back(hop: Hop, arrives: str = "") -> bool:
    """Tell whether an entry leads back to a source: by an interface, if one is named (RFC 3704 sections 2.2, 2.4)."""
    if hop.means == "discard":
        return False
    return not arrives or any(way.interface == arrives for way in hop.way.each)


class Table:
    """The forwarding table of a device, for one family and one routing instance.

    Args:
        device: The device.
        family: 4 or 6.
        instance: Name of the routing instance; empty for the main one.
        choice: Which of several equally good routes comes first: any number, counted round.

    Attributes:
        family: 4 or 6.
    """

    def __init__(self, device: Device, family: int, instance: str = "", choice: int = 0) -> None:
        self.family = family
        self._entries = _Entries(device, family, instance, choice)
        self._starts, self._best = _flattened(self._entries, family)

    @cached_property
    def starts(self) -> list[int]:
        """First addresses of the intervals, ascending, from 0."""
        starts: list[int] = self._starts.tolist()
        return starts

    def look_up(self, value: int) -> Hop | None:
        """Return what is said about an address, given as an integer; `None` if there is no route."""
        return self._entries.hop(int(self._best[bisect_right(self.starts, value) - 1]))

    @property
    def choices(self) -> int:
        """How many routes are equally good, where they are the most."""
        return max((len(each.each) for each in self._entries.ways), default=1)

    @cached_property
    def hops(self) -> list[Hop | None]:
        """What is said about each interval; `None` where nothing is."""
        return [self._entries.hop(each) for each in self._best.tolist()]

    def intervals(self) -> Iterator[tuple[int, Hop | None]]:
        """Yield the intervals in ascending order, each by its first address; it ends where the next begins."""
        return zip(self.starts, self.hops, strict=True)

    def within(self, first: int, last: int) -> Iterator[tuple[int, int, Hop | None]]:
        """Yield the intervals of some addresses in ascending order: first and last, and what is said about them."""
        at = bisect_right(self.starts, first) - 1
        while at < len(self.starts) and self.starts[at] <= last:
            end = self.starts[at + 1] - 1 if at + 1 < len(self.starts) else last
            yield max(first, self.starts[at]), min(last, end), self.hops[at]
            at += 1

    def partings(self, other: Table) -> list[tuple[Way | None, Way | None, AddressSet]]:
        """Compare with another table of the family.

        Returns:
            Where packets go here and where they go there (`None` is nowhere), and the destinations for which it is so.
            The same egress to the same next hop is the same, whatever prefix it stands under.
        """
        cuts = np.sort(np.concatenate([self._starts, other._starts]))
        cuts = cuts[np.flatnonzero(np.diff(cuts, prepend=-1))]
        ways: list[Way | None] = list(dict.fromkeys([None, *self._entries.ways, *other._entries.ways]))
        number = {way: at for at, way in enumerate(ways)}
        mine, its = (each._ways_at(cuts, number) for each in (self, other))
        ends = [*cuts[1:].tolist(), 1 << BITS[self.family]]
        found: dict[tuple[int, int], list[Span]] = {}
        for at in np.flatnonzero(mine != its).tolist():
            found.setdefault((int(mine[at]), int(its[at])), []).append((int(cuts[at]), ends[at] - 1))
        return [(ways[one], ways[two], AddressSet(self.family, merged(some))) for (one, two), some in found.items()]

    def _ways_at(self, addresses: Column, number: dict[Way | None, int]) -> Column:
        way = np.append(self._entries.way, len(self._entries.ways))  # -1, no entry, is the last
        numbers = np.array([number[each] for each in (*self._entries.ways, None)])
        found: Column = numbers[way[self._best[np.searchsorted(self._starts, addresses, "right") - 1]]]
        return found


class _Entries:
    """What a device says about prefixes.

    Attributes:
        ways: The distinct ways.
        prefixes: Of each entry the prefix.
        way: Of each entry the number of its way.
        distance, metric: Of each entry; the lowest wins among equal prefixes.
    """

    def __init__(self, device: Device, family: int, instance: str, choice: int) -> None:
        self._choice = choice
        self._led: dict[int, Hop] = {}  # what routes lead to, each made when it is first asked for
        here = [each for each in device.interfaces if each.enabled and each.instance == instance]
        self._own = [hop for one in here for hop in _of_interface(one, family)]
        numbers: dict[Way, int] = {}
        own = [numbers.setdefault(each.way, len(numbers)) for each in self._own]
        routes = [each for each in device.ways if each.to.family == family and each.instance == instance]
        kinds: dict[tuple[Address | None, str | None, str | None], int] = {}  # many routes go the same way
        kind = [kinds.setdefault((each.via, each.interface, each.discard), len(kinds)) for each in routes]
        exits = [_exit(*key, here) for key in kinds]
        leads = [-1 if each is None else numbers.setdefault(each, len(numbers)) for each in exits]
        way = np.array([*leads, -1], np.int64)[np.array(kind, np.int64)]
        used = way >= 0  # of the others the egress interface is not there
        self._routes = routes if used.all() else [each for each, leads_on in zip(routes, used, strict=True) if leads_on]
        self.ways = list(numbers)
        self.way = np.concatenate([np.array(own, np.int64), way[used]])
        self.prefixes = [each.prefix for each in self._own] + [each.to for each in self._routes]
        near = [0] * len(self._own)
        self.distance = np.array(near + [each.distance for each in self._routes], np.int64)
        self.metric = np.array(near + [each.metric or 0 for each in self._routes], np.int64)

    def unite(self, groups: Iterable[Sequence[int]]) -> None:
        """Give the first entry of each group the ways of all of them: they are of one prefix and rank."""
        for first, *others in groups:
            members = sorted({self.ways[int(self.way[at])] for at in (first, *others)}, key=_tie)
            if len(members) == 1:
                continue
            leading = [each for each in members if each.means in ("connected", "via")]
            if leading and members[0] in leading:
                taken = leading[self._choice % len(leading)]
                members = [taken, *(each for each in members if each is not taken)]
            mine = members[0]
            way = Way(mine.interface, mine.next_hop, mine.means, tuple(members[1:]))
            self.way[first] = len(self.ways)
            self.ways.append(way)
            if first < len(self._own):
                self._own[first] = replace(self._own[first], way=way)

    def hop(self, at: int) -> Hop | None:
        """Return an entry; `None` for -1."""
        if at < 0:
            return None
        if at < len(self._own):
            return self._own[at]
        if at not in self._led:
            route = self._routes[at - len(self._own)]
            rank = route.distance, route.metric or 0
            self._led[at] = Hop(route.to.network, self.ways[int(self.way[at])], route, rank)
        return self._led[at]


def _of_interface(one: Interface, family: int) -> Iterator[Hop]:
    for own in one.addresses:
        if own.family == family:
            yield Hop(Prefix.host(own.address), Way())
            if not own.is_host and not one.loopback:
                yield Hop(own.network, Way(one.name, None, "connected"))
                if (shared := to_routers(own)) is not None:
                    yield Hop(Prefix.host(shared), Way())


def to_routers(own: Prefix) -> Address | None:
    """Return the address of a subnet besides its own that a device takes for itself; `None` if there is none.

    It is the last one of IPv4, for all hosts of the subnet, which is not forwarded (RFC 2644), and the first one of
    IPv6, for any router of it (RFC 4291 section 2.6.1); subnets of two addresses have neither (RFC 3021, RFC 6164).
    """
    if own.host_bits < 2:
        return None
    return Address(own.family, own.last if own.family == 4 else own.first)


def _exit(via: Address | None, name: str | None, discard: object, here: Sequence[Interface]) -> Way | None:
    """Return where a route leads; `None` if its egress interface is not there."""
    if discard:
        return Way("", None, "discard")
    if name is None and via is not None:
        name = way_to(via, here)
    return Way(name, via, "via") if name is not None and any(each.name == name for each in here) else None


def way_to(next_hop: Address, interfaces: Sequence[Interface]) -> str | None:
    """Return the interface whose subnet holds a next hop, the longest; None if none does."""
    subnets = [(-subnet.length, one.name) for one in interfaces if (subnet := one.subnet_of(next_hop)) is not None]
    return min(subnets)[1] if subnets else None


def _flattened(entries: _Entries, family: int) -> tuple[Column, Column]:
    """Return the first addresses of the intervals, and for each the entry that speaks for it; -1 if none does."""
    count = len(entries.prefixes)
    numbers = object if family == 6 else np.int64  # 128 bits are too many for NumPy's own
    length = np.array([each.length for each in entries.prefixes], np.int64)
    size = np.left_shift(np.ones(count, numbers), (BITS[family] - length).astype(numbers))
    first = np.array([each.value for each in entries.prefixes], numbers)
    first -= first % size
    starts, cell = np.unique(np.concatenate([np.zeros(1, numbers), first, first + size]), return_inverse=True)
    low, high = cell[1 : count + 1], cell[count + 1 :]
    best = np.full(len(starts), -1, np.int64)
    for layer in _layers(entries, low, length):
        cells = high[layer] - low[layer]
        shift = np.repeat(low[layer] - (np.cumsum(cells) - cells), cells)
        best[shift + np.arange(len(shift))] = np.repeat(layer, cells)
    if len(starts) > 1 and int(starts[-1]) == 1 << BITS[family]:  # behind the last address there is nothing
        starts, best = starts[:-1], best[:-1]
    new = np.flatnonzero(np.diff(best, prepend=-2))
    return starts[new], best[new]


def _layers(entries: _Entries, low: Column, length: Column) -> list[Column]:
    """Return the best entry of each prefix, those of one length together, the shortest first.

    What stands first decides nothing: interfaces and routes have no order. Of equal ones it is the first way.
    """
    if not len(length):
        return []
    place = np.argsort(np.array(sorted(range(len(entries.ways)), key=lambda at: _tie(entries.ways[at]))))
    order = np.lexsort((place[entries.way], entries.metric, entries.distance, low, length))
    same = (np.diff(low[order], prepend=-1) == 0) & (np.diff(length[order], prepend=-1) == 0)
    chosen = order[~same]
    tied = (
        same & (np.diff(entries.distance[order], prepend=-1) == 0) & (np.diff(entries.metric[order], prepend=-1) == 0)
    )
    if tied.any():
        entries.unite(_runs(order, same, tied))
    return np.split(chosen, np.flatnonzero(np.diff(length[chosen])) + 1)


def _runs(order: Column, same: Column, tied: Column) -> Iterator[list[int]]:
    """Yield the best entries of each prefix that has several: the first, and those that are tied with it."""
    run: list[int] = []
    open_ = False
    for at, follows, ties in zip(order.tolist(), same.tolist(), tied.tolist(), strict=True):
        if not follows:
            if len(run) > 1:
                yield run
            run, open_ = [at], True
        elif ties and open_:
            run.append(at)
        else:
            open_ = False
    if len(run) > 1:
        yield run


def _tie(way: Way) -> tuple[bool, str, int, str]:
    return way.means == "discard", way.interface, way.next_hop.value if way.next_hop is not None else 0, way.means
