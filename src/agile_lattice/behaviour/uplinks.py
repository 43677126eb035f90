"""Sides of the network on which anybody may be, and what providers there take (RFC 2827, RFC 1918)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from agile_lattice.behaviour.flows import Header
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Block, Device, Network
from agile_lattice.intent.translations import Exempt
from agile_lattice.packets.spans import Marked

Side = tuple[str, str]  # a device and its interface


class Uplinks:
    """The public sides of a network, and the blocks behind them.

    Args:
        network: The network.
        devices: Its devices, by name, with what they learn.
    """

    def __init__(self, network: Network, devices: Mapping[str, Device]) -> None:
        public = {zone.name for zone in network.zones if zone.exposure == "public"}
        self._devices = devices
        self._sides = {
            (device.name, one.name): one
            for device in devices.values()
            for one in device.interfaces
            if one.enabled and one.zone in public
        }
        behind = [(each.prefix, frozenset(self._behind(each))) for each in network.blocks]
        self._blocks = {
            family: Marked(((each.first, each.last), sides) for each, sides in behind if each.family == family)
            for family in (4, 6)
        }
        self._with_block = {(*side, each.family) for each, sides in behind for side in sides}

    def _behind(self, block: Block) -> Iterator[Side]:
        for side, one in self._sides.items():
            if one.block == block.name or (block.gateway is not None and one.subnet_of(block.gateway) is not None):
                yield side

    def is_public(self, device: str, name: str) -> bool:
        """Tell whether an interface faces a public zone."""
        return (device, name) in self._sides

    def of(self, address: Address) -> frozenset[Side]:
        """Return the public interfaces to the provider of the block that an address is of; none if that is not said."""
        found = self._blocks[address.family].meeting((address.value, address.value))
        return frozenset[Side]().union(*found)

    def refused(self, device: str, leaves: str, header: Header) -> tuple[str, bool] | None:
        """Tell why nobody replies to a packet that leaves towards a provider; `None` if somebody can.

        Args:
            device: The last device.
            leaves: Its egress interface.
            header: The packet as it leaves.

        Returns:
            Why, and whether that is known: there may be a tunnel to private addresses that nobody described.
        """
        source, destination = header.source, header.destination
        if not self.is_public(device, leaves) or _is_peer(self._devices[device], destination):
            return None
        if Prefix.host(destination).is_private:
            return (
                f"{destination} is private, and nobody on the public side of {leaves} has it, unless by a tunnel",
                False,
            )
        if Prefix.host(source).is_private:
            return (
                f"its source {source} is private, and nobody on the public side of {leaves} has a way back to it",
                True,
            )
        uplinks = self.of(source)
        if (device, leaves) in uplinks or self._sides[device, leaves].subnet_of(source) is not None:
            return None
        if uplinks:
            named = ", ".join(f"{each} {name}" for each, name in sorted(uplinks))
            why = f"is of a block whose provider is behind {named}, and it leaves by {leaves} (RFC 2827)"
            return f"its source {source} {why}", True
        if (device, leaves, source.family) in self._with_block:
            return f"its source {source} is of no block of the provider behind {leaves} (RFC 2827)", True
        return None


def _is_peer(device: Device, destination: Address) -> bool:
    """Tell whether packets to an address leave as they are since the intent says that they are for a peer there."""
    peers = (each.goal.peer for each in device.translations if isinstance(each, Exempt) and each.goal is not None)
    return any(peer is not None and destination in peer for peer in peers)
