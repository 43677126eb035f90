"""Checks of external addresses: whether they are free, answered for, and enough."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TypeVar

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, AddressSet, Prefix, spell_range
from agile_lattice.intent.answering import external_addresses
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Dynamic, Publish, Static, Twice
from agile_lattice.packets.boxes import overlap
from agile_lattice.packets.spans import Spans, meet, merged, minus, size
from agile_lattice.plan.calculation import PORTS_PER_ADDRESS

_SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
"""
PORTS_PER_HOST = 64
T = TypeVar("T")
Use = tuple[str, object]  # what an address is used for, and by what; few are ever spelt


@check(
    "external-address-taken",
    "error",
    "An external address that is the gateway's, another device's or the subnet's edge breaks what already uses it.",
    wrong=_SIDES + "- {to: wan0, source-becomes: {pool: 203.0.113.1-203.0.113.4}}",
    right=_SIDES
    + "- {to: wan0, source: 10.40.10.9, source-becomes: {pool: 203.0.113.8/30}}\n"
    + "- {to: wan0, source-becomes: {pool: 203.0.113.2}}",
    across=True,
)
def external_address_taken(design: Design) -> Iterator[Found]:
    """Find translations that use an external address which is taken."""
    for device in design.devices:
        taken = Taken(design, device)
        own = {prefix.address: f"the device's own address on {one.name}" for one, prefix, _ in own_addresses(device)}
        for one in device.translations:
            if isinstance(one, Dynamic | Twice) and one.pool is not None:
                shown, place, what = one.pool, one.place.at("source-becomes", "pool"), "its pool"
            elif isinstance(one, Publish):
                shown, place, what = AddressSet(4, one.named), one.place.at("publish"), "it is published at"
            elif isinstance(one, Static):
                shown, place, what = AddressSet.of(one.external), one.place.at("static"), "it shows hosts as"
            else:
                continue
            # Many behind one own address is what NAPT does; one-to-one has a check of its own for that.
            more = {**_hosts(design, device), **(own if shown.single is None else {})} if what == "its pool" else {}
            for address, use in {**taken.within(shown), **_within(more, shown)}.items():
                spelt = ", ".join(spell_range(4, span) for span in shown.spans)
                whole = (
                    f"{what} {spelt} holds {address}, {use}" if spelt != str(address) else f"{what} {address}, {use}"
                )
                yield Found(place, translation_subject(device, one), whole, "Use addresses that are free.")


class Taken:
    """The addresses that others than a device have, or nobody can have.

    Args:
        design: The network.
        device: The device.
    """

    def __init__(self, design: Design, device: Device) -> None:
        self.design, self.device = design, device
        self.edges: dict[Address, Use] = {}
        for _, prefix, _ in own_addresses(device):
            if not prefix.is_host:
                _take_edges(self.edges, prefix)
        self.beyond: dict[Address, Use] = {}
        for route in device.routes:
            if route.via is not None:
                self.beyond.setdefault(route.via, ("the next hop of the route to", route.to))

    def within(self, shown: AddressSet) -> dict[Address, str]:
        """Return those in a set, each with what it is."""
        holders = _within(self.design.topology.neighbours.holders, shown)
        others = {
            address: f"the address of {port.device.name} {port.interface.name}"
            for address, ports in holders.items()
            for port in ports
            if port.device.name != self.device.name
        }
        known = [self.design.once(_kept_by_providers), self.beyond, self.edges]
        return {at: " ".join(map(str, use)) for each in known for at, use in _within(each, shown).items()} | others


def _kept_by_providers(design: Design) -> dict[Address, Use]:
    """Return what the blocks of providers keep from everybody."""
    taken: dict[Address, Use] = {}
    for block in design.network.blocks:
        if block.delivery == "on-link":
            _take_edges(taken, block.prefix)
        if block.gateway is not None:
            taken.setdefault(block.gateway, ("the gateway of the block", block.name))
        for reservation in block.reservations:
            for first, last in reservation.addresses.spans[:1]:
                what = "reserved in the block", f"{block.name}: {reservation.what}"
                for value in range(first, min(last, first + 256) + 1):
                    taken.setdefault(Address(reservation.addresses.family, value), what)
    return taken


