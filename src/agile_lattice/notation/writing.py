"""Intent files as text, written as people do: an interface, a route or a translation on one line."""

from __future__ import annotations

from typing import Any

import yaml

from agile_lattice.intent.model import Block, Device, Host, Network
from agile_lattice.notation.calling import Names, zones_of
from agile_lattice.notation.located import as_scalar
from agile_lattice.notation.plain import Line, device_data, non_empty, spans_of

WIDTH = 150


def write(network: Network) -> str:
    """Return an intent file that `load` reads back as the same network."""
    called = Names(network)
    names = called.data()
    hosts = {**{each.name: _host_data(each) for each in network.hosts}, **names.pop("hosts", {})}
    data: dict[str, Any] = {"lattice": 1, **non_empty(network=network.name)}
    data |= non_empty(
        blocks={each.name: _block_data(each) for each in network.blocks},
        names=non_empty(hosts=hosts, **names),
        zones={
            each.name: Line(non_empty(exposure=each.exposure, description=each.description))
            for each in zones_of(network)
        },
    )
    data["devices"] = {device.name: _device_data(device, called) for device in network.devices}
    data |= non_empty(
        accepted=[Line(finding=each.finding, on=each.on, reason=each.reason) for each in network.accepted]
    )
    return yaml.dump(data, Dumper=_Dumper, sort_keys=False, width=WIDTH, allow_unicode=True)


def _device_data(device: Device, called: Names) -> dict[str, Any]:
    data = device_data(device)
    for section in ("translations", "permits", "management"):
        if section in data:
            data[section] = [Line(called.rule(each, device)) for each in data[section]]
    return data


def _host_data(one: Host) -> Any:
    more = non_empty(gateway=str(one.gateway or ""), zone=one.zone, description=one.description)
    return Line(address=one.address.shortest, **more) if more else one.address.shortest


def _block_data(one: Block) -> dict[str, Any]:
    return {
        "prefix": str(one.prefix),
        **non_empty(gateway=str(one.gateway or ""), delivery=one.delivery),
        **non_empty(
            held={each.device: spans_of(each.addresses) for each in one.holdings},
            reserved={span: each.what for each in one.reservations for span in spans_of(each.addresses)},
            description=one.description,
        ),
    }


class _Dumper(yaml.SafeDumper):
    # YAML 1.2 knows no booleans but true and false: `on` needs no quotes.
    yaml_implicit_resolvers = {  # noqa: RUF012 - PyYAML reads it from the class
        first: [(tag, pattern) for tag, pattern in resolvers if tag != "tag:yaml.org,2002:bool" or first in "tTfF"]
        for first, resolvers in yaml.SafeDumper.yaml_implicit_resolvers.items()
    }

    def ignore_aliases(self, data: Any) -> bool:
        return True

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        super().increase_indent(flow, False)


def _text(dumper: _Dumper, text: str) -> yaml.Node:
    # What reading would take for a number or a truth value stands in quotes.
    style = None if isinstance(as_scalar(text), str) else "'"
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style)


_Dumper.add_representer(str, _text)
_Dumper.add_representer(Line, lambda dumper, data: dumper.represent_mapping("tag:yaml.org,2002:map", data, True))
_Dumper.add_representer(list, lambda dumper, data: dumper.represent_sequence(
    "tag:yaml.org,2002:seq", data, not any(isinstance(each, dict) for each in data)
))  # fmt: skip
