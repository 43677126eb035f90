"""Checks of provider blocks, and of addresses that look mistyped."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.answering import external_addresses
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.packets.spans import Marked, meet, merged, minus

_BLOCK = """\
blocks: {isp: {prefix: 203.0.113.0/28, gateway: 203.0.113.1}}
"""


@check(
    "outside-block",
    "error",
    "The provider sends us what is in our block, and nothing else.",
    wrong=_BLOCK + "devices: {quay: {speaks: frr, interfaces: {wan0: {block: isp, address: 203.0.113.18/28}}}}",
    right=_BLOCK + "devices: {quay: {speaks: frr, interfaces: {wan0: {block: isp, address: 203.0.113.2/28}}}}",
)
def outside_block(design: Design) -> Iterator[Found]:
    """Find addresses of an interface that are not in the block it claims."""
    blocks = {block.name: block for block in design.network.blocks}
    for device in design.devices:
        claimed = [*own_addresses(device)]
        claimed += [(one, extra.address, extra.place) for one in device.interfaces for extra in one.extra]
        for interface, address, place in claimed:
            block = blocks.get(interface.block)
            if (
                block is not None
                and address.family == block.prefix.family
                and not block.prefix.contains(address.address)
            ):
                yield Found(
                    place, f"{device.name} {interface.name}",
                    f"{address} is not in the block {block.name}, {block.prefix} ({block.place})",
                    "Use an address of the block, or leave `block` out.",
                )  # fmt: skip


@check(
    "held-elsewhere",
    "error",
    "Two devices that use the same part of a block take each other's packets.",
    wrong="""\
blocks: {isp: {prefix: 203.0.113.0/28, held: {quay: 203.0.113.2-203.0.113.7, gate: 203.0.113.8/29}}}
devices:
  quay: {speaks: frr, interfaces: {wan0: {address: 203.0.113.2/28}},
         translations: [{to: wan0, source-becomes: {pool: 203.0.113.6-203.0.113.9}}]}
  gate: {speaks: frr}""",
    right="""\
blocks: {isp: {prefix: 203.0.113.0/28, held: {quay: 203.0.113.2-203.0.113.7, gate: 203.0.113.8/29}}}
devices:
  quay: {speaks: frr, interfaces: {wan0: {address: 203.0.113.2/28}},
         translations: [{to: wan0, source-becomes: {pool: 203.0.113.6-203.0.113.7}}]}
  gate: {speaks: frr}""",
    across=True,
)
def held_elsewhere(design: Design) -> Iterator[Found]:
    """Find addresses of a block that a device uses, and that another device holds."""
    held = Marked(
        (span, (at, block, holding))
        for block in design.network.blocks if block.prefix.family == 4
        for at, holding in enumerate(block.holdings) for span in holding.addresses.spans
    )  # fmt: skip
    for device in design.devices:
        for place, subject, spans in _used(device):
            by = {(block.name, at): (block, holding) for span in spans for at, block, holding in held.meeting(span)}
            for block, holding in by.values():
                if holding.device != device.name:
                    both = AddressSet(4, meet(spans, holding.addresses.spans))
                    yield Found(
                        place, subject, f"{both} of {block.name} is held by {holding.device} ({holding.place})",
                        "Use what this device holds, or change who holds what.",
                    )  # fmt: skip


def _used(device: Device) -> Iterator[tuple[Place, str, tuple[tuple[int, int], ...]]]:
    for interface, address, place in own_addresses(device):
        if address.family == 4:
            yield place, f"{device.name} {interface.name}", ((address.value, address.value),)
    for one in device.translations:
        spans = external_addresses([one])
        if spans:
            yield one.place, translation_subject(device, one), spans


@check(
    "upstream-does-not-know",
    "error",
    "An external address is only reached if the upstream router asks for it on the link, or has a route for it.",
    wrong="""\
blocks: {isp: {prefix: 203.0.113.0/28, delivery: on-link}}
devices:
  quay: {speaks: frr, interfaces: {wan0: {address: 198.51.100.2/30}},
         routes: [{to: default, via: 198.51.100.1}],
         translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]}""",
    right="""\
blocks: {isp: {prefix: 203.0.113.0/28, delivery: routed}}
devices:
  quay: {speaks: frr, interfaces: {wan0: {address: 198.51.100.2/30}},
         routes: [{to: default, via: 198.51.100.1}],
         translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]}""",
    across=True,
)
def upstream_does_not_know(design: Design) -> Iterator[Found]:
    """Find external addresses on no link of the device which nobody upstream sends to it."""
    for device in design.devices:
        if any(each.learns_ipv4 for each in device.interfaces):
            continue
        subnets = merged(
            (own.first, own.last) for one, own, _ in own_addresses(device) if own.family == 4 and not one.loopback
        )
        for one in device.translations:
            facing = design.sides(device, getattr(one, "facing", None) or getattr(one, "leaves", None))
            four = [own for each in facing for own in each.addresses if own.family == 4]
            if four and all(own.is_host for own in four):
                continue  # there is no subnet: whatever comes there was sent to the device
            for first, _ in minus(external_addresses([one]), subnets):
                what, remedy, unknown = _upstream(design, device, facing, Address(4, first))
                if what:
                    yield Found(one.place, translation_subject(device, one), what, remedy, unknown)
                    break


def _upstream(design: Design, device: Device, facing: list[Interface], external: Address) -> tuple[str, str, bool]:
    """Say why packets for an external address do not come, and what to do; nothing if they do."""
    block = design.block_of(external)
    if block is not None and block.delivery == "routed":
        return "", "", False
    if block is not None:
        return (
            f"the provider asks for {external} on its own link (block {block.name}), and no interface of"
            f" {device.name} is there",
            "Have the block routed to the device (`delivery: routed`), or put an interface on the link.",
            False,
        )
    names = {each.name for each in facing}
    neighbours = {
        port.device.name
        for ports in design.topology.neighbours.segments_of(device.name)
        if any(port.device.name == device.name and port.interface.name in names for port in ports)
        for port in ports
        if port.device.name != device.name
    }
    ways = [design.topology.way(name, external) for name in sorted(neighbours)]
    if any(device.name in way.devices for way in ways):
        return "", "", False
    if ways and all(way.end == "no route" for way in ways):
        return f"no neighbour has a route for {external}", f"Route it to {device.name} there.", False
    what = f"it cannot be told who sends {external} here: it is on no link of {device.name} and in no block"
    return what, "Describe the provider's block under `blocks`.", True
