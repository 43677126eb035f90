"""The shape of an intent file: which keys there are at the top, and of what each is made.

Devices have modules of their own: `device_shapes`, `translation_shapes`. The JSON Schema that
ships with the package is generated from these classes. Names, zones and what goes together
are settled in `resolving`.
"""

from __future__ import annotations

from functools import cache
from typing import Any, Literal

from pydantic import Field, model_validator

from agile_lattice.notation.device_shapes import DeviceShape
from agile_lattice.notation.values import (
    IPAddress,
    IPEnd,
    IPPrefix,
    Members,
    Name,
    Shape,
    ShortOrKeys,
    Text,
    Word,
    Words,
)


class ZoneShape(Shape):
    """A side of the network."""

    exposure: Literal["own", "shared", "public"] | None = None
    description: Text | None = None


class HostShape(Shape):
    """A host, with more than its address."""

    address: IPEnd
    gateway: IPAddress | None = None
    zone: Name | None = None
    description: Text | None = None


class GroupShape(Shape):
    """Networks or services under one name, with a description."""

    members: Members[Word]
    description: Text | None = None


class NamesShape(Shape):
    """Names for hosts, networks and services, to be used wherever one is asked for."""

    hosts: dict[Name, ShortOrKeys[IPEnd, HostShape]] = {}
    networks: dict[Name, ShortOrKeys[Members[Word], GroupShape]] = {}
    services: dict[Name, ShortOrKeys[Members[Word], GroupShape]] = {}


class BlockShape(Shape):
    """Addresses that a provider gave."""

    prefix: IPPrefix
    gateway: IPAddress | None = None
    delivery: Literal["on-link", "routed"] = "on-link"
    held: dict[Name, Words] = Field({}, description="Which device holds which part.")
    reserved: dict[Word, Text] = Field({}, description="Addresses that are kept free, and for what.")
    description: Text | None = None

    @model_validator(mode="after")
    def _one_network(self) -> BlockShape:
        if self.prefix.value != self.prefix.first:
            raise ValueError(f"{self.prefix} has host bits set; the network is {self.prefix.network}")
        if self.gateway and not self.prefix.contains(self.gateway):
            raise ValueError(f"the gateway {self.gateway} is not in {self.prefix}")
        return self


class AcceptedShape(Shape):
    """A finding that somebody has looked at and accepts."""

    finding: Name
    on: Text
    reason: Text


class IntentShape(Shape):
    """One intent file. Several files in a folder are read as one intent."""

    lattice: Literal[1] = Field(description="Version of this notation.")
    network: Name | None = None
    blocks: dict[Name, BlockShape] = {}
    names: NamesShape = NamesShape()
    zones: dict[Name, ZoneShape] = {}
    devices: dict[Name, DeviceShape] = {}
    accepted: list[AcceptedShape] = []


@cache
def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of an intent file."""
    schema = IntentShape.model_json_schema(by_alias=True, mode="validation")
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
