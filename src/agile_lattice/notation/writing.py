"""The model in the words of the notation: as YAML text, and field by field for comparing."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import yaml
from msgspec.structs import replace

from agile_lattice.intent.addresses import AddressSet, spell_range, spell_span
from agile_lattice.intent.model import (
    Device,
    Dynamic,
    Exempt,
    Interface,
    Publish,
    Route,
    Services,
    Static,
    Translation,
)
from agile_lattice.intent.normal import normal_routes

WIDTH = 150


def write(devices: Iterable[Device], network: str = "") -> str:
    """Return an intent file with these devices, which `load` reads back as the same."""
    data: dict[str, Any] = {"lattice": 1}
    if network:
        data["network"] = network
    data["devices"] = {device.name: device_data(device) for device in devices}
    return yaml.dump(data, Dumper=_Dumper, sort_keys=False, width=WIDTH, allow_unicode=True)


class _Dumper(yaml.SafeDumper):
    """Writes the notation as people do: an interface, a route or a translation on one line."""

    # YAML 1.2 knows no booleans but true and false: `on` needs no quotes.
    yaml_implicit_resolvers = {  # noqa: RUF012 - PyYAML reads it from the class
        first: [(tag, pattern) for tag, pattern in resolvers if tag != "tag:yaml.org,2002:bool" or first in "tTfF"]
        for first, resolvers in yaml.SafeDumper.yaml_implicit_resolvers.items()
    }

    def ignore_aliases(self, data: Any) -> bool:
        return True

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        super().increase_indent(flow, False)


class _Line(dict[str, Any]):
    """A mapping to be written on one line."""


_Dumper.add_representer(_Line, lambda dumper, data: dumper.represent_mapping("tag:yaml.org,2002:map", data, True))
_Dumper.add_representer(list, lambda dumper, data: dumper.represent_sequence(
    "tag:yaml.org,2002:seq", data, not any(isinstance(each, dict) for each in data)
))  # fmt: skip


def device_data(device: Device) -> dict[str, Any]:
    """Return a device as plain data, in the keys of the notation."""
    data: dict[str, Any] = {"speaks": list(device.speaks)}
    if device.interfaces:
        data["interfaces"] = {each.name: _Line(interface_data(each)) for each in device.interfaces}
    if device.routes:
        data["routes"] = [_Line(route_data(each, device)) for each in device.routes]
    if device.translations:
        data["translations"] = [_Line(translation_data(each)) for each in device.translations]
    return data


def interface_data(one: Interface) -> dict[str, Any]:
    """Return an interface in the keys of the notation, defaults left out."""
    data: dict[str, Any] = {}
    if one.zone:
        data["zone"] = one.zone
    if one.addresses or one.loopback:
        data["loopback" if one.loopback else "address"] = _one_or_more([str(each) for each in one.addresses])
    if not one.enabled:
        data["enabled"] = False
    if one.mtu is not None and one.mtu != one.usual_mtu:
        data["mtu"] = one.mtu
    if one.description:
        data["description"] = one.description
    return data


def route_data(one: Route, device: Device | None = None) -> dict[str, Any]:
    """Return a route in the keys of the notation; an egress interface that `device` implies is left out."""
    data: dict[str, Any] = {"to": one.destination}
    if one.via is not None:
        data["via"] = str(one.via)
    if one.interface is not None and not _implied(one, device):
        data["interface"] = one.interface
    if one.discard is not None:
        data["discard"] = True if one.discard == "blackhole" else one.discard
    if one.distance != 1:
        data["distance"] = one.distance
    return data


def _implied(route: Route, device: Device | None) -> bool:
    if route.via is None or device is None:
        return False
    return normal_routes([replace(route, interface=None)], device.interfaces)[0].interface == route.interface


def translation_data(one: Translation) -> dict[str, Any]:
    """Return a translation in the keys of the notation, defaults left out."""
    data: dict[str, Any] = {}
    if one.name:
        data["name"] = one.name
    if isinstance(one, Static | Publish):
        data["static" if isinstance(one, Static) else "publish"] = str(one.external)
        if isinstance(one, Publish) and one.services is not None:
            data["service"] = _services(one.services)
        data["on"] = str(one.internal)
        if isinstance(one, Publish) and one.internal_port is not None:
            data["internal-port"] = one.internal_port
        if one.facing is not None:
            data["facing"] = _one_or_more(list(one.facing))
        if isinstance(one, Publish) and one.source is not None:
            data["source"] = _addresses(one.source)
        return data
    if isinstance(one, Exempt):
        data["exempt"] = True
        if one.at != "both" and one.leaves is None:
            data["at"] = one.at
    if one.arrives is not None:
        data["from"] = _one_or_more(list(one.arrives))
    if one.leaves is not None:
        data["to"] = _one_or_more(list(one.leaves))
    if one.source is not None:
        data["source"] = _addresses(one.source)
    if one.destination is not None:
        data["destination"] = _addresses(one.destination)
    if one.services is not None:
        data["service"] = _services(one.services)
    if isinstance(one, Dynamic):
        data["source-becomes"] = _becomes(one)
    return data


def _becomes(one: Dynamic) -> Any:
    if one.pool is None:
        return "interface"
    pool = spell_range(4, one.pool.spans[0])
    return {"pool": pool, "ports": one.ports} if one.ports != "shared" else {"pool": pool}


def _one_or_more(items: list[str]) -> Any:
    return items[0] if len(items) == 1 else items


def _addresses(addresses: AddressSet) -> Any:
    return _one_or_more([spell_span(addresses.family, span) for span in addresses.spans])


def _services(services: Services) -> Any:
    written = []
    for service in services:
        if service.ports is None:
            written.append(service.protocol)
            continue
        for first, last in service.ports:
            written.append(f"{service.protocol}/{first}" if first == last else f"{service.protocol}/{first}-{last}")
    return _one_or_more(written)
