"""The model as plain data in the keys of the notation, defaults left out: for writing, and for comparing by field."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec.structs import replace

from agile_lattice.intent.addresses import AddressSet, spell_range, spell_span
from agile_lattice.intent.connections import PORTS, Connection
from agile_lattice.intent.interfaces import UNTAGGED, Dial, Interface
from agile_lattice.intent.model import Device, Settings
from agile_lattice.intent.normal import normal_routes
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.routes import DEFAULT_DISTANCE, Route
from agile_lattice.intent.services import Services
from agile_lattice.intent.translations import Dynamic, Exempt, Intercept, Publish, Static, Translation, Twice


class Line(dict[str, Any]):
    """A mapping that is written on one line."""


def device_data(device: Device) -> dict[str, Any]:
    """Return a device as plain data, in the keys of the notation."""
    data = {"speaks": list(device.speaks), **non_empty(description=device.description)}
    if device.connection is not None:
        data["connection"] = _connection_data(device.connection)
    if device.settings:
        data["settings"] = settings_data(device.settings)
    if device.interfaces:
        data["interfaces"] = {each.name: Line(interface_data(each)) for each in device.interfaces}
    if device.routes:
        data["routes"] = [Line(route_data(each, device)) for each in device.routes]
    if device.translations:
        data["translations"] = [Line(translation_data(each)) for each in device.translations]
    if device.permits:
        data["permits"] = [Line(permit_data(each)) for each in device.permits]
    if device.access:
        data["management"] = [Line(access_data(each)) for each in device.access]
    if device.listens:
        data["listens"] = [
            Line({"service": spell_services(each.services), **non_empty(on=_maybe_many(each.interfaces))})
            if each.interfaces else spell_services(each.services)
            for each in device.listens
        ]  # fmt: skip
    return data


def _connection_data(one: Connection) -> Any:
    if one.by == "local":
        return "local"
    more = non_empty(
        user=one.user, port=one.port if one.port != PORTS.get(one.by, one.port) else None, key=one.key,
        known_hosts=one.known_hosts, certificate=one.certificate, password_file=one.password_file,
        password_variable=one.password_variable, sudo=one.sudo or None,
    )  # fmt: skip
    return Line({one.by: one.to, **more})


def non_empty(**fields: Any) -> dict[str, Any]:
    """Return the fields that say something, by their keys: `off_link` is `off-link`, `from_` is `from`."""
    return {
        name.rstrip("_").replace("_", "-"): value
        for name, value in fields.items()
        if value not in (None, "", False, [], {})
    }


def settings_data(one: Settings) -> dict[str, Any]:
    """Return the settings of a device in the keys of the notation, defaults left out."""
    data = non_empty(host_name=one.host_name)
    if one.forwarding4 is not None and one.forwarding4 == one.forwarding6:
        data["forwarding"] = one.forwarding4
    elif one.forwarding4 is not None or one.forwarding6 is not None:
        each = {"ipv4": one.forwarding4, "ipv6": one.forwarding6}
        data["forwarding"] = Line({family: value for family, value in each.items() if value is not None})
    if one.lookups is not None:
        data["lookups"] = one.lookups
    return data | non_empty(
        reverse_path=one.reverse_path,
        resolvers=_texts(one.resolvers),
        search=_maybe_many(one.search or None),
        hosts={each.name: _texts(each.addresses) for each in one.hosts},
        helpers={each.name: spell_services(each.services) for each in one.helpers},
        identity=_text(one.identity),
    )


def interface_data(one: Interface) -> dict[str, Any]:
    """Return an interface in the keys of the notation, defaults left out."""
    data = non_empty(zone=one.zone)
    if one.addresses or one.extra or one.loopback:
        own: list[Any] = [str(each) for each in one.addresses]
        own += [
            {"address": str(each.address), "purpose": each.purpose, **non_empty(description=each.description)}
            for each in one.extra
        ]
        data["loopback" if one.loopback else "address"] = _one_or_more(own)
    if not one.enabled:
        data["enabled"] = False
    if one.mtu is not None and one.mtu != one.usual_mtu:
        data["mtu"] = one.mtu
    data |= non_empty(
        description=one.description,
        learns=_maybe_many(one.learns),
        dial=_dial_data(one.dial),
        parent=one.parent,
        vlan="untagged" if one.vlan == UNTAGGED else one.vlan,
    )
    if one.bridge:
        bridge = {"members": list(one.bridge.members), **non_empty(vlans=list(one.bridge.vlans))}
        data["bridge"] = bridge
    data |= non_empty(
        tagged=_maybe_many(one.tagged), untagged=one.untagged, management=one.management, gateway=_text(one.gateway),
        resolvers=_texts(one.resolvers), search=_maybe_many(one.search), instance=one.instance, block=one.block,
        link=one.link,
    )  # fmt: skip
    if one.answers is not None:
        data["answers"] = [each for answers in one.answers for each in spans_of(answers)]
    return data


def _dial_data(one: Dial | None) -> dict[str, Any] | None:
    if one is None:
        return None
    return {
        "over": one.over,
        "user": {one.user.kind: one.user.name},
        "password": {one.password.kind: one.password.name},
    }


def route_data(one: Route, device: Device | None = None) -> dict[str, Any]:
    """Return a route in the keys of the notation; an egress interface that `device` implies is left out."""
    data: dict[str, Any] = {"to": one.destination, **non_empty(via=_text(one.via))}
    if one.interface is not None and (one.off_link or not _implied(one, device)):
        data["interface"] = one.interface
    if one.discard is not None:
        data["discard"] = True if one.discard == "blackhole" else one.discard
    if one.distance != DEFAULT_DISTANCE:
        data["distance"] = one.distance
    if one.metric is not None:
        data["metric"] = one.metric
    return data | non_empty(
        off_link=one.off_link,
        instance=one.instance,
        summarises=_texts(one.members),
        description=one.description,
    )


def _implied(route: Route, device: Device | None) -> bool:
    if route.via is None or device is None:
        return False
    return normal_routes([replace(route, interface=None)], device.interfaces)[0].interface == route.interface


def translation_data(one: Translation) -> dict[str, Any]:
    """Return a translation in the keys of the notation, defaults left out."""
    data: dict[str, Any] = non_empty(name=one.name)
    if isinstance(one, Publish):
        data["publish"] = one.external if isinstance(one.external, str) else _maybe_addresses(one.external)
        data |= non_empty(service=_maybe_services(one.services), on=str(one.internal), internal_port=one.internal_port)
        data |= non_empty(facing=_maybe_many(one.facing), source=_maybe_addresses(one.source))
    elif isinstance(one, Static):
        data |= {"static": one.external.shortest, "on": one.internal.shortest}
        data |= non_empty(facing=_maybe_many(one.facing), direction="" if one.direction == "both" else one.direction)
    if isinstance(one, Publish | Static):
        dns = "rewritten" if one.rewrites_dns else ""
        return data | non_empty(dns_answers=dns, hairpin=_maybe_many(one.hairpin), description=one.description)
    if isinstance(one, Exempt):
        data["exempt"] = one.own or True
        if one.at != "both" and one.leaves is None and one.own is None:
            data["at"] = one.at
    if isinstance(one, Intercept):
        data["intercept"] = True
    data |= _match_data(one)
    if isinstance(one, Intercept):
        data |= non_empty(port=one.port)
    if isinstance(one, Exempt) and one.goal is not None:
        data["for"] = non_empty(peer=_maybe_addresses(one.goal.peer), service=_maybe_services(one.goal.services))
    if isinstance(one, Twice):
        data["destination-becomes"] = str(one.new_destination)
    if isinstance(one, Dynamic | Twice):
        data["source-becomes"] = _becomes(one)
    return data | non_empty(description=one.description)


def _match_data(one: Exempt | Dynamic | Twice | Intercept | Permit) -> dict[str, Any]:
    destination = AddressSet.of(one.destination) if isinstance(one, Twice) else one.destination
    return non_empty(
        from_=_maybe_many(one.arrives),
        to=None if isinstance(one, Intercept) else _maybe_many(one.leaves),
        source=_maybe_addresses(one.source),
        destination=_maybe_addresses(destination),
        service=_maybe_services(one.services),
    )


def _becomes(one: Dynamic | Twice) -> Any:
    if one.pool is None:
        return "interface"
    data = {"pool": _one_or_more([spell_range(one.pool.family, span) for span in one.pool.spans])}
    if one.ports != "shared":
        data["ports"] = one.ports
    reserved = one.reserved if isinstance(one, Dynamic) else ()
    return data | non_empty(reserve={str(each.internal): str(each.external) for each in reserved})


def permit_data(one: Permit) -> dict[str, Any]:
    """Return a permit in the keys of the notation, defaults left out."""
    return {
        **non_empty(name=one.name), **_match_data(one),
        **non_empty(deny=one.deny, log=one.log, description=one.description),
    }  # fmt: skip


def access_data(one: Access) -> dict[str, Any]:
    """Return an entry of management access in the keys of the notation, defaults left out."""
    return non_empty(
        name=one.name,
        from_=_maybe_many(one.arrives),
        source=_maybe_addresses(one.source),
        destination=_maybe_addresses(one.destination),
        service=_maybe_services(one.services),
        deny=one.deny,
        description=one.description,
    )


def _text(value: object | None) -> str:
    return "" if value is None else str(value)


def _texts(values: Iterable[object]) -> Any:
    return _maybe_many([str(each) for each in values])


def _maybe_many(values: Iterable[Any] | None) -> Any:
    return _one_or_more(list(values)) if values else None


def _maybe_addresses(addresses: AddressSet | None) -> Any:
    return None if addresses is None else _one_or_more(spans_of(addresses))


def _maybe_services(services: Services | None) -> Any:
    return None if services is None else spell_services(services)


def _one_or_more(items: list[Any]) -> Any:
    return items[0] if len(items) == 1 else items


def spans_of(addresses: AddressSet) -> list[str]:
    """Return the spans of a set as text, each in its shortest form."""
    return [spell_span(addresses.family, span) for span in addresses.spans]


def spell_services(services: Services) -> Any:
    """Return services as text, a list of them if there are several."""
    return _one_or_more(
        [each.protocol if part is None else f"{each.protocol}/{part}"
         for each in services for part in (each.words() if each.ports is not None else [None])]
    )  # fmt: skip
