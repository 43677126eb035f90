"""Checks of interface addresses."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design, enclosing, own_addresses
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, Prefix, is_stand_in
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.intent.translations import Publish, Static


@check(
    "edge-address",
    "error",
    "The first and the last address of an IPv4 subnet are the network's own and the broadcast address"
    " (RFC 1122); no host can have them. A /31 (RFC 3021) and a /32 have none.",
    wrong="interfaces: {lan0: {address: 10.40.10.0/24}}",
    right="interfaces: {lan0: {address: 10.40.10.1/24}, ptp0: {address: 10.40.99.0/31}}",
)
def edge_address(design: Design) -> Iterator[Found]:
    """Find addresses that belong to the subnet itself."""
    for device in design.devices:
        for interface, address, place in own_addresses(device):
            if address.value in address.edges:
                which = "network" if address.value == address.first else "broadcast"
                usable = f"{Address(4, address.first + 1)} to {Address(4, address.last - 1)}"
                yield Found(
                    place, f"{device.name} {interface.name}", f"{address} is the {which} address of its subnet",
                    f"Use one of {usable}.",
                )  # fmt: skip


@check(
    "same-address",
    "error",
    "Two holders of one address take each other's packets, each some of the time.",
    wrong="interfaces: {lan0: {address: 10.40.10.1/24}, lan1: {address: 10.40.10.1/32}}",
    right="interfaces: {lan0: {address: 10.40.10.1/24}, lan1: {address: 10.40.11.1/24}}",
    across=True,
)
def same_address(design: Design) -> Iterator[Found]:
    """Find an address given twice anywhere in the network, to interfaces or as external ones; link-local may repeat."""
    seen: dict[Address, tuple[str, str, Place, bool]] = {}
    for device in design.devices:
        for holder, address, place, translated in _held(device):
            if address.is_link_local:
                continue
            if address in seen:
                other, owner, where, too = seen[address]
                # On one device an own address may well be published; on two, both would answer for it.
                if owner != device.name or not (translated or too):
                    yield Found(
                        place, holder, f"{address} is also the address of {other} ({where})",
                        "Give one of the two another address.",
                    )  # fmt: skip
            seen.setdefault(address, (holder, device.name, place, translated))


def _held(device: Device) -> Iterator[tuple[str, Address, Place, bool]]:
    """Yield the single addresses of a device: who has each, where that is written, and whether it is a translation."""
    for interface, prefix, place in own_addresses(device):
        yield f"{device.name} {interface.name}", prefix.address, place, False
    for one in device.translations:
        if isinstance(one, Publish):
            for first, last in one.named:
                address = Address(one.internal.family, first)
                if first == last and not is_stand_in(address):
                    yield f"{device.name} translation {one.name}", address, one.place.at("publish"), True
        elif isinstance(one, Static) and one.external.is_host:
            yield f"{device.name} translation {one.name}", one.external.address, one.place.at("static"), True


def _subnets(design: Design, family: int) -> list[tuple[Prefix, Interface, Device, Place]]:
    return [
        (address, interface, device, place)
        for device in design.devices
        for interface, address, place in own_addresses(device)
        if address.family == family
        and not address.is_host
        and not interface.loopback
        and not address.address.is_link_local
    ]


@check(
    "subnets-overlap",
    "error",
    "If two interfaces of a device claim the same destinations, half of the hosts are looked for on the wrong side.",
    wrong="interfaces: {lan0: {address: 10.40.10.1/24}, lan1: {address: 10.40.10.129/25}}",
    right="interfaces: {lan0: {address: [10.40.10.1/24, 10.40.10.9/24]}, lan1: {address: 10.40.11.1/24}}",
)
def subnets_overlap(design: Design) -> Iterator[Found]:
    """Find overlapping subnets on different interfaces of one device."""
    for device in design.devices:
        for family in (4, 6):
            subnets = [
                (address, interface, device, place)
                for interface, address, place in own_addresses(device)
                if address.family == family and not address.is_host and not address.address.is_link_local
            ]
            for outer, inner in enclosing(subnets):
                one, other = sorted((outer, inner))
                (left, left_on, _, left_place), (right, right_on, _, place) = subnets[one], subnets[other]
                if left_on.name != right_on.name and left_on.instance == right_on.instance:
                    yield Found(
                        place, f"{device.name} {right_on.name}",
                        f"its subnet {right.network} overlaps {left.network} on {left_on.name} ({left_place})",
                        "Give the interfaces subnets that do not overlap, or bridge them.",
                    )  # fmt: skip


@check(
    "link-ends-disagree",
    "error",
    "If the two ends of a link do not have the same subnet, one takes for a neighbour what the other does not, and"
    " packets go one way only.",
    wrong="""\
devices:
  quay: {speaks: frr, interfaces: {pier0: {address: 10.40.20.1/24}}}
  gate: {speaks: frr, interfaces: {sea0: {address: 10.40.20.130/25}}}""",
    right="""\