def _within(taken: Mapping[Address, T], shown: AddressSet) -> dict[Address, T]:
    """Return the entries of the addresses in a set, by way of whichever of the two is smaller."""
    if size(shown.spans) > len(taken):
        return {address: what for address, what in taken.items() if address in shown}
    asked = (Address(shown.family, value) for first, last in shown.spans for value in range(first, last + 1))
    return {address: taken[address] for address in asked if address in taken}


def _hosts(design: Design, device: Device) -> dict[Address, str]:
    subnets = [prefix for _, prefix, _ in own_addresses(device) if not prefix.is_host]
    return {
        host.address.address: f"the address of the host {host.name}"
        for subnet in subnets
        for host in design.hosts_in(subnet)
    }


def _take_edges(taken: dict[Address, Use], prefix: Prefix) -> None:
    for value, which in zip(prefix.edges, ("network", "broadcast"), strict=False):
        taken.setdefault(Address(4, value), (f"the {which} address of", prefix.network))


@check(
    "pool-too-small",
    "warning",
    "In a pool whose ports are kept every host needs an address to itself; the one that comes late gets none.",
    wrong=_SIDES + "- {to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30, ports: kept}}",
    right=_SIDES + "- {to: wan0, source: 10.40.10.8/30, source-becomes: {pool: 203.0.113.8/30, ports: kept}}",
)
def pool_too_small(design: Design) -> Iterator[Found]:
    """Find pools without port sharing that have fewer addresses than the hosts they serve."""
    for device in design.devices:
        for one in device.translations:
            if isinstance(one, Dynamic | Twice) and one.pool is not None and one.ports == "kept":
                hosts, addresses = served(design, device, one), size(one.pool.spans)
                if hosts > addresses:
                    yield Found(
                        one.place.at("source-becomes", "pool"), translation_subject(device, one),
                        f"its pool has {addresses} addresses for {hosts} possible hosts, and ports are kept",
                        "Share ports (`ports: shared`), widen the pool, or narrow `source`.",
                    )  # fmt: skip


@check(
    "ports-run-short",
    "note",
    f"An external address has {PORTS_PER_ADDRESS} ports for each protocol; with fewer than {PORTS_PER_HOST} for a host"
    " a busy hour uses them up, and new connections fail.",
    wrong=_SIDES.replace("/24", "/21") + "- {to: wan0, source-becomes: {pool: 203.0.113.8}}",
    right=_SIDES.replace("/24", "/21") + "- {to: wan0, source-becomes: {pool: 203.0.113.8/30}}",
)
def ports_run_short(design: Design) -> Iterator[Found]:
    """Find translations that share the ports of an address among very many hosts."""
    for device in design.devices:
        for one in device.translations:
            if not isinstance(one, Dynamic | Twice) or one.ports == "kept":
                continue
            addresses = size(one.pool.spans) if one.pool is not None else 1
            hosts = served(design, device, one)
            if hosts * PORTS_PER_HOST > addresses * PORTS_PER_ADDRESS:
                each = addresses * PORTS_PER_ADDRESS // hosts
                yield Found(
                    one.place.at("source-becomes"), translation_subject(device, one),
                    f"{hosts} possible hosts share the ports of {addresses} address{'es' * (addresses > 1)}:"
                    f" {each} for each",
                    "Widen the pool, or part the hosts among several rules.",
                )  # fmt: skip


