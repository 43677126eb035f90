"""The check of what leaves towards public zones: exact, with an example packet."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import BITS, PRIVATE, AddressSet
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.translations import Translation
from agile_lattice.packets.boxes import Box, Undecided, overlap, remainder
from agile_lattice.packets.spans import Spans, meet, merged, minus

PRIVATE_SPACE = merged((each.first, each.last) for each in PRIVATE if each.family == 4)
# RFC 1122 and RFC 5771: no destinations of ordinary packets.
NO_DESTINATION = merged([*PRIVATE_SPACE, (0, 2**24 - 1), (127 << 24, (128 << 24) - 1), (224 << 24, 2**32 - 1)])
_ZONES = """\
zones: {sea: {exposure: public}, office: {exposure: own}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces: {wan0: {zone: sea, address: 203.0.113.2/28}, lan0: {zone: office, address: 10.40.10.1/24}}
    routes: [{to: default, via: 203.0.113.1}, {to: 10.41.0.0/16, via: 10.40.10.2}]
    translations: """


@check(
    "private-source-leaves",
    "error",
    "The public side has no way back to private addresses (RFC 1918 section 3): what leaves with one is dropped or"
    " never answered.",
    wrong=_ZONES + "[{from: office, to: sea, source: 10.40.10.0/24, source-becomes: interface}]",
    right=_ZONES + "[{from: office, to: sea, source-becomes: interface}]",
)
def private_source_leaves(design: Design) -> Iterator[Found]:
    """Find packets that leave towards a public zone with a private source, by what lets each of them."""
    for device in design.devices:
        if device.settings.forwarding4 is False:
            continue
        for out in device.interfaces:
            exposure = design.exposure(out)
            private = any(own.is_private for own in out.addresses if own.family == 4)
            if not out.enabled or out.loopback or private or exposure in ("own", "shared") or not out.zone:
                continue
            leaving = list(_leaving(design, device, out))
            if exposure is None and leaving:
                yield Found(
                    out.place.at("zone"), f"{device.name} {out.name}",
                    f"whether private sources may leave here cannot be told: nothing says who is in {out.zone}",
                    "Give the zone an `exposure`.", unknown=True,
                )  # fmt: skip
                continue
            yield from _found(design, device, out, leaving)


def _found(design: Design, device: Device, out: Interface, leaving: list[Box]) -> Iterator[Found]:
    space = design.space(device)
    found: dict[str, tuple[Box, Translation | None]] = {}
    try:
        for part, cause in _unchanged(design, device, leaving):
            key = "" if cause is None else cause.name or str(cause.place)
            if key not in found and (box := design.lets_pass(device, part)) is not None:
                found[key] = box, cause
    except Undecided:
        yield Found(
            out.place, f"{device.name} {out.name}", "whether private sources leave here was not decided",
            "Make the rules plainer: too many of them cross.", unknown=True,
        )  # fmt: skip
        return
    for name, (box, cause) in found.items():
        why = ": no translation matches them" if cause is None else ""
        yield Found(
            out.place if cause is None else cause.place,
            f"{device.name} {out.name}" + (f", exempted by {name}" if cause is not None else ""),
            f"private sources leave towards {out.zone} as they are, such as {space.example(box)}{why}",
            "Translate them on egress, or permit only the right ones.",
        )  # fmt: skip


def _leaving(design: Design, device: Device, out: Interface) -> Iterator[Box]:
    """Yield, per interface on the inside, the packets with private sources from behind it that are routed out."""
    table = design.topology.table(device.name, 4)
    starts = [*table.starts, 1 << BITS[4]]
    regions: dict[str, list[tuple[int, int]]] = {}
    for index, hop in enumerate(table.hops):
        if hop is not None and hop.interface:
            regions.setdefault(hop.interface, []).append((starts[index], starts[index + 1] - 1))
    beyond = minus(merged(regions.get(out.name, ())), NO_DESTINATION)
    for inside in device.interfaces:
        if inside.name == out.name or design.exposure(inside) == "public" or not beyond:
            continue
        behind = _behind(inside, merged(regions.get(inside.name, ())))
        if behind:
            yield design.space(device).box((inside.name,), (out.name,), AddressSet(4, behind), AddressSet(4, beyond))


def _behind(inside: Interface, region: Spans) -> Spans:
    """Return the private sources that can be behind an interface: its subnets, and what is routed there."""
    own = merged((each.value, each.value) for each in inside.addresses if each.family == 4)
    edges = merged((edge, edge) for each in inside.addresses for edge in each.edges)
    return minus(minus(meet(region, PRIVATE_SPACE), own), edges)


def _unchanged(design: Design, device: Device, leaving: list[Box]) -> Iterator[tuple[Box, Translation | None]]:
    """Yield packets whose source no departure rule rewrites, with what exempts them; None if nothing matches them."""
    space = design.space(device)
    for one, rules in design.rules(device):
        for rule in rules:
            if rule.stage != "departure":
                continue
            taker = space.of_rule(rule)
            if rule.verdict == "keep":
                for left in leaving:
                    both = overlap(left, taker)
                    if both is not None:
                        yield both, one
            leaving = remainder(leaving, [taker])
    for left in leaving:
        yield left, None
