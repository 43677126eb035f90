"""Every key of an intent, alone and in pairs: it is rendered and read back, or refused by name."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import pytest
from pydantic import BaseModel

import agile_lattice as al
from agile_lattice.dialects.errors import Refusals
from agile_lattice.notation.device_shapes import (
    AccessShape,
    AddressShape,
    BridgeShape,
    DeviceShape,
    InterfaceShape,
    PermitShape,
    RouteShape,
    SettingsShape,
)
from agile_lattice.notation.errors import NotationError
from agile_lattice.notation.translation_shapes import PoolShape, TranslationShape
from test_laws import SPOKEN

# What stays in the intent: it says nothing to a device, or says something of others.
STAYS = {
    "device.speaks", "device.description", "device.listens", "interface.zone", "interface.block", "interface.link",
    "interface.management", "route.description", "route.summarises", "permit.description", "permit.derive",
    "access.description", "translation.description", "translation.for", "address.description", "translation.name",
    "permit.name", "access.name", "device.connection",
}  # fmt: skip
HOLDS = {"device.settings", "device.interfaces", "device.routes", "device.translations", "device.permits",
         "device.management", "address.address", "translation.source-becomes"}  # fmt: skip

# A way of setting each key: where it goes, and what is set; lists are appended to.
LAN, WAN = ("interfaces", "lan0"), ("interfaces", "wan0")
KEYS: dict[str, list[tuple[tuple[str, ...], Any]]] = {
    "settings.host-name": [(("settings", "host-name"), "edge-7")],
    "settings.forwarding": [(("settings", "forwarding"), False)],
    "settings.reverse-path": [(("settings", "reverse-path"), "strict")],
    "settings.resolvers": [(("settings", "resolvers"), ["10.40.10.53"])],
    "settings.search": [(("settings", "search"), ["saltmarsh.example"])],
    "settings.lookups": [(("settings", "lookups"), False)],
    "settings.hosts": [(("settings", "hosts"), {"pier": ["10.40.10.9"]})],
    "settings.helpers": [(("settings", "helpers"), {"ftp": "tcp/21"})],
    "settings.identity": [(("settings", "identity"), "10.255.0.9")],
    "interface.address": [((*LAN, "address"), ["10.40.10.1/24", "10.40.11.1/24"])],
    "address.purpose": [((*WAN, "address"), ["203.0.113.2/28", {"address": "203.0.113.9/28", "purpose": "pool"}])],
    "interface.learns": [((*LAN, "learns"), ["dhcp6"])],
    "interface.dial": [(("interfaces", "dial0"), {
        "mtu": 1492, "dial": {"over": "lan0", "user": {"file": "/etc/line"}, "password": {"file": "/etc/line"}}})],
    "interface.loopback": [(("interfaces", "lo", "loopback"), ["10.255.0.1/32"])],
    "interface.enabled": [((*LAN, "enabled"), False)],
    "interface.mtu": [((*LAN, "mtu"), 1400)],
    "interface.description": [((*LAN, "description"), "Ticket hall")],
    "interface.parent": [(("interfaces", "lan0.7"), {"parent": "lan0", "vlan": 7, "address": "10.40.7.1/24"})],
    "interface.bridge": [(("interfaces", "br0"), {"bridge": {"members": ["lan0"]}, "address": "10.40.8.1/24"})],
    "interface.tagged": [(("interfaces", "br1"), {"bridge": {"members": ["p1"], "vlans": [7]}}),
                         (("interfaces", "p1"), {"tagged": [7], "untagged": 9})],
    "interface.gateway": [((*LAN, "gateway"), "10.40.10.254")],
    "interface.resolvers": [((*LAN, "resolvers"), ["10.40.10.53"])],
    "interface.search": [((*LAN, "search"), ["pier.example", "saltmarsh.example"])],
    "interface.instance": [((*LAN, "instance"), "guests")],
    "interface.answers": [((*WAN, "answers"), ["203.0.113.12"])],
    "route.via": [(("routes",), {"to": "10.50.0.0/16", "via": "10.40.10.9"})],
    "route.interface": [(("routes",), {"to": "10.51.0.0/16", "interface": "lan0"})],
    "route.discard": [(("routes",), {"to": "10.52.0.0/16", "discard": "unreachable"})],
    "route.distance": [(("routes",), {"to": "10.53.0.0/16", "via": "10.40.10.9", "distance": 7})],
    "route.metric": [(("routes",), {"to": "10.54.0.0/16", "via": "10.40.10.9", "metric": 7})],
    "route.off-link": [(("routes",), {"to": "10.55.0.0/16", "via": "10.99.0.1", "interface": "lan0",
                                      "off-link": True})],
    "route.instance": [(("routes",), {"to": "10.56.0.0/16", "via": "10.40.10.9", "instance": "guests"})],
    "translation.publish": [(("translations",), {"publish": "203.0.113.5", "service": "tcp/443", "on": "10.40.10.5",
                                                 "internal-port": 8443, "facing": "wan0", "source": "192.0.2.0/24"})],
    "translation.hairpin": [(("translations",), {"publish": "203.0.113.6", "service": "tcp/80", "on": "10.40.10.6",
                                                 "facing": "wan0", "hairpin": "lan0"})],
    "translation.dns-answers": [(("translations",), {"static": "203.0.113.7", "on": "10.40.10.7", "facing": "wan0",
                                                     "dns-answers": True})],
    "translation.direction": [(("translations",), {"static": "203.0.113.8", "on": "10.40.10.8", "facing": "wan0",
                                                   "direction": "inbound"})],
    "translation.exempt": [(("translations",), {"exempt": "device", "from": "wan0", "service": "tcp/80"}),
                           (("translations",), {"exempt": True, "from": "lan0", "destination": "10.50.0.0/16",
                                                "at": "arrival"})],
    "translation.to": [(("translations",), {"from": "lan0", "to": "wan0", "source": "10.40.10.0/24",
                                            "destination": "198.51.100.0/24", "service": "udp/53",
                                            "source-becomes": "interface"})],
    "translation.destination-becomes": [(("translations",), {"from": "lan0", "to": "wan0",
                                                             "destination": "192.0.2.1", "destination-becomes":
                                                             "198.51.100.1", "source-becomes": "interface"})],
    "translation.intercept": [(("translations",), {"intercept": True, "from": "lan0", "service": "tcp/80",
                                                   "port": 3128})],
    "pool.pool": [(("translations",), {"to": "wan0", "source": "10.40.12.0/24",
                                       "source-becomes": {"pool": "203.0.113.10-203.0.113.11"}})],
    "pool.ports": [(("translations",), {"to": "wan0", "source": "10.40.13.0/24",
                                        "source-becomes": {"pool": "203.0.113.10-203.0.113.11", "ports": "kept"}})],
    "pool.reserve": [(("translations",), {"to": "wan0", "source": "10.40.14.0/24", "source-becomes": {
        "pool": "203.0.113.10-203.0.113.11", "reserve": {"10.40.14.9": "203.0.113.10"}}})],
    "permit.service": [(("permits",), {"from": "wan0", "to": "lan0", "source": "192.0.2.0/24",
                                       "destination": "10.40.10.5", "service": "tcp/8443", "log": True})],
    "permit.deny": [(("permits",), {"from": "lan0", "destination": "192.0.2.0/24", "deny": True}),
                    (("permits",), {"from": "lan0"})],
    "access.destination": [(("management",), {"destination": "10.40.10.1", "service": "tcp/80"})],
    "access.deny": [(("management",), {"from": "lan0", "source": "10.40.10.9", "service": "tcp/22", "deny": True}),
                    (("management",), {"from": "lan0", "service": "tcp/22"})],
    "access.service": [(("management",), {"from": "lan0", "source": "10.40.10.0/24", "service": "tcp/22"})],
}  # fmt: skip
COVERED = {  # by an entry of another name
    "interface.vlan": "interface.parent", "interface.untagged": "interface.tagged",
    "bridge.members": "interface.bridge",
    "bridge.vlans": "interface.tagged", "route.to": "route.via", "permit.from": "permit.service",
    "permit.to": "permit.service", "permit.source": "permit.service", "permit.destination": "permit.service",
    "permit.log": "permit.service", "access.from": "access.service", "access.source": "access.service",
    "translation.static": "translation.direction", "translation.on": "translation.publish",
    "translation.internal-port": "translation.publish", "translation.facing": "translation.publish",
    "translation.service": "translation.publish", "translation.source": "translation.to",
    "translation.from": "translation.to", "translation.destination": "translation.to",
    "translation.at": "translation.exempt", "translation.port": "translation.intercept",
}  # fmt: skip
SHAPES: dict[str, type[BaseModel]] = {
    "device": DeviceShape, "settings": SettingsShape, "interface": InterfaceShape, "address": AddressShape,
    "bridge": BridgeShape, "route": RouteShape, "permit": PermitShape, "access": AccessShape,
    "translation": TranslationShape, "pool": PoolShape,
}  # fmt: skip


def test_every_key_of_the_schema_is_looked_at() -> None:
    keys = {
        f"{name}.{(field.alias or key).rstrip('_').replace('_', '-')}"
        for name, shape in SHAPES.items() for key, field in shape.model_fields.items()
    }  # fmt: skip
    assert keys - {*KEYS, *COVERED, *STAYS, *HOLDS} == set()
    assert {*COVERED.values()} <= {*KEYS}


def intent_with(*keys: str) -> dict[str, Any]:
    device: dict[str, Any] = {"interfaces": {"wan0": {"address": ["203.0.113.2/28"]},
                                             "lan0": {"address": ["10.40.10.1/24"]}}}  # fmt: skip
    for key in keys:
        for path, value in KEYS[key]:
            holder = device
            for step in path[:-1]:
                holder = holder.setdefault(step, {})
            if path[-1] in ("routes", "translations", "permits", "management"):
                holder.setdefault(path[-1], []).append(value)
            else:
                holder[path[-1]] = value
    return device


def dropped(speaks: tuple[str, ...], *keys: str) -> list[str]:
    """Return what is neither rendered nor refused: differences of what is read back."""
    data = {"lattice": 1, "devices": {"quay": {"speaks": list(speaks), **intent_with(*keys)}}}
    try:
        [device] = al.loads(str(data)).devices
    except NotationError:
        return []  # the two do not go together
    try:
        texts = {each.file: each.text for each in al.render(device)}
    except Refusals as refused:
        assert all(each.subject and each.reason for each in refused.refusals)
        return []
    found = al.diff(device, al.read("quay", speaks, texts))
    differing = [f"{each.subject} {each.change} {each.fields}" for each in found.differences]
    return [*differing, *map(str, found.leftovers), *(f"{each} unseen" for each in found.unseen)]


@pytest.mark.parametrize("speaks", SPOKEN, ids="-".join)
def test_no_key_is_dropped(speaks: tuple[str, ...]) -> None:
    wrong = {key: found for key in KEYS if (found := dropped(speaks, key))}
    assert wrong == {}


@pytest.mark.parametrize("speaks", SPOKEN, ids="-".join)
def test_no_key_is_dropped_beside_another(speaks: tuple[str, ...]) -> None:
    pairs = list(combinations(KEYS, 2))
    some = pairs[SPOKEN.index(speaks) :: len(SPOKEN)]  # every pair with one combination of dialects
    some += [pair for pair in pairs if "interface.dial" in pair and "ppp" in speaks]  # no other could say it
    wrong = {pair: found for pair in some if (found := dropped(speaks, *pair))}
    assert wrong == {}
