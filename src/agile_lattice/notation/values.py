"""What single values of an intent file look like: addresses, names, texts, lists of them.

Each type validates for pydantic and describes itself for the JSON Schema, so that an editor
underlines what `lattice` would refuse.
"""

from __future__ import annotations

import json
from typing import Annotated, Any, TypeVar

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Field,
    GetJsonSchemaHandler,
    PlainValidator,
    StringConstraints,
    Tag,
    WithJsonSchema,
)
from pydantic_core import CoreSchema

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import UNTAGGED, Secret

ADDRESS = r"^[0-9a-fA-F:.]+$"
PREFIX = r"^[0-9a-fA-F:.]+/[0-9.]{1,15}$"
LONGEST = 60  # characters of a value that a message shows
END = r"^[0-9a-fA-F:.]+(/[0-9.]{1,15})?$"


def key_of(field: str) -> str:
    """Return the key of an intent file for the field of a shape: `from_` is `from`, `off_link` is `off-link`."""
    return field.rstrip("_").replace("_", "-")


class Shape(BaseModel):
    """What all shapes share: an unknown key is an error, and values are taken as written."""

    model_config = ConfigDict(extra="forbid", strict=True, populate_by_name=True, alias_generator=key_of)


def spell_value(value: object) -> str:
    """Return a value as it could stand in an intent, a long one cut."""
    text = "nothing" if value is None else json.dumps(value, default=str, ensure_ascii=False)
    text = f"'{value}'" if isinstance(value, str) else text
    return text if len(text) < LONGEST else f"{text[: LONGEST - 3]}..."


def _text(value: object, what: str) -> str:
    if not isinstance(value, str | Address | Prefix):
        raise ValueError(f"expected {what}, found {spell_value(value)}")
    return str(value)


def _parse_address(value: object) -> Address:
    return Address.parse(_text(value, "an address"))


def _parse_prefix(value: object) -> Prefix:
    return Prefix.parse(_text(value, "a prefix"))


def _parse_end(value: object) -> Prefix:
    text = _text(value, "an address or a prefix")
    return Prefix.parse(text) if "/" in text else Prefix.host(Address.parse(text))


def _parse_destination(value: object) -> object:
    named = isinstance(value, str) and value[:1].isalpha() and not set("/:") & set(value)
    return value if named else _parse_prefix(value)


def _parse_vlan(value: object) -> int:
    if value == "untagged":
        return UNTAGGED
    if isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= 4094:
        return value
    raise ValueError(f"{spell_value(value)} is neither a VLAN id, from 1 to 4094, nor `untagged`")


def _parse_secret(value: object) -> Secret:
    if isinstance(value, dict) and len(value) == 1:
        [(kind, name)] = value.items()
        if kind in ("environment", "file") and isinstance(name, str) and name and name.isprintable():
            return Secret(kind, name)
    # The value itself is not shown: it may be the very credential.
    raise ValueError("credentials never stand in the text: write {environment: VARIABLE} or {file: PATH}")


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


S = TypeVar("S")
K = TypeVar("K")
# A value that is written short, or as keys if there is more to say.
ShortOrKeys = Annotated[
    Annotated[S, Tag("[short]")] | Annotated[K, Tag("[keys]")],
    Discriminator(lambda value: "[keys]" if isinstance(value, dict | BaseModel) else "[short]"),
]
# Lists; one value needs no brackets. `Members` may be empty: declared, and to be filled later.
Members = Annotated[list[S], BeforeValidator(_listed), _ScalarToo()]
Many = Annotated[list[S], BeforeValidator(_listed), Field(min_length=1), _ScalarToo()]

IPAddress = Annotated[Address, PlainValidator(_parse_address), WithJsonSchema({"type": "string", "pattern": ADDRESS})]
IPPrefix = Annotated[Prefix, PlainValidator(_parse_prefix), WithJsonSchema({"type": "string", "pattern": PREFIX})]
# A prefix, or an address that stands for the host-length one.
IPEnd = Annotated[Prefix, PlainValidator(_parse_end), WithJsonSchema({"type": "string", "pattern": END})]
Destination = Annotated[
    Prefix | str,
    PlainValidator(_parse_destination),
    WithJsonSchema(
        {
            "anyOf": [
                {"const": "default"},
                {"type": "string", "pattern": PREFIX},
                {"type": "string", "pattern": "^[A-Za-z][A-Za-z0-9._-]*$"},
            ],
            "description": "A prefix, `default`, or a host or network by its name: a route for each prefix of it.",
        }
    ),
]
Vlan = Annotated[
    int,
    PlainValidator(_parse_vlan),
    WithJsonSchema({"anyOf": [{"const": "untagged"}, {"type": "integer", "minimum": 1, "maximum": 4094}]}),
]
VlanId = Annotated[int, Field(ge=1, le=4094, description="IEEE 802.1Q VLAN id.")]
Credential = Annotated[
    Secret,
    PlainValidator(_parse_secret),
    WithJsonSchema(
        {"type": "object", "properties": {"environment": {"type": "string"}, "file": {"type": "string"}},
         "additionalProperties": False, "minProperties": 1, "maxProperties": 1}
    ),
]  # fmt: skip
Name = Annotated[
    str, BeforeValidator(_printable), StringConstraints(max_length=63, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")
]
RuleName = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=140)]
Word = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=100)]
Text = Annotated[str, BeforeValidator(_printable), StringConstraints(min_length=1, max_length=255)]
InterfaceName = Annotated[
    str, BeforeValidator(_printable), StringConstraints(max_length=63, pattern=r"^[A-Za-z0-9][^\s\"'/*{}]*$")
]
Words = Many[Word]
