"""How the values of a fact may be spelt in a statement, and the placeholder for each spelling."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.masks import netmask, wildcard
from agile_lattice.intent.services import spell_ports

# Fields whose values are words: some stand for themselves, for others a line of its own is drafted.
WORDED, CONSTANT = ("enabled", "discard"), ("stage", "verdict", "log", "port_use", "own", "loopback")
Spelling = tuple[str, str, str]  # the text, the placeholder, and the field (or the part of it) that it says


class Names(msgspec.Struct, frozen=True):
    """What is called by a name.

    Attributes:
        zones: Sets of interfaces.
        sets: Sets of addresses.
        services: Protocols with ports.
    """

    zones: Mapping[tuple[str, ...], str] = {}
    sets: Mapping[AddressSet, str] = {}
    services: Mapping[tuple[Any, Any], str] = {}


def spellings(fields: Mapping[str, Any], names: Names) -> Iterator[Spelling]:
    """Yield how values may be spelt, the whole of each before its parts.

    Args:
        fields: The values, by field.
        names: What goes by a name.
    """
    service = names.services.get((fields.get("protocol"), fields.get("ports")))
    if service is not None and fields.get("name") != service:
        yield service, "<protocol:service-name>", "protocol"
    for name, value in fields.items():
        if name in (*WORDED, *CONSTANT):
            continue  # a device has words of its own for these
        match value:
            case bool() | None:
                continue
            case Prefix():
                yield from _prefix(name, value)
            case Address():
                yield str(value), f"<{name}:address{value.family}>", name
            case AddressSet():
                yield from _set(name, value, names)
            case int():
                yield str(value), f"<{name}:number>", name
            case tuple() if value and all(isinstance(each, str) for each in value):
                yield from _sides(name, value, names.zones)
            case tuple() if value and name == "ports":
                for each in value:
                    yield spell_ports(each), "<ports:ports,>" if len(value) > 1 else "<ports:ports>", name
            case str() if value:
                yield value, f"<{name}>", name


def _prefix(name: str, value: Prefix) -> Iterator[Spelling]:
    family = value.family
    yield str(value), f"<{name}:prefix{family}>", name
    # The length first: an address stands alone only where no length is.
    if family == 4:
        yield netmask(value.length), f"<{name}.length:netmask>", f"{name}.length"
        yield wildcard(value.length), f"<{name}.length:wildcard>", f"{name}.length"
    yield str(value.length), f"<{name}.length:length>", f"{name}.length"
    yield str(value.address), f"<{name}.ip:address{family}>", f"{name}.ip"
    if value.is_host:
        yield str(value.address), f"<{name}:host{family}>", name


def _set(name: str, value: AddressSet, names: Names) -> Iterator[Spelling]:
    if value in names.sets and name != "addresses":
        yield names.sets[value], f"<{name}:set-name>", name
    many = len(value.spans) > 1
    for span in value.spans:
        one = AddressSet(value.family, (span,))
        first, last = (str(Address(value.family, number)) for number in span)
        kind = f"{'range' if '-' in str(one) else 'span'}{value.family}"
        for text in dict.fromkeys((str(one), first if first == last else f"{first}-{last}")):
            yield text, f"<{name}:{kind}{',' * many}>", name


def _sides(name: str, value: tuple[str, ...], zones: Mapping[tuple[str, ...], str]) -> Iterator[Spelling]:
    if value in zones:
        yield zones[value], f"<{name}:zones>", name
    for each in value:
        yield each, f"<{name}:ports-of>" if len(value) == 1 else f"<{name}:ports-of,>", name