def served(design: Design, device: Device, one: Dynamic | Twice) -> int:
    """Count the hosts that a translation may serve: its sources, or all hosts on the subnets they could come from."""
    if one.source is not None:
        return size(one.source.spans)
    leaves = set(one.leaves or ())
    inside = [
        each
        for each in design.sides(device, one.arrives)
        if each.name not in leaves and design.exposure(each) != "public"
    ]
    spans = [(own.first, own.last) for each in inside for own in each.addresses if own.family == 4 and not own.is_host]
    return max(size(merged(spans)) - 3 * len(spans), 0)  # without the edges and the device itself


@check(
    "address-of-another-interface",
    "error",
    "What leaves by one interface with an address of another's link is answered on the other link, or filtered.",
    wrong="""\
interfaces: {wan0: {address: 203.0.113.2/28}, wan1: {address: 198.51.100.2/28}, lan0: {address: 10.40.10.1/24}}
translations: [{to: wan0, source-becomes: {pool: 198.51.100.8/30}}]""",
    right="""\
interfaces: {wan0: {address: 203.0.113.2/28}, wan1: {address: 198.51.100.2/28}, lan0: {address: 10.40.10.1/24}}
translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]""",
)
def address_of_another_interface(design: Design) -> Iterator[Found]:
    """Find translations towards some interfaces whose external address is on the link of another."""
    for device in design.devices:
        links = {each.name: _links([each]) for each in design.sides(device, None)}
        elsewhere: dict[tuple[tuple[str, ...], Spans], list[tuple[str, Spans]]] = {}  # many have these in common
        for one in device.translations:
            names = one.facing if isinstance(one, Publish | Static) else getattr(one, "leaves", None)
            external = external_addresses([one])
            if names is None or not external:
                continue
            if (names, external) not in elsewhere:
                here = merged(span for name in names for span in links.get(name, ()))
                cuts = [(other, minus(meet(external, its), here)) for other, its in links.items() if other not in names]
                elsewhere[names, external] = [(other, there) for other, there in cuts if there]
            for other, there in elsewhere[names, external]:
                yield Found(
                        one.place, translation_subject(device, one),
                        f"{AddressSet(4, there)} is on the link of {other}, and the rule is for"
                        f" {', '.join(names)}",
                        "Use an address of the interface that the packets pass, or a block routed to the device.",
                    )  # fmt: skip


def _links(interfaces: list[Interface]) -> Spans:
    return merged(
        (own.first, own.last) for one in interfaces for own in one.addresses if own.family == 4 and not own.is_host
    )


@check(
    "inbound-only",
    "warning",
    "A host that is reached at one address and leaves with another is taken for two by whoever checks the sender.",
    wrong=_SIDES
    + "- {static: 203.0.113.6, on: 10.40.10.12, facing: wan0, direction: inbound}\n"
    + "- {to: wan0, source-becomes: interface}",
    right=_SIDES
    + "- {static: 203.0.113.6, on: 10.40.10.12, facing: wan0}\n"
    + "- {to: wan0, source-becomes: interface}",
)
def inbound_only(design: Design) -> Iterator[Found]:
    """Find hosts with an external address of their own, inbound, that leave with another."""
    for device in design.devices:
        space = design.space(device)
        for one in device.translations:
            if isinstance(one, Publish) and one.services is None:
                external = one.named
            elif isinstance(one, Static) and one.direction == "inbound":
                external = ((one.external.first, one.external.last),)
            else:
                continue
            internal = AddressSet.of(one.internal)
            leaving = space.box(leaves=one.facing, source=internal)
            rule = next((each for each in design.departures(device) if overlap(space.of_rule(each), leaving)), None)
            if rule is not None and rule.verdict != "keep" and (rule.to is None or rule.to.spans != external):
                yield Found(
                    one.place, translation_subject(device, one),
                    f"its host leaves with {_shown(rule)} instead ({rule.name or 'a later rule'}, {rule.place})",
                    "Write it as `static` for both directions, before that rule.",
                )  # fmt: skip


def _shown(rule: Rule) -> str:
    return "the address of the interface" if rule.to is None else str(rule.to)
