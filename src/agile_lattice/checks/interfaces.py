"""Checks of how interfaces are built: VLANs, bridges, learned addresses, gateways."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, Prefix, is_stand_in
from agile_lattice.intent.interfaces import UNTAGGED, Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.intent.translations import Dynamic, Publish, Static, Translation, Twice


@check(
    "exposure-unsaid",
    "warning",
    "Who is in a zone decides what may be shown there; its name must not.",
    wrong="zones: {sea: {}}\ndevices: {quay: {speaks: frr}}",
    right="zones: {sea: {exposure: public}}\ndevices: {quay: {speaks: frr}}",
    across=True,
)
def exposure_unsaid(design: Design) -> Iterator[Found]:
    """Find zones of which nobody says who is there."""
    for zone in design.network.zones:
        if zone.exposure is None:
            yield Found(
                zone.place, f"zone {zone.name}", "nothing says who is there",
                "Write `exposure: own`, `shared` (partners or guests) or `public`.",
            )  # fmt: skip


@check(
    "vlan-unsaid",
    "error",
    "A part of an interface without a VLAN id takes packets from nowhere, or the untagged ones of its parent.",
    wrong="interfaces: {lan0: {}, lan0.20: {parent: lan0, address: 10.40.20.1/24}}",
    right="interfaces: {lan0: {}, lan0.20: {parent: lan0, vlan: 20, address: 10.40.20.1/24}}",
)
def vlan_unsaid(design: Design) -> Iterator[Found]:
    """Find subinterfaces without a VLAN, said to be one or only called like one."""
    for device in design.devices:
        for one in device.interfaces:
            parent, dot, number = one.name.rpartition(".")
            called = dot and number.isdigit() and design.interface(device, parent) is not None and not one.parent
            if (one.parent and one.vlan is None) or called:
                yield Found(
                    one.place, f"{device.name} {one.name}",
                    f"it is a part of {one.parent or parent}, and no VLAN is said",
                    f"Write `parent: {one.parent or parent}, vlan: {number if number.isdigit() else 'NUMBER'}`,"
                    " or `vlan: untagged`.",
                )  # fmt: skip


@check(
    "vlan-twice",
    "error",
    "One VLAN of one parent goes to one interface; which of two it is, differs between systems.",
    wrong="interfaces: {lan0: {}, a: {parent: lan0, vlan: 20}, b: {parent: lan0, vlan: 20}}",
    right="interfaces: {lan0: {}, a: {parent: lan0, vlan: 20}, b: {parent: lan0, vlan: 30}}",
)
def vlan_twice(design: Design) -> Iterator[Found]:
    """Find a VLAN that two interfaces take from one parent."""
    for device in design.devices:
        seen: dict[tuple[str, int], Interface] = {}
        for one in device.interfaces:
            if not one.parent or one.vlan is None:
                continue
            other = seen.setdefault((one.parent, one.vlan), one)
            if other is not one:
                which = "the untagged unit" if one.vlan == UNTAGGED else f"VLAN {one.vlan}"
                yield Found(
                    one.place.at("vlan"), f"{device.name} {one.name}",
                    f"{which} of {one.parent} is {other.name}'s already ({other.place})",
                    "Give one of them another VLAN, or put both addresses on one interface.",
                )  # fmt: skip


@check(
    "bridge-not-in-vlan",
    "error",
    "A bridge routes a VLAN only if it is a member of it itself, as its ports are.",
    wrong="""\
interfaces:
  port1: {tagged: [20, 30]}
  br0: {bridge: {members: port1, vlans: 30}}
  br0.20: {parent: br0, vlan: 20, address: 10.40.20.1/24}""",
    right="""\
interfaces:
  port1: {tagged: [20, 30]}
  br0: {bridge: {members: port1, vlans: [20, 30]}}
  br0.20: {parent: br0, vlan: 20, address: 10.40.20.1/24}""",
)
def bridge_not_in_vlan(design: Design) -> Iterator[Found]:
    """Find VLANs that are taken from a bridge which is not a member of them."""
    for device in design.devices:
        for one in device.interfaces:
            parent = design.interface(device, one.parent) if one.parent else None
            if parent is None or parent.bridge is None or not one.vlan or one.vlan in parent.bridge.vlans:
                continue
            yield Found(
                one.place.at("vlan"), f"{device.name} {one.name}",
                f"the bridge {parent.name} is not itself a member of VLAN {one.vlan} ({parent.place})",
                f"Add {one.vlan} to `vlans` of {parent.name}.",
            )  # fmt: skip


@check(
    "gateway-not-there",
    "error",
    "A host reaches its gateway on its own link or not at all; without one it talks to its own subnet only.",
    wrong="interfaces: {mgmt0: {management: true, address: 10.40.99.2/24, gateway: 10.40.98.1}}",
    right="interfaces: {mgmt0: {management: true, address: 10.40.99.2/24, gateway: 10.40.99.1}}",
    across=True,
)
def gateway_not_there(design: Design) -> Iterator[Found]:
    """Find hosts and management interfaces whose gateway is missing, off their subnet, or no router's address."""
    for device in design.devices:
        for one in device.interfaces:
            family = 4 if one.gateway is None else one.gateway.family
            subnet = next((each for each in one.addresses if each.family == family), None)
            if subnet is not None and (one.management or one.gateway is not None):
                what, remedy = _gateway(design, subnet, one.gateway, device)
                if what:
                    yield Found(one.place.at("gateway"), f"{device.name} {one.name}", what, remedy)
    for host in design.network.hosts:
        if not host.address.is_host or host.gateway is not None:
            what, remedy = _gateway(design, host.address, host.gateway, None)
            if what:
                yield Found(host.place.at("gateway"), f"host {host.name}", what, remedy)


