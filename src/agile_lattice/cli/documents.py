"""What `--format json` prints, command by command, and the JSON Schema of each.

Places, addresses, prefixes and sets of addresses are printed in their own way (see `output.print_json`); everything
else field by field, as the library has it.
"""

from __future__ import annotations

from typing import Any

import msgspec

from agile_lattice.behaviour.probing import ProbePlan
from agile_lattice.behaviour.walking import Walk
from agile_lattice.checks.rulebook import Finding
from agile_lattice.compare.differences import Comparison
from agile_lattice.compare.mending import Mending
from agile_lattice.compare.verdicts import Verdict
from agile_lattice.dialects import Rendered
from agile_lattice.dialects.errors import Refusal
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.trying import Trial
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import Place
from agile_lattice.plan import calculation


class Checked(msgspec.Struct, frozen=True):
    """What `lattice check` found in a network."""

    network: str
    findings: tuple[Finding, ...]


class WasRead(msgspec.Struct, frozen=True):
    """A device in the notation of an intent, by its name, and what was not understood."""

    device: dict[str, Any]
    leftovers: tuple[Leftover, ...]


class Used(msgspec.Struct, frozen=True):
    """Addresses with one use; `kind` and `holder` say what for and by whom."""

    addresses: AddressSet
    kind: str
    holder: str
    what: str
    place: Place | None


class AddressPlan(msgspec.Struct, frozen=True):
    """A block or a subnet: what it is used for, how many addresses are left, the next one, and the next run of them."""

    name: str
    prefix: Prefix
    left: int
    next: str | None
    run: str | None
    uses: tuple[Used, ...]


class Listed(msgspec.Struct, frozen=True):
    """A dialect: what it is, which sections it carries, and its file."""

    name: str
    title: str
    carries: tuple[Section, ...]
    file: str


class Tried(msgspec.Struct, frozen=True):
    """What became of a sample in a dialect, and the device that it describes, in the notation of an intent."""

    trial: Trial
    device: dict[str, Any]


DOCUMENTS: dict[str, Any] = {
    "addresses": list[AddressPlan],
    "calc mask": calculation.Mask,
    "calc subnet": calculation.Bounds,
    "calc summary": calculation.Summary,
    "calc split": list[str],
    "calc pool": calculation.Capacity,
    "check": Checked,
    "render": list[Rendered],
    "read": WasRead,
    "diff": list[Comparison],
    "mend": list[Mending],
    "prove": list[Verdict],
    "walk": Walk,
    "walk --flows": list[Walk],
    "walk --plan": ProbePlan,
    "dialects list": list[Listed],
    "dialects matrix": dict[str, dict[str, str]],
    "dialects try": Tried,
}

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
    """Say of a record that all its fields are printed, and nothing else."""
    fields = {name: {key: each for key, each in shape.items() if key != "default"} for name, shape in
              part["properties"].items()}  # fmt: skip
    return {**part, "properties": fields, "required": list(fields), "additionalProperties": False}


def json_schema(document: str) -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of what a command prints."""
    (schema,), parts = msgspec.json.schema_components(
        [DOCUMENTS[document]], schema_hook=_OTHER.__getitem__, ref_template="#/$defs/{name}"
    )
    own = {kind.__name__: shape for kind, shape in _OWN.items()}
    parts = {name: own.get(name) or _whole(part) for name, part in parts.items()}
    if Refusal.__name__ in parts:  # it is described here, and names a part that nothing else may name
        parts["Place"] = own["Place"]
    title = f"lattice {document} --format json"
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **schema, "$defs": parts}
