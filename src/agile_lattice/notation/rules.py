"""From shapes to the model: translations, permits and management access of a device."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from typing import cast

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.permits import Access, Permit, derived_permits
from agile_lattice.intent.places import Place
from agile_lattice.intent.services import Services
from agile_lattice.intent.translations import (
    Dynamic,
    Exempt,
    Goal,
    Intercept,
    Own,
    Publish,
    Reserved,
    Static,
    Translation,
    Twice,
)
from agile_lattice.notation.device_shapes import AccessShape, PermitShape
from agile_lattice.notation.errors import Fault, fail
from agile_lattice.notation.naming import Names
from agile_lattice.notation.sides import Sides
from agile_lattice.notation.translation_shapes import PoolShape, TranslationShape


class Match(msgspec.Struct, frozen=True):
    """What the keys `from`, `to`, `source`, `destination` and `service` come to."""

    arrives: tuple[str, ...] | None
    leaves: tuple[str, ...] | None
    source: AddressSet | None
    destination: AddressSet | None
    services: Services | None


class Rules:
    """Makes the rules of one device.

    Args:
        names: What names stand for.
        sides: Its zones and interfaces.
    """

    def __init__(self, names: Names, sides: Sides) -> None:
        self.names = names
        self.sides = sides

    def translation(self, shape: TranslationShape, place: Place) -> Translation:
        """Make a translation.

        Raises:
            NotationError: If a name leads nowhere, or the parts do not go together.
        """
        if shape.publish:
            return self._publish(shape, shape.publish, place)
        if shape.static:
            return self._static(shape, place)
        match = self.match(shape, place, only=4)
        name, description = shape.name or "", shape.description or ""
        if shape.intercept:
            _with_ports(shape.port, match.services, place.at("port"), "port")
            return Intercept(
                name, match.arrives, match.source, match.destination, match.services, shape.port, description,
                place=place,
            )  # fmt: skip
        if shape.exempt:
            own = shape.exempt if isinstance(shape.exempt, str) else None
            if own is not None and (shape.to or shape.destination or shape.at):
                raise fail(
                    place.at("exempt"), f"`exempt: {own}` says for which destinations, and that it is on arrival",
                    "Leave out `to`, `destination` and `at`.",
                )  # fmt: skip
            at = "arrival" if own else "departure" if match.leaves else shape.at or "both"
            return Exempt(
                name, match.arrives, match.leaves, match.source, match.destination, match.services, at, own,
                self._goal(shape, place.at("for")), description, place,
            )  # fmt: skip
        becomes = shape.source_becomes if isinstance(shape.source_becomes, PoolShape) else None
        pool = self._pool(becomes, place.at("source-becomes"))
        ports = becomes.ports if becomes else "shared"
        if shape.destination_becomes:
            if becomes and becomes.reserve:
                raise fail(
                    place.at("source-becomes", "reserve"), "`reserve` has no place beside `destination-becomes`",
                    "Write a rule with `source` and a single `source-becomes` for each host, before this one.",
                )  # fmt: skip
            if match.destination is None or match.destination.single is None:
                raise fail(place.at("destination"), "a destination that becomes another is a single address")
            host = _ipv4(
                self.names.host(shape.destination_becomes, place.at("destination-becomes")),
                place.at("destination-becomes"),
            )
            return Twice(
                match.destination.single, host, name, match.arrives, match.leaves, match.source, match.services,
                pool, ports, description, place,
            )  # fmt: skip
        reserved = self._reserved(becomes, pool, place.at("source-becomes", "reserve"))
        return Dynamic(
            name, match.arrives, match.leaves, match.source, match.destination, match.services, pool, ports,
            reserved, description, place,
        )  # fmt: skip

    def _publish(self, shape: TranslationShape, external: list[str], place: Place) -> Publish:
        internal = _ipv4(self.names.host(shape.on or "", place.at("on")), place.at("on"))
        services = self.services(shape.service, place.at("service"))
        _with_ports(shape.internal_port, services, place.at("internal-port"), "internal-port")
        return Publish(
            self._external(external, place.at("publish")), internal, shape.name or "",
            self.sides.named(shape.facing, place.at("facing")),
            self.addresses(shape.source, place.at("source"), only=4), services, shape.internal_port,
            shape.dns_answers == "rewritten", self.sides.named(shape.hairpin, place.at("hairpin")) or (),
            shape.description or "", place,
        )  # fmt: skip

    def _external(self, words: list[str], place: Place) -> AddressSet | Own:
        own = [each for each in ("interface", "device") if words == [each]]
        if own:
            return cast("Own", own[0])
        found = self.addresses(words, place, only=4)
        assert found is not None  # there are words
        return found

    def _static(self, shape: TranslationShape, place: Place) -> Static:
        external, internal = shape.static, self.names.end(shape.on or "", place.at("on"))
        assert external is not None  # that is what makes it static
        if external.family != internal.family:
            raise fail(
                place.at("on"), f"{external.shortest} and {internal.shortest} are of two families",
                "A translation keeps the family: IPv4 for IPv4 (RFC 3022), IPv6 for IPv6 (RFC 6296).",
            )  # fmt: skip
        for end, key in ((external, "static"), (internal, "on")):
            if end.value != end.first:
                raise fail(place.at(key), f"{end} has host bits set", f"The network is {end.network}.")
        if external.length != internal.length:
            raise fail(
                place.at("on"), f"{external.shortest} and {internal.shortest} are not of one size",
                "A one-to-one translation needs as many internal addresses as external ones.",
            )  # fmt: skip
        return Static(
            external, internal, shape.name or "", self.sides.named(shape.facing, place.at("facing")),
            shape.direction or "both", shape.dns_answers == "rewritten",
            self.sides.named(shape.hairpin, place.at("hairpin")) or (), shape.description or "", place,
        )  # fmt: skip

    def _goal(self, shape: TranslationShape, place: Place) -> Goal | None:
        if shape.for_ is None:
            return None
        return Goal(
            self.addresses(shape.for_.peer, place.at("peer")), self.services(shape.for_.service, place.at("service"))
        )

    def _pool(self, shape: PoolShape | None, place: Place) -> AddressSet | None:
        if shape is None:
            return None
        for word in shape.pool:
            with contextlib.suppress(ValueError):
                end = Prefix.parse(word)
                if end.value != end.first:
                    raise fail(
                        place.at("pool"), f"{word} is an address with a mask, not a pool",
                        f"Write the addresses of the pool, such as {Address(end.family, end.value)}-"
                        f"{Address(end.family, end.last - 1)}; all of the network is {end.network}.",
                    )  # fmt: skip
        return self.addresses(shape.pool, place.at("pool"), only=4)

    def _reserved(self, shape: PoolShape | None, pool: AddressSet | None, place: Place) -> tuple[Reserved, ...]:
        if shape is None or pool is None:
            return ()
        found = []
        for host, external in shape.reserve.items():
            if external not in pool:
                raise fail(place.at(host), f"{external} is not in the pool {pool}", "Reserve an address of the pool.")
            found.append(Reserved(self.names.host(host, place.at(host)), external))
        return tuple(found)

    def permits(self, shape: PermitShape, translations: Sequence[Translation], place: Place) -> list[Permit]:
        """Make a permit, or all that translations need where the shape asks for that."""
        if shape.derive:
            return derived_permits(translations, shape.log)
        match = self.match(shape, place)
        return [
            Permit(
                shape.name or "", match.arrives, match.leaves, match.source, match.destination, match.services,
                bool(shape.deny), shape.log, "", shape.description or "", place,
            )
        ]  # fmt: skip

    def access(self, shape: AccessShape, place: Place) -> Access:
        """Make an entry of who may manage the device; its list of sources may be one that is still to be filled."""
        source = (
            None if shape.source is None else self.names.addresses(shape.source, place.at("source"), may_be_empty=True)
        )
        services = self.services(shape.service, place.at("service"))
        arrives = self.sides.named(shape.from_, place.at("from"))
        destination = self.addresses(shape.destination, place.at("destination"))
        return Access(
            services, shape.name or "", arrives, source, destination, bool(shape.deny), shape.description or "", place
        )

    def match(self, shape: TranslationShape | PermitShape, place: Place, only: int | None = None) -> Match:
        """Settle what a rule matches.

        Args:
            shape: The rule.
            place: Where it stands.
            only: The one address family that it may speak of.
        """
        return Match(
            self.sides.named(shape.from_, place.at("from")),
            self.sides.named(shape.to, place.at("to")),
            self.addresses(shape.source, place.at("source"), only),
            self.addresses(shape.destination, place.at("destination"), only),
            self.services(shape.service, place.at("service")),
        )

    def addresses(self, words: list[str] | None, place: Place, only: int | None = None) -> AddressSet | None:
        """Return the addresses that words name; None for no words."""
        if words is None:
            return None
        found = self.names.addresses(words, place)
        if only == 4 and found.family != 4:
            raise fail(place, f"{found} is not IPv4", "Translations are for IPv4.")
        return found

    def services(self, words: list[str] | None, place: Place) -> Services | None:
        """Return the services that words name; None for no words."""
        return None if words is None else self.names.services_of(words, place)


def _with_ports(port: int | None, services: Services | None, place: Place, key: str) -> None:
    """Hold that a port which packets are sent on to stands beside those that they come to."""
    if port is not None and not (services and all(each.has_ports for each in services)):
        raise fail(
            place, f"`{key}` needs a `service` with ports",
            "Say which port it belongs to, as in `service: tcp/8080`.",
        )  # fmt: skip


def _ipv4(address: Address, place: Place) -> Address:
    if address.family != 4:
        raise fail(place, f"{address} is not IPv4", "Translations are for IPv4.")
    return address


def named_once(translations: Iterable[Translation], faults: list[Fault]) -> None:
    """Report translations of one name."""
    seen: dict[str, Place] = {}
    for one in translations:
        if one.name and one.name in seen:
            what = f"duplicate translation name {one.name!r}; first in {seen[one.name]}"
            faults.append(Fault(one.place, what, "Rename one."))
        seen.setdefault(one.name, one.place)
