"""What checks look at: the network, and what follows from it, each worked out once."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Answer, Block, Device, Exposure, Host, Network
from agile_lattice.intent.normal import answers_for
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule, split
from agile_lattice.intent.translations import Translation


class Design:
    """A network as the rulebook sees it.

    Args:
        network: The network.
    """

    def __init__(self, network: Network) -> None:
        self.network = network
        self.devices = network.devices
        self.topology = Topology(network)
        self._exposures = {zone.name: zone.exposure for zone in network.zones}
        self._rules: dict[str, list[tuple[Translation, list[Rule]]]] = {}
        self._spaces: dict[str, Space] = {}
        self._interfaces: dict[str, dict[str, Interface]] = {}

    def rules(self, device: Device) -> list[tuple[Translation, list[Rule]]]:
        """Return the translations of a device, each with its stage rules."""
        if device.name not in self._rules:
            self._rules[device.name] = [(one, split([one])) for one in device.translations]
        return self._rules[device.name]

    def space(self, device: Device) -> Space:
        """Return the packets of a device."""
        if device.name not in self._spaces:
            self._spaces[device.name] = Space(device.interfaces)
        return self._spaces[device.name]

    def interface(self, device: Device, name: str) -> Interface | None:
        """Return an interface of a device, by name."""
        if device.name not in self._interfaces:
            self._interfaces[device.name] = {each.name: each for each in device.interfaces}
        return self._interfaces[device.name].get(name)

    def exposure(self, interface: Interface | None) -> Exposure | None:
        """Return who is in the zone that an interface faces; None if nobody said."""
        return self._exposures.get(interface.zone) if interface is not None else None

    def sides(self, device: Device, names: tuple[str, ...] | None) -> list[Interface]:
        """Return interfaces by their names; all but loopbacks for None."""
        if names is None:
            return [each for each in device.interfaces if not each.loopback]
        return [each for name in names if (each := self.interface(device, name)) is not None]

    def faces_public(self, device: Device, names: tuple[str, ...] | None) -> bool:
        """Tell whether one of these interfaces (any, for None) faces a public zone."""
        return any(self.exposure(each) == "public" for each in self.sides(device, names))

    def way_out(self, device: Device, address: Address) -> Interface | None:
        """Return the interface behind which a device looks for an address; None if it has no way there."""
        hop = self.topology.table(device.name, address.family).look_up(address.value)
        return self.interface(device, hop.interface) if hop is not None and hop.interface else None

    def answers(self, device: Device) -> list[Answer]:
        """Return what a device answers for besides its own addresses."""
        return answers_for(device.interfaces, device.translations)

    @cached_property
    def hosts_by_address(self) -> dict[Address, Host]:
        """The hosts that the intent names."""
        return {host.address.address: host for host in self.network.hosts}

    def block_of(self, address: Address) -> Block | None:
        """Return the provider's block that an address is of."""
        return next((each for each in self.network.blocks if each.prefix.contains(address)), None)


def own_addresses(device: Device) -> Iterator[tuple[Interface, Prefix, Place]]:
    """Yield every own address of a device with its interface and its place."""
    for interface in device.interfaces:
        for index, address in enumerate(interface.addresses):
            yield interface, address, interface.place_of(index)


def translation_subject(device: Device, one: Translation) -> str:
    """Name a translation in a finding."""
    return f"{device.name} translation {one.name}".rstrip()


def enclosing(subnets: list[tuple[Prefix, Interface, Device, Place]]) -> Iterator[tuple[int, int]]:
    """Yield index pairs of subnets of one family where the first lies around the second, or equals it.

    Each subnet comes once as the inner one, with the nearest around it.
    """
    order = sorted(range(len(subnets)), key=lambda k: (subnets[k][0].first, subnets[k][0].length, k))
    around: list[int] = []
    for index in order:
        while around and subnets[around[-1]][0].last < subnets[index][0].first:
            around.pop()
        if around:
            yield around[-1], index
        around.append(index)
