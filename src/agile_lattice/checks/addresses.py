"""Checks of interface addresses."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from agile_lattice.checks.rulebook import Found, check
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place


def own_addresses(device: Device) -> Iterator[tuple[Interface, Prefix, Place]]:
    """Yield every address of a device with its interface and its place."""
    for interface in device.interfaces:
        key = "loopback" if interface.loopback else "address"
        for index, address in enumerate(interface.addresses):
            yield interface, address, interface.place.at(key, index)


@check(
    "edge-address",
    "error",
    "The first and the last address of an IPv4 subnet are the network's own and the broadcast address"
    " (RFC 1122); no host can have them. A /31 (RFC 3021) and a /32 have none.",
    wrong="interfaces: {lan0: {address: 10.40.10.0/24}}",
    right="interfaces: {lan0: {address: 10.40.10.1/24}, ptp0: {address: 10.40.99.0/31}}",
)
def edge_address(network: Network) -> Iterator[Found]:
    """Find addresses that belong to the subnet itself."""
    for device in network.devices:
        for interface, address, place in own_addresses(device):
            if address.family == 4 and address.host_bits > 1 and address.value in (address.first, address.last):
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
)
def same_address(network: Network) -> Iterator[Found]:
    """Find an address given twice anywhere in the network; link-local ones may repeat."""
    seen: dict[Address, tuple[str, Place]] = {}
    for device in network.devices:
        for interface, prefix, place in own_addresses(device):
            address = prefix.address
            if address.is_link_local:
                continue
            holder = f"{device.name} {interface.name}"
            if address in seen:
                other, where = seen[address]
                yield Found(
                    place, holder, f"{address} is also the address of {other} ({where})",
                    "Give one of the two another address.",
                )  # fmt: skip
            seen.setdefault(address, (holder, place))


@check(
    "subnets-overlap",
    "error",
    "If two interfaces of a device claim the same destinations, half of the hosts are looked for on the wrong side.",
    wrong="interfaces: {lan0: {address: 10.40.10.1/24}, lan1: {address: 10.40.10.129/25}}",
    right="interfaces: {lan0: {address: [10.40.10.1/24, 10.40.10.9/24]}, lan1: {address: 10.40.11.1/24}}",
)
def subnets_overlap(network: Network) -> Iterator[Found]:
    """Find overlapping subnets on different interfaces of one device."""
    for device in network.devices:
        subnets = sorted(
            (
                (address.family, address.first, address.last, interface.name, address, place)
                for interface, address, place in own_addresses(device)
                if not address.is_host and not address.address.is_link_local
            ),
            key=lambda each: each[:4],
        )
        for one, other in pairwise(subnets):
            if one[0] == other[0] and other[1] <= one[2] and one[3] != other[3]:
                yield Found(
                    other[5], f"{device.name} {other[3]}",
                    f"its subnet {other[4].network} overlaps {one[4].network} on {one[3]} ({one[5]})",
                    "Give the interfaces subnets that do not overlap, or bridge them.",
                )  # fmt: skip


@check(
    "loopback-length",
    "warning",
    "A loopback address identifies the device; with a shorter prefix it claims destinations that are elsewhere.",
    wrong="interfaces: {lo: {loopback: 10.255.0.1/24}}",
    right='interfaces: {lo: {loopback: [10.255.0.1/32, "2001:db8:ffff::1/128"]}}',
)
def loopback_length(network: Network) -> Iterator[Found]:
    """Find loopback addresses that are not host-length."""
    for device in network.devices:
        for interface, address, place in own_addresses(device):
            if interface.loopback and not address.is_host:
                yield Found(
                    place, f"{device.name} {interface.name}", f"the loopback address {address} is not host-length",
                    f"Write {Prefix.host(address.address)}.",
                )  # fmt: skip


@check(
    "small-mtu",
    "error",
    "IPv6 needs 1280 octets on every link (RFC 8200 section 5); below that a system turns it off without a word.",
    wrong='interfaces: {lan0: {address: "2001:db8:40::1/64", mtu: 1200}}',
    right='interfaces: {lan0: {address: "2001:db8:40::1/64", mtu: 1280}, wan0: {address: 10.0.0.1/24, mtu: 1200}}',
)
def small_mtu(network: Network) -> Iterator[Found]:
    """Find IPv6 addresses on links too small for IPv6."""
    for device in network.devices:
        for interface in device.interfaces:
            if interface.mtu and interface.mtu < 1280 and any(each.family == 6 for each in interface.addresses):
                yield Found(
                    interface.place.at("mtu"), f"{device.name} {interface.name}",
                    f"an MTU of {interface.mtu} octets leaves no room for its IPv6 addresses",
                    "Set 1280 or more, or take the IPv6 addresses off.",
                )  # fmt: skip
