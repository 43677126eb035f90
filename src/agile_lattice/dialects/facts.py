"""Flat typed facts: what single statements say, whatever their syntax.

A dialect's phrases make facts and are made from facts; `assembly` turns facts into the
model and back. Each field has a *trait*, the little about a value that decides how a
statement is shaped: its family, whether a set has one member or many, which of a few
words it is. `None` means that there is nothing to write.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from agile_lattice.intent.addresses import BITS, Prefix
from agile_lattice.intent.model import Route, Section
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.stages import Rule

Trait = Callable[[Any], Any]


class DeviceFact(msgspec.Struct, frozen=True):
    """The device's own name."""

    hostname: str
    place: Place = NOWHERE


class InterfaceFact(msgspec.Struct, frozen=True):
    """An interface, without its addresses."""

    interface: str
    loopback: bool = False
    enabled: bool = True
    mtu: int | None = None
    description: str = ""
    place: Place = NOWHERE


class AddressFact(msgspec.Struct, frozen=True):
    """One address of an interface."""

    interface: str
    address: Prefix
    place: Place = NOWHERE


class AnswerFact(msgspec.Struct, frozen=True):
    """A prefix that the device answers for on an interface, besides its own addresses."""

    interface: str
    address: Prefix
    place: Place = NOWHERE


Fact = DeviceFact | InterfaceFact | AddressFact | AnswerFact | Route | Rule


def _as_is(value: Any) -> Any:
    return value


def _some(value: Any) -> Any:
    return True if value else None


def _number(value: Any) -> Any:
    return None if value is None else True


def _more_than(usual: int) -> Trait:
    return lambda value: None if value == usual else True


def _family(value: Any) -> Any:
    return None if value is None else value.family


def _address_set(value: Any) -> Any:
    return None if value is None else (value.family, len(value.spans) > 1)


def _several(value: Any) -> Any:
    return None if value is None else len(value) > 1


def _if_set(value: Any) -> Any:
    return value or None


class FactType(msgspec.Struct, frozen=True):
    """What the engine needs to know about one kind of fact.

    Attributes:
        name: What phrases call it.
        record: The class of its values.
        section: The section of a device that it belongs to; empty for none.
        traits: Per field, in the order of the record; fields left out are never written.
        key: Fields that identify one fact that several statements describe together;
            empty if each statement is a fact of its own.
        words: The fact in words, for messages.
        keys: Where a field goes by another name in an intent file: the path of keys to it.
    """

    name: str
    record: type[Any]
    section: Section | None
    traits: Mapping[str, Trait]
    key: str = ""
    words: str = ""
    keys: Mapping[str, tuple[str, ...]] = {}

    def describe(self, fact: Fact) -> str:
        """Return the fact in words, for messages."""
        return self.words.format(fact=fact) if self.words else self.name


FACTS: dict[str, FactType] = {
    each.name: each
    for each in (
        FactType("device", DeviceFact, None, {"hostname": _some}, words="device {fact.hostname}"),
        FactType(
            "interface", InterfaceFact, "interfaces",
            {
                "interface": _as_is, "loopback": _if_set, "enabled": _as_is, "mtu": _number, "description": _some,
            },
            "interface", "interface {fact.interface}",
        ),
        FactType(
            "address", AddressFact, "interfaces", {"interface": _as_is, "address": _family},
            words="address {fact.address} on {fact.interface}",
        ),
        FactType(
            "answer", AnswerFact, "answers", {"interface": _as_is, "address": _family},
            words="answering for {fact.address} on {fact.interface}",
        ),
        FactType(
            "route", Route, "routes",
            {
                "to": _family, "via": _family, "interface": _some, "discard": _as_is, "distance": _more_than(1),
            },
            words="route {fact.to}",
        ),
        FactType(
            "rule", Rule, "translations",
            {
                "stage": _as_is, "verdict": _as_is, "arrives": _several, "leaves": _several,
                "source": _address_set, "destination": _address_set, "protocol": _as_is, "ports": _several,
                "to": _address_set, "to_port": _number, "port_use": lambda use: None if use == "shared" else use,
                "name": _some,
            },
            words="translation {fact.name}",
            keys={
                "arrives": ("from",), "leaves": ("to",), "protocol": ("service",), "ports": ("service",),
                "to_port": ("internal-port",), "port_use": ("source-becomes", "ports"),
            },
        ),
    )
}  # fmt: skip
FACT_OF: dict[type[Any], FactType] = {each.record: each for each in FACTS.values()}


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
