"""What the author of a dialect can write: every fact with its fields, every kind with what it reads."""

from __future__ import annotations

import inspect
import re
from collections.abc import Mapping, Sequence

import msgspec

from agile_lattice.dialects.base_kinds import BASE
from agile_lattice.dialects.fact_types import FACTS, FactType
from agile_lattice.dialects.field_types import described, type_words, types_of
from agile_lattice.intent.model import HELPED_OVER, Section

# What fields mean to somebody who writes a dialect; of others the records say it.
MEANINGS: Mapping[str, str] = {
    "enabled": "Whether it is administratively up.",
    "loopback": "Whether it is a loopback.",
    "mtu": "In octets.",
    "parent": "The interface that a VLAN is a part of.",
    "vlan": "The VLAN id, from 1 to 4094.",
    "instance": "The routing instance; empty for the main one.",
    "arrives": "The ingress interfaces or zones.",
    "leaves": "The egress interfaces or zones.",
    "source": "Source addresses.",
    "destination": "Destination addresses.",
    "interface": "The name of an interface.",
    "address": "An address, with a prefix length where it is an interface's.",
    "master": "The bridge.",
    "name": "A name that the intent or the device gives it.",
    "hostname": "The name.",
    "description": "Text.",
    "rewrites_dns": "Whether answers of DNS are rewritten, too.",
    "protocol": "The protocol; any if nothing is said.",
    "ports": "Destination ports, or types of ICMP; all if nothing is said.",
    "verdict": "What becomes of a packet that matches.",
    "rule.verdict": "Leave the packet as it is, rewrite it to `to`, shift it by the offset between what matched and "
    "`to`, or rewrite it to the address of the egress interface, or of the ingress interface.",
    "rank": "Its place, where order is written as a number; else the order is that of the list.",
    "to_port": "The new destination port; it is kept if nothing is said.",
    "port_use": "Whether several hosts share an address by their ports, or ports are kept.",
    "metric": "Among equal distances the lowest wins.",
    "addresses": "Addresses.",
    "identity": "The router id.",
    "dials": "What it dials, if it is the end of a dial-up tunnel: it is called like the interface.",
    "called": "The name by which others use it; of an interface, its name on the system.",
    "over": "The interface whose wire a dial-up tunnel runs over.",
    "credentials": "The file on the device that user name and password are in.",
    "apart": "Whether user name and password are not in one file: no statement can write it.",
    "dhcp4": "Whether it learns IPv4 addresses by DHCP.",
    "dhcp6": "Whether it learns IPv6 addresses by DHCP.",
    "slaac": "Whether it learns IPv6 addresses from router advertisements.",
    "lookups": "Whether it does.",
    "helper.name": "The protocol: " + ", ".join(HELPED_OVER) + ".",
    "part": "The name of the part.",
    "files": "The paths of files, or patterns of them.",
    "folder": "Whether these are folders, of which every file is read.",
    "domain": "A domain in which short names are looked for.",
    "domains": "Domains, with blanks between them.",
    "zone": "The zone or the mark.",
    "external": "The external address.",
    "internal": "The internal address.",
    "facing": "The interfaces that it faces; all if nothing is said.",
    "forwarding4": "Whether IPv4 is forwarded.",
    "forwarding6": "Whether IPv6 is forwarded.",
    "reverse_path": "Whether a packet's source must be reachable by its ingress interface (RFC 3704).",
}

EXAMPLES: Mapping[str, str] = {
    "address4": "203.0.113.5", "address6": "2001:db8::5", "prefix4": "203.0.113.5/28", "prefix6": "2001:db8::5/64",
    "host4": "203.0.113.5", "host6": "2001:db8::5", "span4": "203.0.113.0/28 or 203.0.113.3-203.0.113.9",
    "span6": "2001:db8::/64 or 2001:db8::3-2001:db8::9", "range4": "203.0.113.3-203.0.113.9",
    "range6": "2001:db8::3-2001:db8::9", "masked4": "203.0.113.0/255.255.255.0",
    "prefixed4": "203.0.113.5/32", "prefixed6": "2001:db8::5/128",
    "allbut4": "203.0.113.0/28, for everything else", "allbut6": "2001:db8::/64, for everything else",
    "bits": "0x10 or 16", "bit-sets": "0x10 or 0x10-0x1f", "ports": "443 or 8000-8010", "length": "28",
    "netmask": "255.255.255.240", "wildcard": "0.0.0.15", "number": "1480",
    "word": "lan0", "line": "to the pier, by radio", "quoted": '"to the pier, by radio"',
}  # fmt: skip


class Field(msgspec.Struct, frozen=True):
    """A field of a fact: what it holds, what it is if nothing is said (empty if it has to be said), what it means."""

    name: str
    holds: str
    default: str
    meaning: str


class FactReference(msgspec.Struct, frozen=True):
    """A kind of fact: the section that it belongs to, what it is, and its fields."""

    name: str
    section: Section | None
    meaning: str
    fields: tuple[Field, ...]


class KindReference(msgspec.Struct, frozen=True):
    """A kind of spelling: what it reads, and an example."""

    name: str
    reads: str
    example: str


def facts_reference() -> list[FactReference]:
    """Return every kind of fact that a phrase can make."""
    return [_fact(each) for each in sorted(FACTS.values(), key=lambda each: each.name)]


def kinds_reference() -> list[KindReference]:
    """Return the kinds that every dialect has."""
    return [KindReference(each.name, described((each.gives,)), EXAMPLES[each.name]) for each in BASE.values()]


def _fact(fact: FactType) -> FactReference:
    documented = inspect.getdoc(fact.record) or ""
    said = _attributes(documented)
    fields = [
        Field(
            name,
            described(types_of(fact, name)),
            _default(fact, name),
            MEANINGS.get(f"{fact.name}.{name}") or MEANINGS.get(name) or said.get(name, ""),
        )
        for name in fact.fields
    ]
    first = documented.partition("\n\n")[0].replace("\n", " ")
    return FactReference(fact.name, fact.section, first, tuple(fields))


def _default(fact: FactType, field: str) -> str:
    if field not in fact.defaults:
        return ""
    value = fact.defaults[field]
    return "nothing" if value in (None, "") else type_words(value)


def _attributes(documented: str) -> dict[str, str]:
    """Return what a docstring says of each attribute."""
    _, _, part = documented.partition("Attributes:\n")
    found: dict[str, str] = {}
    names: Sequence[str] = ()
    for line in part.split("\n"):
        opened = re.fullmatch(r" {4}(\w+(?:, \w+)*): (.*)", line)
        if opened is not None:
            names = opened[1].split(", ")
            found.update(dict.fromkeys(names, opened[2]))
        elif line.startswith(" " * 8):
            found.update({name: f"{found[name]} {line.strip()}" for name in names})
        else:
            names = ()
    return found
