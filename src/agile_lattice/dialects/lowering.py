"""A device taken apart into facts."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any, TypeVar, cast

import msgspec

from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import (
    AddressFact,
    AddressSetFact,
    DeviceFact,
    DialFact,
    HelperFact,
    HostFact,
    IdentityFact,
    InterfaceFact,
    InterfaceResolverFact,
    InterfaceSearchFact,
    LookupsFact,
    MemberFact,
    ProxyFact,
    ResolverFact,
    SearchFact,
    ServiceFact,
    SettingsFact,
    VlanMemberFact,
    ZoneFact,
)
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.groups import used_in
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.answering import answers_for
from agile_lattice.intent.interfaces import Interface, Learning
from agile_lattice.intent.model import Device, Section, Settings
from agile_lattice.intent.normal import ways
from agile_lattice.intent.permits import passages
from agile_lattice.intent.services import Service
from agile_lattice.intent.stages import split
from agile_lattice.intent.vocabulary import Vocabulary

LEARNED: dict[Learning, str] = {"dhcp": "dhcp4", "dhcp6": "dhcp6", "slaac": "slaac"}
T = TypeVar("T", bound=msgspec.Struct)


def facts_of(device: Device) -> Facts:
    """Take a device apart."""
    facts: dict[str, list[Any]] = {
        "device": [DeviceFact(device.settings.host_name or device.name, device.place)],
        "interface": [],
        "dial-up": [dial for one in device.interfaces for dial in _dial(one)],
        "address": [],
        "member": [],
        "vlan-member": [],
        "interface-resolver": [],
        "interface-search": [],
        "proxy": [],
        "route": list(ways(device.ways)),
        "rule": split(device.translations),
        "permit": passages(device.permits),
        "access": passages(device.access),
        "zone": [ZoneFact(one.name, one.zone or one.name, one.place) for one in device.interfaces],
        "identity": [IdentityFact(device.identity, device.settings.identity is None)] if device.identity else [],
        "settings": [alike(SettingsFact, device.settings)] if device.settings else [],
        "resolver": [ResolverFact(each, device.settings.place.at("resolvers")) for each in device.settings.resolvers],
        "search": _search(device.settings),
        "lookups": _lookups(device.settings),
        "helper": [
            HelperFact(each.protocol, each.ports, one.name, place=device.settings.place.at("helpers", one.name))
            for one in device.settings.helpers
            for each in one.services
            if each.ports is not None
        ],
        "address-set": [],
        "service": [],
        "host": [
            HostFact(entry.name, address, device.settings.place.at("hosts", entry.name))
            for entry in device.settings.hosts
            for address in entry.addresses
        ],
    }
    _name(facts, device)
    by_vlan = {one.name for one in device.interfaces if device.keeps_vlans_apart(one)}
    for one in device.interfaces:
        facts["interface"].append(
            alike(
                InterfaceFact, one, interface=one.name, bridge=one.bridge is not None, by_vlan=one.name in by_vlan,
                dials=one.name if one.dial else "", mtu=None if one.dial else one.mtu,
                **{field: word in one.learns for word, field in LEARNED.items()},
            )
        )  # fmt: skip
        facts["member"] += [
            MemberFact(member, one.name, one.place.at("bridge", "members"))
            for member in (one.bridge.members if one.bridge else ())
        ]
        facts["interface-resolver"] += [
            InterfaceResolverFact(one.name, each, one.place.at("resolvers")) for each in one.resolvers
        ]
        facts["interface-search"] += [
            InterfaceSearchFact(one.name, each, one.place.at("search")) for each in one.search
        ]
        own = one.bridge is not None
        vlans = (*one.tagged, *(one.bridge.vlans if one.bridge else ()))
        facts["vlan-member"] += [
            VlanMemberFact(one.name, vlan, own=own, place=one.place.at("tagged")) for vlan in vlans
        ]
        if one.untagged is not None:
            facts["vlan-member"].append(
                VlanMemberFact(one.name, one.untagged, True, True, own, one.place.at("untagged"))
            )
        for index, address in enumerate(one.addresses):
            facts["address"].append(AddressFact(one.name, address, one.place_of(index)))
    answers = device.answers
    if answers is None:
        answers = tuple(answers_for(device.interfaces, device.translations))
    for answer in answers:
        facts["proxy"] += [
            ProxyFact(answer.interface, prefix, answer.place.at(str(prefix))) for prefix in answer.addresses.prefixes()
        ]
    return cast(Facts, facts)


def _name(facts: dict[str, list[Any]], device: Device) -> None:
    """Add what the rules of a device speak of and its intent has a name for."""
    used = (each if isinstance(each, AddressSet) else Service(*each) for each in used_in(facts))
    for each in Vocabulary.of(device.named).standing_for(used):
        if each.addresses is not None:
            facts["address-set"].append(AddressSetFact(each.name, each.addresses, spare=True, place=each.place))
        elif each.service is not None:
            facts["service"].append(ServiceFact(each.name, each.service.protocol, each.service.ports, True, each.place))


def facts_in(device: Device, sections: Collection[Section]) -> Facts:
    """Take apart what a device has in some sections, with what belongs to none."""
    return {kind: members for kind, members in facts_of(device).items() if FACTS[kind].section in (*sections, None)}


def alike(record: type[T], other: msgspec.Struct, **fields: Any) -> T:
    """Make a record of the fields that another has by the same names, and of some given ones."""
    shared = [name for name in record.__struct_fields__ if name not in fields and hasattr(other, name)]
    return record(**fields, **{name: getattr(other, name) for name in shared})


def _dial(one: Interface) -> list[DialFact]:
    if one.dial is None:
        return []
    user, password = one.dial.user, one.dial.password
    apart = user != password or user.kind != "file"
    return [DialFact(one.name, one.dial.over, "" if apart else user.name, apart, one.mtu, one.place)]


def _search(settings: Settings) -> list[SearchFact]:
    return [SearchFact(" ".join(settings.search), settings.place.at("search"))] if settings.search else []


def _lookups(settings: Settings) -> list[LookupsFact]:
    return [] if settings.lookups is None else [LookupsFact(settings.lookups, settings.place.at("lookups"))]
