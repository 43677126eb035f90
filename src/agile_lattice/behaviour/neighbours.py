"""Who is on which link: devices that share a subnet, and who takes what is sent to an address there."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property

import msgspec

from agile_lattice.behaviour.uplinks import Side
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Answer, Device

MOST_TAKERS = 50_000  # that are remembered


class Port(msgspec.Struct, frozen=True):
    """An interface with the device that it is of, and one of its own addresses."""

    device: Device
    interface: Interface
    address: Prefix


class Neighbours:
    """Devices as neighbours on their links.

    Args:
        devices: The devices by name; only enabled interfaces count.
        answers: Gives what a device answers for besides its own addresses.
    """

    def __init__(self, devices: Mapping[str, Device], answers: Callable[[str], Sequence[Answer]]) -> None:
        self.devices, self.answers = devices, answers
        self._takers: dict[tuple[str, str, Address], tuple[Side, ...]] = {}
        self._towards: dict[tuple[str, str, int], Port | None] = {}

    @cached_property
    def holders(self) -> dict[Address, list[Port]]:
        """Every interface address with those that have it."""
        held: dict[Address, list[Port]] = defaultdict(list)
        for device in self.devices.values():
            for one in device.interfaces:
                if one.enabled:
                    for own in one.addresses:
                        held[own.address].append(Port(device, one, own))
        return dict(held)

    @cached_property
    def segments(self) -> dict[tuple[str, Prefix], list[Port]]:
        """Ports by the subnet that they share, with the name of their link; host-length and loopback ones have none."""
        shared: dict[tuple[str, Prefix], list[Port]] = defaultdict(list)
        for ports in self.holders.values():
            for port in ports:
                if not port.address.is_host and not port.interface.loopback and not port.address.address.is_link_local:
                    shared[port.interface.link, port.address.network].append(port)
        return dict(shared)

    @cached_property
    def _by_device(self) -> dict[str, list[list[Port]]]:
        found: dict[str, list[list[Port]]] = defaultdict(list)
        for ports in self.segments.values():
            for name in dict.fromkeys(port.device.name for port in ports):
                found[name].append(ports)
        return found

    @cached_property
    def _by_subnet(self) -> dict[Prefix, list[Port]]:
        found: dict[Prefix, list[Port]] = defaultdict(list)
        for (_, subnet), ports in self.segments.items():
            found[subnet] += ports
        return found

    def segments_of(self, device: str) -> list[list[Port]]:
        """Return the ports on each of the segments that a device is on."""
        return self._by_device.get(device, [])

    def port_towards(self, device: str, other: str, family: int) -> Port | None:
        """Return the port by which a device shares a segment with another; None if there is none."""
        key = device, other, family
        if key not in self._towards:
            self._towards[key] = next(self._shared(device, other, family), None)
        return self._towards[key]

    def _shared(self, device: str, other: str, family: int) -> Iterator[Port]:
        for ports in self.segments_of(device):
            mine = next((port for port in ports if port.device.name == device and port.address.family == family), None)
            if mine is not None and any(port.device.name == other for port in ports):
                yield mine

    def ports_on(self, subnet: Prefix) -> list[Port]:
        """Return the ports on a subnet, whatever its link is called."""
        return self._by_subnet.get(subnet, [])

    def takers(self, device: str, name: str, target: Address) -> tuple[Side, ...]:
        """Return who takes what is sent to an address on the link of an interface.

        Args:
            device: The device.
            name: Its interface.
            target: The address that is asked for there (ARP, ND).

        Returns:
            Devices, each with its interface on that link: those that have the address, else those that answer for it.
        """
        key = device, name, target
        if key not in self._takers:
            if len(self._takers) > MOST_TAKERS:
                self._takers.clear()
            self._takers[key] = tuple(self._found_takers(*key))
        return self._takers[key]

    def _found_takers(self, device: str, name: str, target: Address) -> list[Side]:
        one = self.devices[device].interface(name)
        if one is None:
            return []
        near = dict.fromkeys((port.device.name, port.interface.name) for ports in self._on_link(device, name)
                             for port in ports)  # fmt: skip
        having = self.holders.get(target, ())
        # A link that is named on one side only is told apart from those of other names.
        here = [each for each in having if each.interface.link == one.link] or [
            each for each in having if not (each.interface.link and one.link)
        ]
        held = [(port.device.name, port.interface.name) for port in here]
        # Who is on no common subnet is reached by a route that says so; link-local addresses are the same everywhere.
        found = [each for each in held if each in near or (not target.is_link_local and each[0] != device)]
        answering = (each for each in near if self._answers_on(*each, target)) if not held else ()
        return found or list(answering)

    def _answers_on(self, device: str, name: str, target: Address) -> bool:
        return any(each.interface == name and target in each.addresses for each in self.answers(device))

    def _on_link(self, device: str, name: str) -> Iterator[list[Port]]:
        for ports in self.segments_of(device):
            if any((port.device.name, port.interface.name) == (device, name) for port in ports):
                yield ports

    def share_a_link(self, one: Side, other: Side) -> bool:
        """Tell whether two interfaces, each with its device, are on a common subnet."""
        return any(
            (port.device.name, port.interface.name) == other for ports in self._on_link(*one) for port in ports
        )  # fmt: skip
