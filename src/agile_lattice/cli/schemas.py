"""The JSON Schema of what `--format json` prints.

Places, addresses, prefixes and sets of addresses are printed in their own way (see `output.print_json`); everything
else field by field, as the library has it.
"""

from __future__ import annotations

from inspect import cleandoc
from typing import Any

import msgspec

from agile_lattice.dialects.errors import Refusal
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import Place

_WRITTEN = {"type": "string"}
_OWN: dict[type, dict[str, Any]] = {
    Place: {
        "title": "Place",
        "description": "A position in a file: lines and columns count from 1, and a column only stands with a value.",
        "type": ["object", "null"],
        "properties": {
            "file": {"type": "string"},
            "line": {"type": "integer", "minimum": 1},
            "column": {"type": "integer", "minimum": 1},
        },
        "required": ["file", "line"],
        "additionalProperties": False,
    },
    Address: {**_WRITTEN, "title": "Address", "description": "An address, as 203.0.113.5 or 2001:db8::5."},
    Prefix: {**_WRITTEN, "title": "Prefix", "description": "An address and a prefix length, as 203.0.113.5/28."},
    AddressSet: {**_WRITTEN, "title": "AddressSet", "description": "Addresses, prefixes and ranges, with commas."},
}

_OTHER: dict[type, dict[str, Any]] = {
    Refusal: {
        "type": "object",
        "description": "What a dialect cannot express: the object, the key of its field, where, and why.",
        "properties": {
            **{key: {"type": "string"} for key in ("dialect", "subject", "field", "reason")},
            "place": {"$ref": "#/$defs/Place"},
        },
        "required": ["dialect", "subject", "field", "place", "reason"],
        "additionalProperties": False,
    },
}


def _whole(part: dict[str, Any]) -> dict[str, Any]:
    """Say of a record that all its fields are printed, and nothing else.

    The indentation of a docstring goes: some versions of msgspec keep it and some do not.
    """
    fields = {name: {key: each for key, each in shape.items() if key != "default"} for name, shape in
              part["properties"].items()}  # fmt: skip
    told = {"description": cleandoc(part["description"])} if "description" in part else {}
    return {**part, **told, "properties": fields, "required": list(fields), "additionalProperties": False}


def json_schema(document: str, printed: Any) -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of what a command prints.

    Args:
        document: What is typed.
        printed: The type of what is printed.
    """
    (schema,), parts = msgspec.json.schema_components(
        [printed], schema_hook=_OTHER.__getitem__, ref_template="#/$defs/{name}"
    )
    own = {kind.__name__: shape for kind, shape in _OWN.items()}
    parts = {name: own.get(name) or _whole(part) for name, part in parts.items()}
    if Refusal.__name__ in parts:  # it is described here, and names a part that nothing else may name
        parts["Place"] = own["Place"]
    title = f"lattice {document} --format json"
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **schema, "$defs": parts}