def _gateway(design: Design, address: Prefix, gateway: Address | None, holder: Device | None) -> tuple[str, str]:
    """Say what is wrong with a gateway, and what to do; nothing if nothing is."""
    segment = [
        port for port in design.topology.neighbours.ports_on(address.network)
        if holder is None or port.device.name != holder.name
    ]  # fmt: skip
    shut = design.shut.get(gateway) if gateway is not None else None
    if shut is not None:
        return (
            f"its gateway {gateway} is on {shut.device.name} {shut.interface.name}, which is down",
            "Enable the interface.",
        )
    routers = ", ".join(f"{port.address.address} ({port.device.name})" for port in segment)
    remedy = f"On {address.network} there is {routers}." if routers else "Name the router of its subnet."
    if gateway is None:
        return f"it has no gateway, so {address.address} reaches {address.network} only", remedy
    if not address.is_host and not address.contains(gateway):
        return f"its gateway {gateway} is not in its subnet {address.network}", remedy
    held = [port.address for port in design.topology.neighbours.holders.get(gateway, ())]
    if held and not address.is_host and address.length not in {each.length for each in held}:
        return (
            f"its subnet is {address.network}, and for its gateway {gateway} it is {held[0].network}",
            "Give both the same mask.",
        )
    if segment and all(port.address.address != gateway for port in segment):
        return f"its gateway {gateway} is no device's address on {address.network}", remedy
    return "", ""


@check(
    "learned-and-static",
    "error",
    "What is learned comes and goes beside what is fixed; which of them a connection uses is left to chance.",
    wrong="interfaces: {wan0: {learns: dhcp, address: 203.0.113.2/28}}",
    right='interfaces: {wan0: {learns: dhcp, address: "2001:db8::2/64"}}',
)
def learned_and_static(design: Design) -> Iterator[Found]:
    """Find interfaces that learn an address of a family in which they have a fixed one."""
    for device in design.devices:
        for interface, address, place in own_addresses(device):
            how = "dhcp" if address.family == 4 else "dhcp6"
            if how in interface.learns:
                yield Found(
                    place, f"{device.name} {interface.name}",
                    f"it has the fixed address {address} and learns another ({how})",
                    "Keep one of the two.",
                )  # fmt: skip


@check(
    "fixed-on-learned",
    "error",
    "An interface that learns its address cannot promise one: the provider sends a fixed external address elsewhere.",
    wrong="""\
interfaces: {wan0: {learns: dhcp}, lan0: {address: 10.40.10.1/24}}
translations: [{publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0}]""",
    right="""\
interfaces: {wan0: {learns: dhcp}, lan0: {address: 10.40.10.1/24}}
translations: [{to: wan0, source-becomes: interface}]""",
)
def fixed_on_learned(design: Design) -> Iterator[Found]:
    """Find translations that name an external address and face only interfaces whose address is learned."""
    for device in design.devices:
        for one in device.translations:
            external, names, place = _external_end(one)
            sides = design.sides(device, names) if names else []
            if external is None or not sides or not all(each.learns_ipv4 for each in sides):
                continue
            block = design.block_of(external)
            if block is None or block.delivery != "routed":
                yield Found(
                    place, translation_subject(device, one),
                    f"it names {external}, and {sides[0].name} learns its address",
                    "Write `source-becomes: interface`, or have the provider route a block to the device.",
                )  # fmt: skip


def _external_end(one: Translation) -> tuple[Address | None, tuple[str, ...] | None, Place]:
    """Return an external address that a translation names, the interfaces that it faces, and where it is written."""
    if isinstance(one, Publish):
        known = [each for first, _ in one.named if not is_stand_in(each := Address(one.internal.family, first))]
        return next(iter(known), None), one.facing, one.place.at("publish")
    if isinstance(one, Static):
        return one.external.address, one.facing, one.place.at("static")
    if not isinstance(one, Dynamic | Twice) or one.pool is None:
        return None, None, one.place
    return Address(4, one.pool.spans[0][0]), one.leaves, one.place.at("source-becomes", "pool")
