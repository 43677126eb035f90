"""Names in an intent file: rules speak of hosts, networks, services and zones by the names that these have."""

from __future__ import annotations

import re
from collections.abc import Mapping
from itertools import chain
from typing import Any

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.model import Device, Network, Zone
from agile_lattice.intent.services import Service
from agile_lattice.intent.vocabulary import Named
from agile_lattice.notation.plain import non_empty, spans_of, spell_services

HOSTS, NETWORKS, SERVICES, SIDES = ("publish", "on"), ("source", "destination", "peer"), ("service",), (
    "from", "to", "facing", "hairpin",
)  # fmt: skip
NAME = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,62}")
Words = dict[Any, str]  # what a value is written as, and the name for it


class Names:
    """The names of a network, for what its devices' rules speak of.

    A name that stands for different things on different devices is not used: an intent has each name once.

    Args:
        network: The network.
    """

    def __init__(self, network: Network) -> None:
        hosts = {each.name for each in network.hosts}
        meant: dict[str, set[AddressSet | Service | None]] = {}
        lists = {id(device.named): device.named for device in network.devices}  # devices share theirs
        for each in chain.from_iterable(lists.values()):
            if NAME.fullmatch(each.name):
                meant.setdefault(each.name, set()).add(_stands_for(each))
        once = {name: next(iter(values)) for name, values in meant.items() if len(values) == 1}
        groups = {name: value for name, value in once.items() if isinstance(value, AddressSet)}
        self.hosts = {name: value for name, value in groups.items() if value.is_single and name not in hosts}
        self.networks = {name: value for name, value in groups.items() if not value.is_single}
        self.services = {name: value for name, value in once.items() if isinstance(value, Service)}
        singles = {name: value for name, value in groups.items() if value.is_single}
        self._singles = {_key(spans_of(value)): name for name, value in singles.items()}
        self._networks = {_key(spans_of(value)): name for name, value in self.networks.items()} | self._singles
        self._services = {_key(spell_services((value,))): name for name, value in self.services.items()}

    def data(self) -> dict[str, Any]:
        """Return the names as an intent file has them, but for hosts that the network describes."""
        return non_empty(
            hosts={name: spans_of(value)[0] for name, value in self.hosts.items()},
            networks={name: spans_of(value) for name, value in self.networks.items()},
            services={name: spell_services((value,)) for name, value in self.services.items()},
        )

    def rule(self, data: Mapping[str, Any], device: Device) -> dict[str, Any]:
        """Return a rule as plain data with names in the place of what they stand for."""
        zones = _zones(device)
        found = {**data}
        for keys, words in ((HOSTS, self._singles), (NETWORKS, self._networks), (SERVICES, self._services)):
            for key in keys:
                if key in found:
                    found[key] = words.get(_key(found[key]), found[key])
        for key in SIDES:
            if key in found:
                found[key] = zones.get(_key(found[key]), found[key])
        if "for" in found:
            found["for"] = self.rule(found["for"], device)
        return found


def zones_of(network: Network) -> tuple[Zone, ...]:
    """Return the zones of a network, with those that only interfaces name."""
    known = {each.name for each in network.zones}
    more = dict.fromkeys(one.zone for device in network.devices for one in device.interfaces if one.zone)
    return (*network.zones, *(Zone(name) for name in more if name not in known))


def _stands_for(one: Named) -> AddressSet | Service | None:
    return one.addresses if one.addresses is not None else one.service


def _zones(device: Device) -> Words:
    """Return the zones that a rule can speak of: no interface goes by the same name."""
    interfaces = {one.name for one in device.interfaces}
    zones: dict[str, list[str]] = {}
    for one in device.interfaces:
        if one.zone and one.zone not in interfaces:
            zones.setdefault(one.zone, []).append(one.name)
    return {_key(sorted(members)): name for name, members in zones.items()}


def _key(value: Any) -> Any:
    """Return a value, or a list of them, as a key: a list of one is that one."""
    return (
        tuple(value) if isinstance(value, list) and len(value) != 1 else value[0] if isinstance(value, list) else value
    )
