"""From shapes to the model: devices with their interfaces, routes and settings."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal, TypeVar

from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.connections import PORTS, Connection
from agile_lattice.intent.interfaces import Bridge, Dial, Extra, Interface
from agile_lattice.intent.model import HELPED_OVER, Block, Device, Helped, Helper, HostEntry, Settings, Zone
from agile_lattice.intent.permits import Listening
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.vocabulary import Named
from agile_lattice.notation.device_shapes import (
    AddressShape,
    BridgeShape,
    ConnectionShape,
    DeviceShape,
    ForwardingShape,
    InterfaceShape,
    ListeningShape,
    RouteShape,
    SettingsShape,
)
from agile_lattice.notation.errors import Fault, NotationError, fail
from agile_lattice.notation.naming import Names
from agile_lattice.notation.rules import Rules, named_once
from agile_lattice.notation.sides import Sides, unknown

T = TypeVar("T")


class DeviceMaker:
    """Makes devices of one network.

    Args:
        names: What names stand for.
        named: Those of one set of addresses, or of one service, for dialects that can name them.
        zones, blocks: Those of the network, by name.
        faults: Gets every fault, so that one load reports them all.
    """

    def __init__(
        self, names: Names, named: tuple[Named, ...], zones: Mapping[str, Zone], blocks: Mapping[str, Block],
        faults: list[Fault],
    ) -> None:  # fmt: skip
        self.names = names
        self.named = named
        self.zones = zones
        self.blocks = blocks
        self.faults = faults

    def trying(self, make: Callable[..., T], *args: Any) -> list[T]:
        """Return what `make` makes, or nothing if it fails."""
        try:
            return [make(*args)]
        except NotationError as error:
            self.faults += error.faults
            return []

    def device(self, name: str, shape: DeviceShape, place: Place) -> Device:
        """Make a device."""
        interfaces = self._each(self.interface, shape.interfaces.items(), place.at("interfaces"))
        faulty = shape.interfaces.keys() - {each.name for each in interfaces}
        sides = Sides(name, interfaces, self.zones, faulty)
        for interface in interfaces:
            self.trying(_check_references, interface, sides)
        rules = Rules(self.names, sides)
        translations = self._each(rules.translation, enumerate(shape.translations), place.at("translations"))
        named_once(translations, self.faults)
        permits = []
        for index, permit in enumerate(shape.permits):
            for made in self.trying(rules.permits, permit, translations, place.at("permits", index)):
                permits += made
        routes = [
            each
            for index, route in enumerate(shape.routes)
            for made in self.trying(self.routes, route, place.at("routes", index), sides)
            for each in made
        ]
        return Device(
            name,
            tuple(shape.speaks),
            tuple(interfaces),
            tuple(routes),
            tuple(translations),
            None,
            tuple(permits),
            tuple(self._each(rules.access, enumerate(shape.management), place.at("management"))),
            self.settings(shape.settings, place.at("settings")),
            tuple(self._each(self.listening, enumerate(shape.listens), place.at("listens"), rules)),
            shape.description or "",
            self.named,
            _connection(shape.connection, place.at("connection")),
            place,
        )

    def _each(self, make: Callable[..., T], members: Iterable[tuple[Any, Any]], place: Place, *more: object) -> list[T]:
        """Make every member that can be made; a mapping's key goes to an interface as its name."""
        made = []
        for key, shape in members:
            head = (key,) if isinstance(key, str) else ()
            made += self.trying(make, *head, shape, place.at(key), *more)
        return made

    def interface(self, name: str, shape: InterfaceShape, place: Place) -> Interface:
        """Make an interface."""
        if shape.zone and shape.zone not in self.zones:
            what, remedy = "not a zone of this intent", "Define it under `zones`."
            raise unknown(shape.zone, what, self.zones, place.at("zone"), remedy)
        if shape.block and shape.block not in self.blocks:
            what, remedy = "not a block of this intent", "Define it under `blocks`."
            raise unknown(shape.block, what, self.blocks, place.at("block"), remedy)
        own, extra = _parted(shape.address, place)
        answers = None
        if shape.answers is not None:
            at = place.at("answers")
            found = [self.names.addresses([word], at) for word in shape.answers]
            answers = tuple(type(one).of(*(each for each in found if each.family == one.family)) for one in found)
        return Interface(
            name,
            own if shape.loopback is None else tuple(shape.loopback),
            shape.loopback is not None,
            shape.enabled,
            shape.mtu,
            shape.description or "",
            shape.zone or "",
            tuple(sorted(set(shape.learns))),
            Dial(shape.dial.over, shape.dial.user, shape.dial.password) if shape.dial else None,
            shape.parent or "",
            shape.vlan,
            _bridge(shape.bridge),
            tuple(sorted(set(shape.tagged))),
            shape.untagged,
            shape.management,
            shape.gateway,
            tuple(shape.resolvers),
            tuple(shape.search),
            shape.instance or "",
            shape.block or "",
            shape.link or "",
            extra,
            None if answers is None else tuple(dict.fromkeys(answers)),
            place,
        )

    def routes(self, shape: RouteShape, place: Place, sides: Sides) -> list[Route]:
        """Make a route, or those to all prefixes of a network that is named."""
        if shape.interface:
            sides.interface(shape.interface, place.at("interface"))
        return [self._route(shape, to, place) for to in self._destinations(shape, place.at("to"))]

    def _destinations(self, shape: RouteShape, place: Place) -> list[Prefix]:
        if isinstance(shape.to, Prefix):
            return [shape.to]
        if shape.to == "default":
            assert shape.via is not None  # the shape asks for it
            return [Prefix(shape.via.family, 0, 0)]
        named = self.names.addresses([shape.to], place)
        if shape.via is not None and shape.via.family != named.family:
            raise fail(place, f"{shape.to} is IPv{named.family} and the next hop IPv{shape.via.family}")
        return list(named.prefixes())

    def _route(self, shape: RouteShape, to: Prefix, place: Place) -> Route:
        members: tuple[Prefix, ...] = ()
        if shape.summarises:
            stands_for = self.names.addresses(shape.summarises, place.at("summarises"))
            if stands_for.family != to.family:
                raise fail(place.at("summarises"), f"{stands_for} is not of the family of {to}")
            members = tuple(stands_for.prefixes())
        return Route(
            to, shape.via, shape.interface, "blackhole" if shape.discard is True else shape.discard, shape.distance,
            shape.metric, shape.off_link, shape.instance or "", members, shape.description or "", place,
        )  # fmt: skip

    def settings(self, shape: SettingsShape, place: Place) -> Settings:
        """Make what is set on the device as a whole."""
        forwarding = shape.forwarding
        if not isinstance(forwarding, ForwardingShape):
            forwarding = ForwardingShape(ipv4=forwarding, ipv6=forwarding)
        return Settings(
            shape.host_name or "",
            forwarding.ipv4,
            forwarding.ipv6,
            shape.reverse_path,
            tuple(shape.resolvers),
            tuple(HostEntry(name, tuple(addresses)) for name, addresses in shape.hosts.items()),
            shape.identity,
            tuple(shape.search),
            shape.lookups,
            tuple(sorted(self._each(self.helper, shape.helpers.items(), place.at("helpers")))),
            place,
        )

    def helper(self, name: Helped, services: list[str], place: Place) -> Helper:
        """Make a protocol whose connections the device looks into."""
        found = self.names.services_of(services, place)
        over = HELPED_OVER[name]
        wrong = next((each for each in found if each.protocol not in over or each.ports is None), None)
        if wrong is not None:
            remedy = f"Say to which port its control connections are made: `{name}: {over[0]}/PORT`."
            raise fail(place, f"{wrong} names no {' or '.join(map(str.upper, over))} port, as {name} needs", remedy)
        return Helper(name, found)

    def listening(self, shape: str | ListeningShape, place: Place, rules: Rules) -> Listening:
        """Make an entry of what the device itself offers."""
        if isinstance(shape, str):
            return Listening(self.names.services_of([shape], place), None, place)
        services = self.names.services_of(shape.service, place.at("service"))
        return Listening(services, rules.sides.named(shape.on, place.at("on")), place)


