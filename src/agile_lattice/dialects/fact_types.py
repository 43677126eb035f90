"""What the engine has to know about each kind of fact: its fields, their traits, and how messages name it.

Each field has a *trait* (`traits.py`), which decides how a statement is shaped.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from agile_lattice.dialects.facts import (
    SINGLE,
    AddressFact,
    AddressSetFact,
    DeclaredHelperFact,
    DeclaredInterfaceFact,
    DeviceFact,
    DialFact,
    Fact,
    HelperFact,
    HostFact,
    IdentityFact,
    IncludedFact,
    InterfaceFact,
    InterfaceNameFact,
    InterfaceResolverFact,
    InterfaceSearchFact,
    LearnedAddressFact,
    LookupsFact,
    MadeRouteFact,
    MemberFact,
    PartFact,
    ProxyFact,
    ResolverFact,
    SearchFact,
    ServiceFact,
    SettingsFact,
    StaticNatFact,
    VlanMemberFact,
    ZoneFact,
)
from agile_lattice.dialects.program_facts import BaseChainFact, ChainFact, PolicyFact, PortSetFact, StepFact
from agile_lattice.dialects.traits import (
    address_traits,
    end_trait,
    interface_traits,
    passage_traits,
    route_traits,
    rule_traits,
    settings_traits,
)
from agile_lattice.intent.addresses import BITS, Prefix
from agile_lattice.intent.model import Section
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import Rule


class FactType(msgspec.Struct, frozen=True):
    """What the engine needs to know about one kind of fact.

    Attributes:
        name: What phrases call it.
        record: The class of its values.
        section: The section of a device that it belongs to; empty for none.
        fields: The fields that phrases may speak of, in the order of the record.
        traits: Gives the trait of each field.
        key: The field that identifies a fact which several statements describe together; empty if each
            statement is a fact of its own, `SINGLE` if there is only one of the kind.
        holds: Whether it is so whatever else its block may say that is not understood.
        words: The fact in words, for messages.
        keys: Where a field goes by another name in an intent file: the path of keys to it.
        parts: The kinds of which a fact of this one holds one each, if statements say several at once.
    """

    name: str
    record: type[Any]
    section: Section | None
    fields: tuple[str, ...]
    traits: Callable[[Any], tuple[Any, ...]]
    key: str = ""
    holds: bool = False
    words: str = ""
    keys: Mapping[str, tuple[str, ...]] = {}
    parts: tuple[FactType, ...] = ()

    @property
    def defaults(self) -> dict[str, Any]:
        """What holds for each field if nothing is said, for those that have such a value."""
        count = len(self.record.__struct_defaults__)
        return dict(zip(self.record.__struct_fields__[-count:], self.record.__struct_defaults__, strict=True))

    def describe(self, fact: Fact) -> str:
        """Return the fact in words, for messages."""
        return self.words.format(fact=fact)


def _only_read(one: Any) -> tuple[Any, ...]:
    """Return no traits that anything could be written by."""
    return tuple(True for _ in one.__struct_fields__[:-1])


SERVICE_KEYS = {"arrives": ("from",), "leaves": ("to",), "protocol": ("service",), "ports": ("service",)}
PASSAGE_FIELDS = Passage.__struct_fields__[:-1]


FACTS: dict[str, FactType] = {
    each.name: each
    for each in (
        FactType(
            "device", DeviceFact, None, ("hostname",), lambda one: (True,), holds=True, words="device {fact.hostname}"
        ),
        FactType(
            "interface",
            InterfaceFact,
            "interfaces",
            InterfaceFact.__struct_fields__[:-1],
            interface_traits,
            key="interface",
            words="interface {fact.interface}",
            keys={
                "dhcp4": ("learns",),
                "dhcp6": ("learns",),
                "slaac": ("learns",),
                "dials": ("dial",),
                "by_vlan": ("bridge",),
                "default_vlan": ("bridge",),
            },
        ),
        FactType(
            "dial-up",
            DialFact,
            "dial-up",
            DialFact.__struct_fields__[:-1],
            lambda one: (
                True,
                bool(one.over) or None,
                bool(one.credentials) or None,
                one.apart or None,
                one.mtu is not None or None,
            ),
            key="interface",
            words="the dial-up line {fact.interface}",
            keys={"over": ("dial",), "credentials": ("dial",), "apart": ("dial", "password"), "mtu": ("mtu",)},
        ),
        FactType(
            "address",
            AddressFact,
            "interfaces",
            ("interface", "address"),
            address_traits,
            holds=True,
            words="address {fact.address} on {fact.interface}",
        ),
        FactType(
            "member",
            MemberFact,
            "interfaces",
            ("interface", "master"),
            lambda one: (True, True),
            words="{fact.interface} as a member of {fact.master}",
            keys={"master": ("bridge", "members")},
        ),
        FactType(
            "vlan-member",
            VlanMemberFact,
            "bridging",
            ("interface", "vlan", "pvid", "untagged", "own"),
            lambda one: (True, True, one.pvid or None, one.untagged or None, one.own or None),
            words="VLAN {fact.vlan} on {fact.interface}",
            keys={"vlan": ("tagged",), "pvid": ("untagged",), "own": ("bridge", "vlans")},
        ),
        FactType(
            "declared-interface",
            DeclaredInterfaceFact,
            "interfaces",
            ("interface", "sort", "vlan", "by_vlan", "default_vlan"),
            lambda one: (
                True,
                one.sort,
                one.vlan is not None or None,
                one.by_vlan or None,
                one.default_vlan is not None or None,
            ),
            words="interface {fact.interface}",
        ),
        FactType(
            "interface-name",
            InterfaceNameFact,
            "interfaces",
            InterfaceNameFact.__struct_fields__[:-1],
            _only_read,
            words="the name of {fact.interface}",
        ),
        FactType(
            "part",
            PartFact,
            "interfaces",
            ("interface", "part"),
            lambda one: (True, True),
            words="{fact.part} as a part of {fact.interface}",
        ),
        FactType(
            "interface-resolver",
            InterfaceResolverFact,
            "interfaces",
            ("interface", "address"),
            lambda one: (True, one.address.family),
            words="resolver {fact.address} of {fact.interface}",
            keys={"address": ("resolvers",)},
        ),
        FactType(
            "interface-search",
            InterfaceSearchFact,
            "interfaces",
            ("interface", "domain"),
            lambda one: (True, True),
            words="search domain {fact.domain} of {fact.interface}",
            keys={"domain": ("search",)},
        ),
        FactType(
            "resolver",
            ResolverFact,
            "resolvers",
            ("address",),
            lambda one: (one.address.family,),
            words="resolver {fact.address}",
            keys={"address": ("resolvers",)},
        ),
        FactType(
            "search",
            SearchFact,
            "resolvers",
            ("domains",),
            lambda one: (True,),
            key=SINGLE,
            words="search domains",
            keys={"domains": ("search",)},
        ),
        FactType(
            "lookups",
            LookupsFact,
            "lookups",
            ("lookups",),
            lambda one: (one.lookups,),
            key=SINGLE,
            words="name lookups",
            keys={"lookups": ("settings", "lookups")},
        ),
        FactType(
            "host",
            HostFact,
            "hosts",
            ("name", "address"),
            lambda one: (True, one.address.family),
            words="host {fact.name}",
            keys={"name": ("hosts",), "address": ("hosts",)},
        ),
        FactType(
            "helper",
            HelperFact,
            "helpers",
            ("protocol", "ports", "name", "called"),
            lambda one: (one.protocol, len(one.ports) > 1, one.name or None, bool(one.called) or None),
            words="helper {fact.name}",
            keys={"name": ("helpers",), "protocol": ("helpers",), "ports": ("helpers",)},
        ),
        FactType(
            "declared-helper",
            DeclaredHelperFact,
            "helpers",
            ("called", "name", "protocol"),
            lambda one: (True, one.name, one.protocol),
            words="helper {fact.name}",
        ),
        FactType(
            "zone",
            ZoneFact,
            None,
            ("interface", "zone"),
            lambda one: (True, one.zone),
            words="zone of {fact.interface}",
        ),
        FactType(
            "static-nat",
            StaticNatFact,
            "translations",
            StaticNatFact.__struct_fields__[:-1],
            lambda one: (
                end_trait(one.external),
                end_trait(one.internal),
                None if one.facing is None else len(one.facing) > 1,
                True if one.name else None,
                None if one.rank is None else True,
            ),
            words="translation {fact.name}",
            keys={"external": ("static",), "internal": ("on",)},
        ),
        FactType(
            "address-set",
            AddressSetFact,
            None,
            ("name", "addresses", "table", "family"),
            lambda one: (True, (one.addresses.family, len(one.addresses.spans) > 1), one.table or None, None),
            words="group {fact.name}",
        ),
        FactType(
            "service",
            ServiceFact,
            None,
            ("name", "protocol", "ports"),
            lambda one: (True, one.protocol, None if one.ports is None else len(one.ports) > 1),
            words="service {fact.name}",
        ),
        FactType(
            "proxy",
            ProxyFact,
            "answers",
            ("interface", "address"),
            address_traits,
            words="{fact.proxy} for {fact.address} on {fact.interface}",
        ),
        FactType(
            "route",
            Route,
            "routes",
            ("to", "via", "interface", "discard", "distance", "metric", "off_link", "instance"),
            route_traits,
            words="route {fact.to}",
            keys={"off_link": ("off-link",)},
        ),
        FactType(
            "rule",
            Rule,
            "translations",
            Rule.__struct_fields__[:-1],
            rule_traits,
            words="translation {fact.name}",
            keys={
                **SERVICE_KEYS,
                "own": ("publish",),
                "to": ("source-becomes", "pool"),
                "to_port": ("internal-port",),
                "port_use": ("source-becomes", "ports"),
                "rewrites_dns": ("dns-answers",),
            },
        ),
        FactType(
            "permit", Passage, "permits", PASSAGE_FIELDS, passage_traits, words="permit {fact.name}", keys=SERVICE_KEYS
        ),
        FactType(
            "access",
            Passage,
            "access",
            PASSAGE_FIELDS,
            passage_traits,
            words="management {fact.name}",
            keys=SERVICE_KEYS,
        ),
        FactType(
            "settings",
            SettingsFact,
            "settings",
            SettingsFact.__struct_fields__[:-1],
            settings_traits,
            key=SINGLE,
            words="settings",
            keys={
                "forwarding4": ("forwarding", "ipv4"),
                "forwarding6": ("forwarding", "ipv6"),
                "reverse_path": ("reverse-path",),
            },
        ),
        FactType(
            "identity",
            IdentityFact,
            "identity",
            ("identity",),
            lambda one: (one.identity.family,),
            key=SINGLE,
            words="identity",
            keys={"identity": ("settings", "identity")},
        ),
        FactType(
            "made-route",
            MadeRouteFact,
            "routes",
            ("to", "interface", "by", "own"),
            _only_read,
            words="the route to {fact.to} that the system made",
        ),
        FactType(
            "learned-address",
            LearnedAddressFact,
            "interfaces",
            ("interface", "address"),
            _only_read,
            words="the learned address {fact.address}",
        ),
        *(
            FactType(
                name,
                record,
                None,
                record.__struct_fields__[:-1],
                _only_read,
                holds=name == "chain",
                words=f"{name} {{fact.place}}",
            )
            for name, record in (
                ("port-set", PortSetFact),
                ("chain", ChainFact),
                ("base-chain", BaseChainFact),
                ("policy", PolicyFact),
                ("step", StepFact),
                ("included", IncludedFact),
            )
        ),
    )
}
assert all(each.record.__struct_fields__[: len(each.fields)] == each.fields for each in FACTS.values())


def says_nothing(fact: Fact) -> bool:
    """Tell whether a fact is no more than the name of an interface, or than that nothing is set."""
    if isinstance(fact, IdentityFact):
        return fact.derived
    return fact == SettingsFact() or (isinstance(fact, InterfaceFact) and fact == InterfaceFact(fact.interface))


def combine(fields: dict[str, Any]) -> None:
    """Put values that were read in parts together, in place: `address.ip` and `address.length` make `address`."""
    for name in [name for name in fields if name.endswith(".ip")]:
        field = name[: -len(".ip")]
        address = fields.pop(name)
        length = fields.pop(f"{field}.length", BITS[address.family])
        if length > BITS[address.family]:
            raise ValueError(f"/{length} is no prefix length for {address}")
        fields[field] = Prefix(address.family, address.value, length)


PARTS: dict[str, Callable[[Any], Any]] = {
    "ip": lambda prefix: prefix.address,
    "length": lambda prefix: prefix.length,
}
