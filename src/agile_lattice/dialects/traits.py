"""Traits of facts: of each field the little about its value that decides how a statement is shaped.

Its family, whether a set has one member or many, which of a few words it is. `None` means that there is nothing to
write.
"""

from __future__ import annotations

from typing import Any

from agile_lattice.dialects.facts import AddressFact, InterfaceFact, ProxyFact, SettingsFact
from agile_lattice.dialects.kinds import WHOLE
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.routes import DEFAULT_DISTANCE, Route
from agile_lattice.intent.stages import Rule


def interface_traits(one: InterfaceFact) -> tuple[Any, ...]:
    """Return the traits of an interface."""
    return (
        True,
        one.loopback or None,
        one.enabled,
        one.mtu is not None or None,
        bool(one.description) or None,
        one.dhcp4 or None,
        one.dhcp6 or None,
        one.slaac or None,
        bool(one.dials) or None,
        bool(one.parent) or None,
        one.vlan is not None or None,
        one.bridge or None,
        one.by_vlan or None,
        one.default_vlan is not None or None,
        bool(one.instance) or None,
    )


def address_traits(one: AddressFact | ProxyFact) -> tuple[Any, ...]:
    """Return the traits of an address, or of what is answered for."""
    return True, one.address.family


def route_traits(one: Route) -> tuple[Any, ...]:
    """Return the traits of a route."""
    return (
        one.to.family,
        None if one.via is None else one.via.family,
        None if one.interface is None else True,
        one.discard,
        None if one.distance == DEFAULT_DISTANCE else True,
        None if one.metric is None else True,
        True if one.off_link else None,
        True if one.instance else None,
    )


NAMED = "named"


EMPTY = "a set without members"  # which nothing writes


def set_trait(value: AddressSet | str) -> Any:
    """Return the trait of a set of addresses: family and whether it has many members, that it has none, or a name."""
    if isinstance(value, str):
        return NAMED
    return (value.family, len(value.spans) > 1) if value.spans else EMPTY


def end_trait(end: Prefix) -> Any:
    """Return the trait of one end of a two-way translation."""
    return end.family if end.is_host else (end.family, WHOLE)


def rule_traits(one: Rule) -> tuple[Any, ...]:
    """Return the traits of a rule of a translation."""
    arrives, leaves, ports = one.arrives, one.leaves, one.ports
    source, destination, to = one.source, one.destination, one.to
    return (
        one.stage,
        one.verdict,
        None if arrives is None else len(arrives) > 1,
        None if leaves is None else len(leaves) > 1,
        None if source is None else set_trait(source),
        None if destination is None else set_trait(destination),
        one.protocol,
        None if ports is None else len(ports) > 1,
        None if to is None else set_trait(to),
        None if one.to_port is None else True,
        None if one.port_use == "shared" else one.port_use,
        True if one.rewrites_dns else None,
        True if one.name else None,
        None if one.rank is None else True,
        one.own,
    )


def passage_traits(one: Passage) -> tuple[Any, ...]:
    """Return the traits of a rule of what may pass."""
    source, destination = one.source, one.destination
    return (
        one.verdict,
        None if one.arrives is None else len(one.arrives) > 1,
        None if one.leaves is None else len(one.leaves) > 1,
        None if source is None else set_trait(source),
        None if destination is None else set_trait(destination),
        one.protocol,
        None if one.ports is None else len(one.ports) > 1,
        True if one.log else None,
        True if one.name else None,
        None if one.rank is None else True,
    )


def settings_traits(one: SettingsFact) -> tuple[Any, ...]:
    """Return the traits of settings."""
    return (
        one.forwarding4,
        one.forwarding6,
        one.reverse_path,
    )
