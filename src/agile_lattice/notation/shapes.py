"""The shape of an intent file: which keys there are, and what their values look like.

The JSON Schema that ships with the package is generated from these classes, so an
editor underlines what `lattice` would refuse. Values become addresses and prefixes
here; names, zones and what goes together are settled in `resolving`.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    GetJsonSchemaHandler,
    PlainValidator,
    StringConstraints,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import CoreSchema

from agile_lattice.intent.addresses import Address, Prefix

ADDRESS = r"^[0-9a-fA-F:.]+$"
PREFIX = r"^[0-9a-fA-F:.]+/[0-9]{1,3}$"


def _parse_address(value: object) -> Address:
    return Address.parse(str(value))


def _parse_prefix(value: object) -> Prefix:
    return Prefix.parse(str(value))


def _parse_destination(value: object) -> object:
    return "default" if value == "default" else _parse_prefix(value)


def _listed(value: object) -> object:
    return value if isinstance(value, list) else [value]


def _printable(value: object) -> object:
    if isinstance(value, str) and not value.isprintable():
        raise ValueError(
            "the text holds a line break or another control character, which could smuggle in configuration"
        )
    return value


class _ScalarToo:
    """In the schema as in the validator: a list of one may be written without brackets."""

    def __get_pydantic_json_schema__(self, core: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        schema = handler(core)
        return {"anyOf": [schema["items"], schema]}


IPAddress = Annotated[Address, PlainValidator(_parse_address), WithJsonSchema({"type": "string", "pattern": ADDRESS})]
IPPrefix = Annotated[Prefix, PlainValidator(_parse_prefix), WithJsonSchema({"type": "string", "pattern": PREFIX})]
Destination = Annotated[
    Prefix | Literal["default"],
    PlainValidator(_parse_destination),
    WithJsonSchema({"anyOf": [{"const": "default"}, {"type": "string", "pattern": PREFIX}]}),
]
Name = Annotated[
    str,
    BeforeValidator(_printable),
    StringConstraints(max_length=63, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$"),
]
RuleName = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=140)]
Word = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=100)]
Text = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=255)]
InterfaceName = Annotated[
    str, BeforeValidator(_printable), StringConstraints(max_length=63, pattern=r"^[A-Za-z0-9][^\s\"'/*{}]*$")
]
Words = Annotated[list[Word], BeforeValidator(_listed), Field(min_length=1), _ScalarToo()]
Names = Annotated[list[Name], BeforeValidator(_listed), Field(min_length=1), _ScalarToo()]
Prefixes = Annotated[list[IPPrefix], BeforeValidator(_listed), Field(min_length=1), _ScalarToo()]


class Shape(BaseModel):
    """What all shapes share: an unknown key is an error, and values are taken as written."""

    model_config = ConfigDict(extra="forbid", strict=True, populate_by_name=True)


class ZoneShape(Shape):
    """A side of the network."""

    exposure: Literal["own", "shared", "public"] | None = None
    description: Text | None = None


class NamesShape(Shape):
    """Names for hosts, networks and services, to be used wherever one is asked for."""

    hosts: dict[Name, IPAddress] = {}
    networks: dict[Name, Words] = {}
    services: dict[Name, Words] = {}


class InterfaceShape(Shape):
    """An interface: its addresses and what else is set on it."""

    address: Prefixes = []
    loopback: Annotated[list[IPPrefix], BeforeValidator(_listed), _ScalarToo()] | None = None
    zone: Name | None = None
    enabled: bool = True
    mtu: Annotated[int, Field(ge=68, le=65535, description="Octets; RFC 791 asks for 68 at least.")] | None = None
    description: Text | None = None

    @model_validator(mode="after")
    def _either(self) -> InterfaceShape:
        if self.address and self.loopback is not None:
            raise ValueError("an interface has either `address` or, if it is the loopback, `loopback`")
        return self


class RouteShape(Shape):
    """A static route."""

    to: Destination
    via: IPAddress | None = None
    interface: InterfaceName | None = None
    discard: Literal[True, "blackhole", "unreachable", "prohibit"] | None = None
    distance: Annotated[int, Field(ge=1, le=2**32 - 1, description="Administrative distance; the lowest wins.")] = 1

    @model_validator(mode="after")
    def _leads_somewhere(self) -> RouteShape:
        if self.discard and (self.via or self.interface):
            raise ValueError("a route either discards or has a next hop (`via`, `interface`), not both")
        if not (self.discard or self.via or self.interface):
            raise ValueError("the route leads nowhere: give `via`, `interface`, both, or `discard`")
        family = self.to.family if isinstance(self.to, Prefix) else None
        if self.via and family and self.via.family != family:
            raise ValueError(f"the destination is IPv{family} and the next hop IPv{self.via.family}")
        if family is None and self.via is None:
            raise ValueError("without a next hop `default` could be either family: write 0.0.0.0/0 or ::/0")
        return self


class PoolShape(Shape):
    """External addresses for a dynamic translation."""

    pool: Word
    ports: Literal["shared", "kept"] = "shared"


class TranslationShape(Shape):
    """A translation; exactly one of `exempt`, `publish`, `static` and `source-becomes` says which kind."""

    name: RuleName | None = None
    exempt: Literal[True] | None = None
    publish: IPAddress | None = None
    static: IPAddress | None = None
    source_becomes: Literal["interface"] | PoolShape | None = Field(None, alias="source-becomes")
    on: Word | None = None
    facing: Words | None = None
    from_: Words | None = Field(None, alias="from")
    to: Words | None = None
    source: Words | None = None
    destination: Words | None = None
    service: Words | None = None
    internal_port: Annotated[int, Field(ge=1, le=65535)] | None = Field(None, alias="internal-port")
    at: Literal["arrival", "departure", "both"] | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> TranslationShape:
        kinds = {
            "exempt": {"from_", "to", "source", "destination", "service", "at"},
            "publish": {"on", "facing", "source", "service", "internal_port"},
            "static": {"on", "facing"},
            "source_becomes": {"from_", "to", "source", "destination", "service"},
        }
        said = [kind for kind in kinds if getattr(self, kind) is not None]
        if len(said) != 1:
            raise ValueError(
                "a translation is one of `exempt: true`, `publish: ADDRESS`, `static: ADDRESS`, `source-becomes: ...`"
            )
        [kind] = said
        for field in sorted(self.model_fields_set - kinds[kind] - {"name", kind}):
            raise ValueError(f"`{_key(field)}` does not go with `{_key(kind)}`")
        if "on" in kinds[kind] and self.on is None:
            raise ValueError(f"`{kind}` needs `on`: the internal host")
        if self.to and self.at in ("arrival", "both"):
            raise ValueError("on arrival the way out is not known yet: leave `at` or `to` out")
        return self


def _key(field: str) -> str:
    return re.sub("_", "-", field.rstrip("_"))


class DeviceShape(Shape):
    """A device."""

    speaks: Names
    interfaces: dict[InterfaceName, InterfaceShape] = {}
    routes: list[RouteShape] = []
    translations: list[TranslationShape] = []


class IntentShape(Shape):
    """One intent file. Several files in a folder are read as one intent."""

    lattice: Literal[1] = Field(description="Version of this notation.")
    network: Name | None = None
    names: NamesShape = NamesShape()
    zones: dict[Name, ZoneShape] = {}
    devices: dict[Name, DeviceShape] = {}


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of an intent file."""
    schema = IntentShape.model_json_schema(by_alias=True, mode="validation")
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
