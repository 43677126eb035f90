"""Sides of the network on which anybody may be, and what providers there take (RFC 2827, RFC 1918)."""

from __future__ import annotations

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Block, Device
from agile_lattice.intent.translations import Exempt


def is_public(topology: Topology, device: str, name: str) -> bool:
    """Tell whether an interface faces a public zone."""
    one = topology.devices[device].interface(name)
    return one is not None and topology.network.exposure(one.zone) == "public"


def uplinks_of(topology: Topology, address: Address) -> frozenset[tuple[str, str]]:
    """Return the public interfaces to the provider of the block that an address is of; none if that is not said."""
    found: set[tuple[str, str]] = set()
    for block in topology.network.blocks:
        if block.prefix.contains(address):
            found |= _uplinks(topology, block)
    return frozenset(found)


def _uplinks(topology: Topology, block: Block) -> set[tuple[str, str]]:
    return {
        (device.name, one.name)
        for device in topology.devices.values()
        for one in device.interfaces
        if one.enabled and is_public(topology, device.name, one.name)
        and (one.block == block.name or (block.gateway is not None and one.subnet_of(block.gateway) is not None))
    }  # fmt: skip


def across(topology: Topology, device: str, leaves: str, destination: Address) -> tuple[str, str] | None:
    """Return where a packet comes back that leaves towards the public side: by the uplink of its destination's block.

    Args:
        topology: The network.
        device: The device that it leaves.
        leaves: Its egress interface.
        destination: Its destination.

    Returns:
        The device and its interface; `None` if the packet goes to somebody else.
    """
    if not is_public(topology, device, leaves):
        return None
    uplinks = sorted(uplinks_of(topology, destination))
    if not uplinks or (device, leaves) in uplinks:
        return None
    asked = topology.takers(*uplinks[0], destination)
    return next((each for each in asked if each in uplinks), uplinks[0])


def refused_beyond(topology: Topology, device: str, leaves: str, header: Header) -> str:
    """Tell why nobody replies to a packet that leaves towards a provider; empty if somebody can.

    Args:
        topology: The network.
        device: The last device.
        leaves: Its egress interface.
        header: The packet as it leaves.
    """
    if not is_public(topology, device, leaves):
        return ""
    source, destination = header.source, header.destination
    if _is_peer(topology.devices[device], destination):
        return ""  # whatever carries these packets to it
    if Prefix.host(destination).is_private:
        return f"{destination} is private, and nobody on the public side of {leaves} has it, unless by a tunnel"
    if Prefix.host(source).is_private:
        return f"its source {source} is private, and nobody on the public side of {leaves} has a way back to it"
    uplinks = uplinks_of(topology, source)
    if uplinks and (device, leaves) not in uplinks:
        named = ", ".join(f"{each} {name}" for each, name in sorted(uplinks))
        return (
            f"its source {source} is of a block whose provider is behind {named}, and it leaves by {leaves} (RFC 2827)"
        )
    return ""


def _is_peer(device: Device, destination: Address) -> bool:
    """Tell whether packets to an address leave as they are since the intent says that they are for a peer there."""
    peers = (each.goal.peer for each in device.translations if isinstance(each, Exempt) and each.goal is not None)
    return any(peer is not None and destination in peer for peer in peers)