devices:
  quay: {speaks: frr, interfaces: {pier0: {address: 10.40.20.1/24, link: causeway}}}
  gate: {speaks: frr, interfaces: {sea0: {address: 10.40.20.130/24, link: causeway}}}""",
    across=True,
)
def link_ends_disagree(design: Design) -> Iterator[Found]:
    """Find devices whose subnets overlap and are not the same, and ends of a named link in different subnets."""
    for family in (4, 6):
        subnets = _subnets(design, family)
        pairs = {tuple(sorted(pair)) for pair in enclosing(subnets)}
        by_link: dict[str, int] = {}
        for index, (_, interface, _, _) in enumerate(subnets):
            if interface.link and by_link.setdefault(interface.link, index) != index:
                pairs.add((by_link[interface.link], index))
        for one, other in sorted(pairs):
            left, left_on, left_of, left_place = subnets[one]
            right, right_on, right_of, place = subnets[other]
            if left_of is not right_of and left.network != right.network:
                yield Found(
                    place, f"{right_of.name} {right_on.name}",
                    f"{right} and {left} of {left_of.name} {left_on.name} ({left_place}) are not in one subnet",
                    f"Give both ends the same: {Prefix(family, right.value, left.length)} here, for example."
                    if left.contains(right.address) else "Give both ends addresses of one subnet.",
                )  # fmt: skip


@check(
    "first-address-host-length",
    "error",
    "The first address of an interface says which neighbours are on its link. If it is a host-length one, the gateway"
    " is not a neighbour, however right the other addresses are.",
    wrong="interfaces: {wan0: {address: [203.0.113.2/32, 203.0.113.3/28]}}",
    right="interfaces: {wan0: {address: [203.0.113.2/28, 203.0.113.3/32]}}",
)
def first_address_host_length(design: Design) -> Iterator[Found]:
    """Find interfaces whose first address is host-length while its siblings or its gateway are in a subnet."""
    for device in design.devices:
        for interface in device.interfaces:
            first = next((each for each in interface.addresses if each.family == 4), None)
            if first is None or interface.loopback or not first.is_host:
                continue
            around = interface.subnet_of(first)
            block = design.block_of(first.address)
            if around is None and block is not None and block.gateway and not interface.subnet_of(block.gateway):
                around = block.prefix
            if around is not None:
                yield Found(
                    interface.place_of(interface.addresses.index(first)), f"{device.name} {interface.name}",
                    f"its first address {first} is host-length, and lies in {around.network}",
                    f"Write {Prefix(4, first.value, around.length)}.",
                )  # fmt: skip


@check(
    "loopback-length",
    "warning",
    "A loopback address identifies the device; with a shorter prefix it claims destinations that are elsewhere.",
    wrong="interfaces: {lo: {loopback: 10.255.0.1/24}}",
    right='interfaces: {lo: {loopback: [10.255.0.1/32, "2001:db8:ffff::1/128"]}}',
)
def loopback_length(design: Design) -> Iterator[Found]:
    """Find loopback addresses that are not host-length."""
    for device in design.devices:
        for interface, address, place in own_addresses(device):
            if interface.loopback and not address.is_host:
                yield Found(
                    place, f"{device.name} {interface.name}", f"the loopback address {address} is not host-length",
                    f"Write {Prefix.host(address.address)}.",
                )  # fmt: skip


@check(
    "identity-not-loopback",
    "warning",
    "What stands for the device should stay when a cable is pulled: an address of a loopback does.",
    wrong="settings: {identity: 10.40.10.1}\ninterfaces: {lan0: {address: 10.40.10.1/24}}",
    right="settings: {identity: 10.255.0.1}\ninterfaces: {lo: {loopback: 10.255.0.1/32}}",
)
def identity_not_loopback(design: Design) -> Iterator[Found]:
    """Find identities that are no address of a loopback."""
    for device in design.devices:
        identity = device.settings.identity
        if identity is None:
            continue
        if not any(one.loopback and own.address == identity for one, own, _ in own_addresses(device)):
            yield Found(
                device.settings.place.at("identity"), device.name,
                f"its identity {identity} is not an address of a loopback of its own",
                f"Add {Prefix.host(identity)} to a loopback, or leave the identity out.",
            )  # fmt: skip


@check(
    "small-mtu",
    "error",
    "IPv6 needs 1280 octets on every link (RFC 8200 section 5); below that a system turns it off without a word.",
    wrong='interfaces: {lan0: {address: "2001:db8:40::1/64", mtu: 1200}}',
    right='interfaces: {lan0: {address: "2001:db8:40::1/64", mtu: 1280}, wan0: {address: 10.0.0.1/24, mtu: 1200}}',
)
def small_mtu(design: Design) -> Iterator[Found]:
    """Find IPv6 addresses on links too small for IPv6."""
    for device in design.devices:
        for interface in device.interfaces:
            if interface.mtu and interface.mtu < 1280 and any(each.family == 6 for each in interface.addresses):
                yield Found(
                    interface.place.at("mtu"), f"{device.name} {interface.name}",
                    f"an MTU of {interface.mtu} octets leaves no room for its IPv6 addresses",
                    "Set 1280 or more, or take the IPv6 addresses off.",
                )  # fmt: skip
