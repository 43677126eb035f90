"""What every block and subnet of a network is used for, and what is left of it."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from itertools import accumulate
from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix, spell_value
from agile_lattice.intent.model import Block, Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.intent.translations import Dynamic, Publish, Static, Translation, Twice
from agile_lattice.packets.spans import Span, Spans, meet, merged, minus, size

Kind = Literal["network", "broadcast", "gateway", "interface", "host", "published", "static", "pool", "reserved"]
KINDS: tuple[Kind, ...] = (
    "network", "gateway", "interface", "host", "published", "static", "pool", "reserved", "broadcast",
)  # fmt: skip


class Use(msgspec.Struct, frozen=True):
    """Addresses that something uses.

    Attributes:
        addresses: One span.
        holder: The device, its interface or the host; empty for none.
        what: The rule or the purpose, in words.
    """

    addresses: AddressSet
    kind: Kind
    holder: str
    what: str
    place: Place


class Plan(msgspec.Struct, frozen=True):
    """A block or a subnet, and what it is used for.

    Attributes:
        name: Of the block; of a subnet that is in none, the zone that it faces.
        prefix: The addresses that it has.
        uses: Ascending; an address may have several.
        spare: What nothing uses.
    """

    name: str
    prefix: Prefix
    uses: tuple[Use, ...]
    spare: Spans

    @property
    def left(self) -> int:
        """How many addresses are spare."""
        return size(self.spare)

    def next_free(self, count: int = 1) -> AddressSet | None:
        """Return the first spare run of so many addresses; `None` if there is none."""
        for first, last in self.spare:
            if last - first + 1 >= count:
                return AddressSet(self.prefix.family, ((first, first + count - 1),))
        return None


def plans(network: Network) -> list[Plan]:
    """Return the plan of every block, then of every connected subnet that is not a block itself."""
    taken = [use for device in network.devices for use in _of_device(device)]
    taken += _hosts(network)
    taken += _next_hops(network, {use.addresses for use in taken if use.kind in ("interface", "host")})
    blocks = {block.prefix: block for block in network.blocks}
    names = {block.prefix: block.name for block in network.blocks}
    for device in network.devices:
        for interface in device.interfaces:
            for own in interface.addresses:
                if not own.is_host and not interface.loopback and not own.address.is_link_local:
                    names.setdefault(own.network, interface.zone)
    by_family = {family: _Taken(use for use in taken if use.addresses.family == family) for family in (4, 6)}
    order = [*blocks, *sorted(prefix for prefix in names if prefix not in blocks)]
    return [_plan(names[prefix], prefix, blocks.get(prefix), by_family[prefix.family]) for prefix in order]


class _Taken:
    """What addresses of one family are used for, found by address: each use of one run."""

    def __init__(self, uses: Iterable[Use]) -> None:
        parts = (
            msgspec.structs.replace(use, addresses=AddressSet(use.addresses.family, (span,)))
            for use in uses
            for span in use.addresses.spans
        )
        self._uses = sorted(parts, key=lambda use: use.addresses.spans[0])
        self._firsts = [use.addresses.spans[0][0] for use in self._uses]
        # The last address that is used so far, in that order: nothing before reaches further.
        self._reach = [*accumulate((use.addresses.spans[0][1] for use in self._uses), max)]

    def within(self, first: int, last: int) -> list[Use]:
        """Return the uses that have an address in a run."""
        begin, end = bisect_left(self._firsts, first), bisect_right(self._firsts, last)
        while begin and self._reach[begin - 1] >= first:
            begin -= 1
        return [use for use in self._uses[begin:end] if use.addresses.spans[0][1] >= first]


def _plan(name: str, prefix: Prefix, block: Block | None, taken: _Taken) -> Plan:
    whole = ((prefix.first, prefix.last),)
    uses = [*_edges(prefix, block), *_of_block(block)]
    gateway = block.gateway if block is not None else None
    for use in taken.within(prefix.first, prefix.last):
        if use.kind == "gateway" and gateway is not None and gateway in use.addresses:
            continue  # the block says it better
        uses += [
            msgspec.structs.replace(use, addresses=AddressSet(prefix.family, (span,)))
            for span in meet(use.addresses.spans, whole)
        ]
    order = {kind: rank for rank, kind in enumerate(KINDS)}
    uses.sort(key=lambda use: (use.addresses.spans[0], order[use.kind], use.holder, use.what))
    spare = minus(whole, merged(span for use in uses for span in use.addresses.spans))
    return Plan(name, prefix, tuple(uses), spare)


def _edges(prefix: Prefix, block: Block | None) -> Iterator[Use]:
    """Yield what a subnet keeps for itself; a block that is routed to us has no edges of its own."""
    place = block.place if block is not None else Place()
    if block is not None and block.delivery == "routed":
        return
    if prefix.family == 6 and prefix.host_bits > 1:
        yield Use(_one(Address(6, prefix.first)), "network", "", "routers of the subnet (RFC 4291)", place)
    for value, kind in zip(prefix.edges, ("network", "broadcast"), strict=False):
        yield Use(_one(Address(4, value)), "network" if kind == "network" else "broadcast", "", "", place)


def _of_block(block: Block | None) -> Iterator[Use]:
    if block is None:
        return
    if block.gateway is not None:
        yield Use(_one(block.gateway), "gateway", "the provider", f"block {block.name}", block.place.at("gateway"))
    for each in block.reservations:
        yield from _spread(each.addresses, "reserved", "", each.what, each.place)


def _of_device(device: Device) -> Iterator[Use]:
    for interface in device.interfaces:
        holder = f"{device.name} {interface.name}"
        for index, own in enumerate(interface.addresses):
            yield Use(_one(own.address), "interface", holder, interface.description, interface.place_of(index))
        for extra in interface.extra:
            yield Use(AddressSet.of(extra.address), extra.purpose, holder, extra.description, extra.place)
    for one in device.translations:
        for addresses, kind in _external(one):
            yield from _spread(addresses, kind, device.name, one.name, one.place)


def _external(one: Translation) -> Iterator[tuple[AddressSet, Kind]]:
    if isinstance(one, Publish):
        if one.named:
            yield AddressSet(one.internal.family, one.named), "published"
    elif isinstance(one, Static):
        yield AddressSet.of(one.external), "static"
    elif isinstance(one, Dynamic | Twice) and one.pool is not None:
        yield one.pool, "pool"


def _hosts(network: Network) -> list[Use]:
    return [Use(_one(each.address.address), "host", each.name, each.description, each.place) for each in network.hosts]


def _next_hops(network: Network, known: set[AddressSet]) -> Iterator[Use]:
    """Yield neighbours that routes name and that nothing else describes."""
    told: set[Address] = set()
    for device in network.devices:
        for route in device.routes:
            if route.via is not None and _one(route.via) not in known and route.via not in told:
                told.add(route.via)
                what = f"next hop of {device.name}"
                yield Use(_one(route.via), "gateway", "", what, route.place.at("via"))


def _spread(addresses: AddressSet, kind: Kind, holder: str, what: str, place: Place) -> Iterator[Use]:
    for span in addresses.spans:
        yield Use(AddressSet(addresses.family, (span,)), kind, holder, what, place)


def _one(address: Address) -> AddressSet:
    return AddressSet.of(address)


def rows(plan: Plan) -> list[tuple[Span, Use | None]]:
    """Return a plan from its first address to its last: every use, and between them what is spare (`None`)."""
    members: list[tuple[Span, Use | None]] = [(use.addresses.spans[0], use) for use in plan.uses]
    members += [(span, None) for span in plan.spare]
    return sorted(members, key=lambda each: each[0][0])


COLUMNS = ("plan", "prefix", "first", "last", "count", "use", "holder", "what", "place")


def table(plans: Iterable[Plan]) -> Iterator[tuple[str | int, ...]]:
    """Yield a row for every use and every spare run, in the columns `COLUMNS`.

    Addresses and places are text, `count` is a number of addresses, `use` is one of `KINDS` or `spare`.
    """
    for plan in plans:
        for (first, last), use in rows(plan):
            ends = (spell_value(plan.prefix.family, each) for each in (first, last))
            about = (use.kind, use.holder, use.what, str(use.place)) if use is not None else ("spare", "", "", "")
            yield plan.name, str(plan.prefix), *ends, last - first + 1, *about
