"""From shapes to the model: several files become one network, and every reference is settled."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TypeVar

import msgspec

from agile_lattice.intent.model import Accepted, Block, Device, Holding, Host, Network, Reservation, Zone
from agile_lattice.intent.places import Place
from agile_lattice.notation.device_shapes import DeviceShape
from agile_lattice.notation.devices import DeviceMaker
from agile_lattice.notation.errors import Fault, NotationError, fail
from agile_lattice.notation.naming import Entry, Names
from agile_lattice.notation.shapes import BlockShape, GroupShape, HostShape, IntentShape, NamesShape
from agile_lattice.notation.sides import unknown

T = TypeVar("T")


class Source(msgspec.Struct, frozen=True):
    """One file: its content in shape, and the places of everything in it."""

    shape: IntentShape
    place: Place


def resolve(sources: Sequence[Source]) -> Network:
    """Merge files into one network and settle every reference.

    Raises:
        NotationError: If something is said twice or refers to something that is not there.
    """
    common = Common(sources)
    entries = device_entries(sources)
    common.check_holders(entries)
    return common.network_of(common.devices_of(entries))


def device_entries(sources: Iterable[Source]) -> dict[str, Entry[DeviceShape]]:
    """Return the devices that files describe, as they are written.

    Raises:
        NotationError: If one is described twice.
    """
    found: dict[str, Entry[DeviceShape]] = {}
    for source in sources:
        for name, device in source.shape.devices.items():
            _once(found, name, Entry(device, source.place.at("devices", name)))
    return found


class Common:
    """What the files of an intent say for all devices: names, zones, blocks, and what is accepted.

    Args:
        sources: The files; what they say of single devices is not looked at.

    Raises:
        NotationError: If something of it is said twice or refers to something that is not there.
    """

    def __init__(self, sources: Iterable[Source]) -> None:
        self.network = ""
        self.names = Names()
        self.hosts: dict[str, Host] = {}
        self.zones: dict[str, Zone] = {}
        self.accepted: list[Accepted] = []
        blocks: dict[str, Entry[BlockShape]] = {}
        for source in sources:
            self._collect(source, blocks)
        self.names.check()
        self.named = self.names.named()
        self.blocks = {name: self._block(name, entry.value, entry.place) for name, entry in blocks.items()}

    def check_holders(self, devices: Collection[str]) -> None:
        """Make sure that blocks are held by devices that there are.

        Raises:
            NotationError: If one is not.
        """
        for block in self.blocks.values():
            for each in block.holdings:
                if each.device not in devices:
                    raise unknown(each.device, "not a device of this intent", devices, each.place)

    def devices_of(self, entries: Mapping[str, Entry[DeviceShape]]) -> tuple[Device, ...]:
        """Make devices.

        Raises:
            NotationError: With all that is wrong in any of them.
        """
        faults: list[Fault] = []
        maker = DeviceMaker(self.names, self.named, self.zones, self.blocks, faults)
        made = (maker.trying(maker.device, name, each.value, each.place) for name, each in entries.items())
        devices = [device for some in made for device in some]
        if faults:
            raise NotationError(faults)
        return tuple(devices)

    def network_of(self, devices: tuple[Device, ...]) -> Network:
        """Return the network that devices make up."""
        return Network(
            self.network, devices, tuple(self.zones.values()), tuple(self.blocks.values()),
            tuple(self.hosts.values()), tuple(self.accepted),
        )  # fmt: skip

    def _collect(self, source: Source, blocks: dict[str, Entry[BlockShape]]) -> None:
        shape, place = source.shape, source.place
        if shape.network:
            if self.network not in ("", shape.network):
                raise fail(
                    place.at("network"), f"the network is called {self.network!r} elsewhere in this folder",
                    "Give one folder to each network.",
                )  # fmt: skip
            self.network = shape.network
        self._collect_names(shape.names, place.at("names"))
        for name, zone in shape.zones.items():
            _once(self.zones, name, Zone(name, zone.exposure, zone.description or "", place.at("zones", name)))
        for name, block in shape.blocks.items():
            _once(blocks, name, Entry(block, place.at("blocks", name)))
        for index, one in enumerate(shape.accepted):
            self.accepted.append(Accepted(one.finding, one.on, one.reason, place.at("accepted", index)))

    def _collect_names(self, shape: NamesShape, place: Place) -> None:
        for name, written in shape.hosts.items():
            at = place.at("hosts", name)
            host = written if isinstance(written, HostShape) else HostShape(address=written)
            _once(self.names.hosts, name, Entry(host.address, at))
            self.hosts[name] = Host(name, host.address, host.gateway, host.zone or "", host.description or "", at)
        for name, group in shape.networks.items():
            _once(self.names.networks, name, _members(group, place.at("networks", name)))
        for name, group in shape.services.items():
            _once(self.names.services, name, _members(group, place.at("services", name)))

    def _block(self, name: str, shape: BlockShape, place: Place) -> Block:
        holdings = []
        for device, words in shape.held.items():
            at = place.at("held", device)
            holdings.append(Holding(device, self.names.addresses(words, at), at))
        reservations = []
        for words_, what in shape.reserved.items():
            at = place.at("reserved", words_)
            reservations.append(Reservation(self.names.addresses([words_], at), what, at))
        parts: list[Holding | Reservation] = [*holdings, *reservations]
        for addresses, at in [(each.addresses, each.place) for each in parts]:
            if not all(shape.prefix.contains(prefix) for prefix in addresses.prefixes()):
                raise fail(at, f"{addresses} is not all in {shape.prefix}", "Name addresses of the block.")
        return Block(
            name, shape.prefix, shape.gateway, shape.delivery, tuple(holdings), tuple(reservations),
            shape.description or "", place,
        )  # fmt: skip


def _members(group: list[str] | GroupShape, place: Place) -> Entry[list[str]]:
    return Entry(group.members, place.at("members")) if isinstance(group, GroupShape) else Entry(group, place)


def _once(names: dict[str, T], name: str, entry: T) -> None:
    if name in names:
        first, second = getattr(names[name], "place", ""), getattr(entry, "place", Place())
        raise fail(second, f"{name!r} is defined twice; first in {first}", "Keep one.")
    names[name] = entry
