"""From shapes to the model: several files become one network, and every reference is settled."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

import msgspec

from agile_lattice.intent.model import Accepted, Block, Holding, Host, Network, Reservation, Zone
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


def resolve(sources: Iterable[Source]) -> Network:
    """Merge files into one network and settle every reference.

    Raises:
        NotationError: If something is said twice or refers to something that is not there.
    """
    resolver = _Resolver()
    for source in sources:
        resolver.collect(source)
    resolver.names.check()
    blocks = {name: resolver.block(name, entry.value, entry.place) for name, entry in resolver.blocks.items()}
    faults: list[Fault] = []
    maker = DeviceMaker(resolver.names, resolver.zones, blocks, faults)
    devices = []
    for name, entry in resolver.devices.items():
        devices += maker.trying(maker.device, name, entry.value, entry.place)
    if faults:
        raise NotationError(faults)
    return Network(
        resolver.network, tuple(devices), tuple(resolver.zones.values()), tuple(blocks.values()),
        tuple(resolver.hosts.values()), tuple(resolver.accepted),
    )  # fmt: skip


class _Resolver:
    def __init__(self) -> None:
        self.network = ""
        self.names = Names()
        self.hosts: dict[str, Host] = {}
        self.zones: dict[str, Zone] = {}
        self.blocks: dict[str, Entry[BlockShape]] = {}
        self.devices: dict[str, Entry[DeviceShape]] = {}
        self.accepted: list[Accepted] = []

    def collect(self, source: Source) -> None:
        shape, place = source.shape, source.place
        if shape.network:
            if self.network not in ("", shape.network):
                raise fail(
                    place.at("network"), f"the network is called {self.network!r} elsewhere in this folder",
                    "Give one folder to each network.",
                )  # fmt: skip
            self.network = shape.network
        self.collect_names(shape.names, place.at("names"))
        for name, zone in shape.zones.items():
            _once(self.zones, name, Zone(name, zone.exposure, zone.description or "", place.at("zones", name)))
        for name, block in shape.blocks.items():
            _once(self.blocks, name, Entry(block, place.at("blocks", name)))
        for name, device in shape.devices.items():
            _once(self.devices, name, Entry(device, place.at("devices", name)))
        for index, one in enumerate(shape.accepted):
            self.accepted.append(Accepted(one.finding, one.on, one.reason, place.at("accepted", index)))

    def collect_names(self, shape: NamesShape, place: Place) -> None:
        for name, written in shape.hosts.items():
            at = place.at("hosts", name)
            host = written if isinstance(written, HostShape) else HostShape(address=written)
            _once(self.names.hosts, name, Entry(host.address, at))
            self.hosts[name] = Host(name, host.address, host.gateway, host.zone or "", host.description or "", at)
        for name, group in shape.networks.items():
            _once(self.names.networks, name, _members(group, place.at("networks", name)))
        for name, group in shape.services.items():
            _once(self.names.services, name, _members(group, place.at("services", name)))

    def block(self, name: str, shape: BlockShape, place: Place) -> Block:
        holdings = []
        for device, words in shape.held.items():
            at = place.at("held", device)
            if device not in self.devices:
                raise unknown(device, "not a device of this intent", self.devices, at)
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