def _connection(shape: str | ConnectionShape | None, place: Place) -> Connection | None:
    if shape is None:
        return None
    if isinstance(shape, str):
        return Connection("local", place=place)
    if shape.namespace is not None:
        return Connection("namespace", shape.namespace, place=place)
    by: Literal["ssh", "restconf"] = "ssh" if shape.ssh is not None else "restconf"
    return Connection(
        by, str(shape.ssh or shape.restconf), shape.user or "", shape.port or PORTS[by], shape.key or "",
        shape.known_hosts or "", shape.certificate or "", shape.password_file or "", shape.password_variable or "",
        shape.sudo, place,
    )  # fmt: skip


def _parted(shapes: Iterable[Prefix | AddressShape], place: Place) -> tuple[tuple[Prefix, ...], tuple[Extra, ...]]:
    """Part an interface's own addresses from those it has for translations.

    One of these with the length of an own subnet is an address in that subnet, and not the whole of it.
    """
    shapes = list(shapes)
    own = [each if isinstance(each, Prefix) else each.address for each in shapes if not _is_extra(each)]
    subnets = {each.network for each in own}
    extra = []
    for index, shape in enumerate(shapes):
        if isinstance(shape, AddressShape) and shape.purpose != "own":
            address = shape.address
            address = Prefix.host(address.address) if address.network in subnets else address
            extra.append(Extra(address, shape.purpose, shape.description or "", place.at("address", index)))
    return tuple(own), tuple(extra)


def _is_extra(shape: Prefix | AddressShape) -> bool:
    return isinstance(shape, AddressShape) and shape.purpose != "own"


def _bridge(shape: BridgeShape | None) -> Bridge | None:
    return Bridge(tuple(sorted(set(shape.members))), tuple(sorted(set(shape.vlans)))) if shape else None


def _check_references(one: Interface, sides: Sides) -> None:
    if one.parent:
        sides.interface(one.parent, one.place.at("parent"))
    if one.dial:
        sides.interface(one.dial.over, one.place.at("dial", "over"))
    for index, member in enumerate(one.bridge.members if one.bridge else ()):
        sides.interface(member, one.place.at("bridge", "members", index))
