"""What checks look at: the network, and what follows from it, each worked out once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import Any, Literal, TypeVar

from msgspec.structs import replace

from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.neighbours import Port
from agile_lattice.behaviour.shadowing import Ordered, ordered
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.intent.answering import answers_for
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Answer, Block, Device, Exposure, Host, Network
from agile_lattice.intent.permits import passages
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import Rule, split
from agile_lattice.intent.translations import Translation
from agile_lattice.notation.identity import object_key
from agile_lattice.packets.boxes import Box, overlap, remainder
from agile_lattice.packets.spans import Marked

Part = Literal["permits", "access"]
T = TypeVar("T")


class Design:
    """A network as the checks see it.

    Args:
        network: The network.
    """

    def __init__(self, network: Network) -> None:
        self.network = network
        self.devices = tuple(replace(each, translations=with_learned(each).translations) for each in network.devices)
        self.topology = Topology(network)
        self._exposures = {zone.name: zone.exposure for zone in network.zones}
        self._rules: dict[str, list[tuple[Translation, list[Rule]]]] = {}
        self._departures: dict[str, list[Rule]] = {}
        self._spaces: dict[str, Space] = {}
        self._links: dict[tuple[str, Address], list[tuple[Interface, Prefix]]] = {}
        self._deciding: dict[tuple[str, str], list[tuple[bool, list[Box]]]] = {}
        self._interfaces: dict[str, dict[str, Interface]] = {}
        self._found: dict[Callable[[Design], Any], Any] = {}

    def rules(self, device: Device) -> list[tuple[Translation, list[Rule]]]:
        """Return the translations of a device, each with its stage rules."""
        if device.name not in self._rules:
            self._rules[device.name] = [(one, split([one])) for one in device.translations]
        return self._rules[device.name]

    def departures(self, device: Device) -> list[Rule]:
        """Return the rules of a device that speak on departure, in order."""
        if device.name not in self._departures:
            rules = (rule for _, members in self.rules(device) for rule in members)
            self._departures[device.name] = [rule for rule in rules if rule.stage == "departure"]
        return self._departures[device.name]

    def once(self, find: Callable[[Design], T]) -> T:
        """Return what a function finds in this design, found once for all checks that want it."""
        if find not in self._found:
            self._found[find] = find(self)
        found: T = self._found[find]
        return found

    @cached_property
    def routes(self) -> list[tuple[Device, Route, str]]:
        """Every route with its device, and how a finding names it."""
        found = []
        for device in self.devices:
            to = Counter(route.destination for route in device.routes)
            for route in device.routes:
                way = f" by {object_key(route)}" if to[route.destination] > 1 else ""
                found.append((device, route, f"{device.name} route {route.destination}{way}"))
        return found

    def space(self, device: Device) -> Space:
        """Return the packets of a device."""
        if device.name not in self._spaces:
            self._spaces[device.name] = Space(device.interfaces)
        return self._spaces[device.name]

    @cached_property
    def lists(self) -> list[Ordered]:
        """The lists of rules of all devices, with what earlier rules do to later ones."""
        return ordered(self.devices)

    def deciding(self, device: Device, part: Part) -> list[tuple[bool, list[Box]]]:
        """Return the permits of a device, or its entries of management: whether each denies, and what it matches."""
        if (device.name, part) not in self._deciding:
            space, entries = self.space(device), device.permits if part == "permits" else device.access
            self._deciding[device.name, part] = [
                (each.deny, [space.of_rule(rule) for rule in passages([each]) if space.speaks(rule)])
                for each in entries
            ]
        return self._deciding[device.name, part]

    def lets_pass(self, device: Device, box: Box, part: Part = "permits") -> Box | None:
        """Return some of these packets that the permits, or the entries of management, let in; None if there are none.

        Raises:
            Undecided: If that takes too much work.
        """
        entries = self.deciding(device, part)
        if not entries:
            return box
        left = [box]
        for deny, boxes in entries:
            common = next((both for each in left for its in boxes if (both := overlap(each, its)) is not None), None)
            if common is None:
                continue
            if not deny:
                return common
            left = remainder(left, boxes)
        return None

    def links(self, device: Device, address: Address) -> list[tuple[Interface, Prefix]]:
        """Return the interfaces that an address is a neighbour on, each with its own address there."""
        key = device.name, address
        if key not in self._links:
            around = ((one, one.subnet_of(address)) for one in device.interfaces)
            self._links[key] = [(one, own) for one, own in around if own is not None]
        return self._links[key]

    def holder(self, device: Device, address: Address) -> Interface | None:
        """Return the interface of a device whose own address this is; None if none has it."""
        ports = self.topology.neighbours.holders.get(address, ())
        return next((port.interface for port in ports if port.device.name == device.name), None)

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
    def shut(self) -> dict[Address, Port]:
        """The addresses of interfaces that are shut."""
        ports = ((device, one) for device in self.devices for one in device.interfaces if not one.enabled)
        return {own.address: Port(device, one, own) for device, one in ports for own in one.addresses}

    @cached_property
    def hosts_by_address(self) -> dict[Address, Host]:
        """The hosts that the intent names."""
        return {host.address.address: host for host in self.network.hosts}

    def block_of(self, address: Address) -> Block | None:
        """Return the provider's block that an address is of."""
        return next(iter(self._blocks[address.family].meeting((address.value, address.value))), None)

    @cached_property
    def _blocks(self) -> dict[int, Marked[Block]]:
        marks = [((each.prefix.first, each.prefix.last), each) for each in self.network.blocks]
        return {family: Marked(each for each in marks if each[1].prefix.family == family) for family in BITS}

    def hosts_in(self, subnet: Prefix) -> list[Host]:
        """Return the hosts of a subnet that the intent names."""
        return self._hosts[subnet.family].meeting((subnet.first, subnet.last))

    @cached_property
    def _hosts(self) -> dict[int, Marked[Host]]:
        marks = [((each.address.value, each.address.value), each) for each in self.network.hosts]
        return {family: Marked(each for each in marks if each[1].address.family == family) for family in BITS}


def own_addresses(device: Device) -> Iterator[tuple[Interface, Prefix, Place]]:
    """Yield every own address of a device with its interface and its place."""
    for interface in device.interfaces:
        for index, address in enumerate(interface.addresses):
            yield interface, address, interface.place_of(index)


def translation_subject(device: Device, one: Translation) -> str:
    """Name a translation in a finding."""
    return f"{device.name} translation {object_key(one)}"


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
