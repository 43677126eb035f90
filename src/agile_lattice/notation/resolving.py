"""From shapes to the model: names become addresses, zones become interfaces."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from difflib import get_close_matches
from typing import ParamSpec, TypeVar

import msgspec

from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.model import (
    Device,
    Dynamic,
    Exempt,
    Interface,
    Network,
    Publish,
    Route,
    Services,
    Static,
    Translation,
    Zone,
)
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import Fault, NotationError, fail
from agile_lattice.notation.naming import Entry, Names
from agile_lattice.notation.shapes import (
    DeviceShape,
    IntentShape,
    InterfaceShape,
    RouteShape,
    TranslationShape,
)

P = ParamSpec("P")
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
    devices = []
    for name, (shape, place) in resolver.devices.items():
        devices += resolver.trying(resolver.device, name, shape, place)
    if resolver.faults:
        raise NotationError(resolver.faults)
    return Network(resolver.network, tuple(devices), tuple(resolver.zones.values()))


class _Resolver:
    def __init__(self) -> None:
        self.network = ""
        self.names = Names()
        self.zones: dict[str, Zone] = {}
        self.devices: dict[str, tuple[DeviceShape, Place]] = {}
        self.faults: list[Fault] = []

    def trying(self, make: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> list[T]:
        """Return what `make` makes, or nothing if it fails, so that one load reports all faults."""
        try:
            return [make(*args, **kwargs)]
        except NotationError as error:
            self.faults += error.faults
            return []

    def collect(self, source: Source) -> None:
        shape, place = source.shape, source.place
        if shape.network:
            if self.network not in ("", shape.network):
                raise fail(
                    place.at("network"), f"the network is called {self.network!r} elsewhere in this folder",
                    "Give one folder to each network.",
                )  # fmt: skip
            self.network = shape.network
        names = place.at("names")
        for name, address in shape.names.hosts.items():
            _once(self.names.hosts, name, Entry(address, names.at("hosts", name)))
        for name, words in shape.names.networks.items():
            _once(self.names.networks, name, Entry(words, names.at("networks", name)))
        for name, words in shape.names.services.items():
            _once(self.names.services, name, Entry(words, names.at("services", name)))
        for name, zone in shape.zones.items():
            _once(self.zones, name, Zone(name, zone.exposure, zone.description or "", place.at("zones", name)))
        for name, device in shape.devices.items():
            at = place.at("devices", name)
            if name in self.devices:
                raise fail(
                    at,
                    f"the device {name!r} is described twice; first in {self.devices[name][1]}",
                    "Keep one.",
                )
            self.devices[name] = (device, at)

    def device(self, name: str, shape: DeviceShape, place: Place) -> Device:
        interfaces = []
        for key, interface in shape.interfaces.items():
            interfaces += self.trying(self.interface, key, interface, place.at("interfaces", key))
        sides = _Sides(name, interfaces, self.zones)
        routes = []
        for index, route in enumerate(shape.routes):
            routes += self.trying(_route, route, sides, place.at("routes", index))
        translations = []
        for index, one in enumerate(shape.translations):
            translations += self.trying(self.translation, one, sides, place.at("translations", index))
        _named_once(translations, self.faults)
        return Device(name, tuple(shape.speaks), tuple(interfaces), tuple(routes), tuple(translations), None, place)

    def interface(self, name: str, shape: InterfaceShape, place: Place) -> Interface:
        if shape.zone and shape.zone not in self.zones:
            near = get_close_matches(shape.zone, self.zones, 1)
            raise fail(
                place.at("zone"), f"{shape.zone!r} is not a zone of this intent",
                f"Did you mean {near[0]!r}?" if near else "Define it under `zones`.",
            )  # fmt: skip
        return Interface(
            name, tuple(shape.address or shape.loopback or ()), shape.loopback is not None, shape.enabled,
            shape.mtu, shape.description or "", shape.zone or "", place,
        )  # fmt: skip

    def translation(self, shape: TranslationShape, sides: _Sides, place: Place) -> Translation:
        name = shape.name or ""
        source = self.addresses(shape.source, place.at("source"))
        services = self.services(shape.service, place.at("service"))
        if shape.publish or shape.static:
            external = shape.publish or shape.static
            internal = self.names.host(shape.on or "", place.at("on"))
            assert external is not None
            for address, key in ((external, "publish" if shape.publish else "static"), (internal, "on")):
                if address.family != 4:
                    raise fail(place.at(key), f"{address} is not IPv4", "Translations are for IPv4.")
            facing = sides.named(shape.facing, place.at("facing"))
            if shape.static:
                return Static(external, internal, name, facing, place)
            if shape.internal_port is not None and not (services and all(each.has_ports for each in services)):
                raise fail(
                    place.at("internal-port"), "`internal-port` needs a `service` with ports",
                    "Say which external port it belongs to, as in `service: tcp/8080`.",
                )  # fmt: skip
            return Publish(external, internal, name, facing, source, services, shape.internal_port, place)
        arrives = sides.named(shape.from_, place.at("from"))
        leaves = sides.named(shape.to, place.at("to"))
        destination = self.addresses(shape.destination, place.at("destination"))
        if shape.exempt:
            at = "departure" if leaves else shape.at or "both"
            return Exempt(name, arrives, leaves, source, destination, services, at, place)
        becomes = shape.source_becomes
        if becomes is None or becomes == "interface":
            return Dynamic(name, arrives, leaves, source, destination, services, None, "shared", place)
        pool = self.addresses([becomes.pool], place.at("source-becomes", "pool"))
        if pool is not None and len(pool.spans) > 1:
            raise fail(place.at("source-becomes", "pool"), "a pool is one unbroken range", "Write one rule for each.")
        return Dynamic(name, arrives, leaves, source, destination, services, pool, becomes.ports, place)

    def addresses(self, words: list[str] | None, place: Place) -> AddressSet | None:
        if words is None:
            return None
        found = self.names.addresses(words, place)
        if found.family != 4:
            raise fail(place, f"{found} is not IPv4", "Translations are for IPv4.")
        return found

    def services(self, words: list[str] | None, place: Place) -> Services | None:
        return None if words is None else self.names.services_of(words, place)


class _Sides:
    """What `from`, `to` and `facing` may name on one device: zones and interfaces."""

    def __init__(self, device: str, interfaces: Iterable[Interface], zones: Iterable[str]) -> None:
        self.device = device
        self.zones: dict[str, tuple[str, ...]] = dict.fromkeys(zones, ())
        self.interfaces = set()
        for interface in interfaces:
            self.interfaces.add(interface.name)
            if interface.zone:
                self.zones[interface.zone] += (interface.name,)

    def named(self, words: list[str] | None, place: Place) -> tuple[str, ...] | None:
        if words is None:
            return None
        found: set[str] = set()
        for word in words:
            if word in self.interfaces:
                found.add(word)
            elif self.zones.get(word):
                found.update(self.zones[word])
            elif word in self.zones:
                raise fail(
                    place, f"{self.device} has no interface in the zone {word!r}, so nothing can match",
                    f"Put an interface of {self.device} into it, or name another side.",
                )  # fmt: skip
            else:
                known = [*self.zones, *self.interfaces]
                near = get_close_matches(word, known, 1)
                raise fail(
                    place, f"{word!r} is neither a zone nor an interface of {self.device}",
                    f"Did you mean {near[0]!r}?" if near else f"Known: {', '.join(sorted(known))}.",
                )  # fmt: skip
        return tuple(sorted(found))


def _route(shape: RouteShape, sides: _Sides, place: Place) -> Route:
    if shape.interface:
        sides.named([shape.interface], place.at("interface"))
    to = shape.to
    if not isinstance(to, Prefix):
        assert shape.via is not None  # the shape asks for it
        to = Prefix(shape.via.family, 0, 0)
    discard = "blackhole" if shape.discard is True else shape.discard
    return Route(to, shape.via, shape.interface, discard, shape.distance, place)


def _named_once(translations: Iterable[Translation], faults: list[Fault]) -> None:
    seen: dict[str, Place] = {}
    for one in translations:
        if one.name and one.name in seen:
            faults.append(
                Fault(
                    one.place,
                    f"the translation {one.name!r} comes twice; first in {seen[one.name]}",
                    "Rename one.",
                )
            )
        seen.setdefault(one.name, one.place)


def _once(names: dict[str, T], name: str, entry: T) -> None:
    if name in names:
        first, second = getattr(names[name], "place", ""), getattr(entry, "place", Place())
        raise fail(second, f"{name!r} is defined twice; first in {first}", "Keep one.")
    names[name] = entry
