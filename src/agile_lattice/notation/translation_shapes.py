"""The shape of a translation in an intent file."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from agile_lattice.notation.values import IPAddress, IPEnd, RuleName, Shape, Text, Word, Words, key_of

_MATCH = {"from_", "to", "source", "destination", "service"}
KINDS = {
    "exempt": _MATCH | {"at", "for_"},
    "publish": {"on", "facing", "source", "service", "internal_port", "dns_answers", "hairpin"},
    "static": {"on", "facing", "direction", "dns_answers", "hairpin"},
    "source_becomes": _MATCH | {"destination_becomes"},
    "intercept": _MATCH - {"to"} | {"port"},
}


class PoolShape(Shape):
    """External addresses for a dynamic translation."""

    pool: Words
    ports: Literal["shared", "kept"] = "shared"
    reserve: dict[Word, IPAddress] = Field({}, description="Internal hosts that always get the same address.")


class GoalShape(Shape):
    """What an exemption is for."""

    peer: Words | None = None
    service: Words | None = None


class TranslationShape(Shape):
    """A translation; exactly one of `exempt`, `publish`, `static`, `source-becomes` and `intercept` says which kind."""

    name: RuleName | None = None
    description: Text | None = None
    exempt: Literal[True, "interface", "device"] | None = None
    publish: Words | None = Field(
        None, description="External addresses; `interface` or `device` for those that it has, whatever they are."
    )
    static: IPEnd | None = None
    source_becomes: Literal["interface"] | PoolShape | None = None
    destination_becomes: Word | None = None
    intercept: Literal[True] | None = Field(None, description="The device takes packets to others for itself.")
    port: Annotated[int, Field(ge=1, le=65535)] | None = Field(None, description="On which it takes them.")
    on: Word | None = None
    facing: Words | None = None
    direction: Literal["both", "outbound", "inbound"] | None = None
    from_: Words | None = None
    to: Words | None = None
    source: Words | None = None
    destination: Words | None = None
    service: Words | None = None
    internal_port: Annotated[int, Field(ge=1, le=65535)] | None = None
    dns_answers: Literal["kept", "rewritten"] | None = None
    hairpin: Words | None = None
    at: Literal["arrival", "departure", "both"] | None = None
    for_: GoalShape | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> TranslationShape:
        said = [kind for kind in KINDS if getattr(self, kind) is not None]
        if len(said) != 1:
            raise ValueError(
                "a translation is one of `exempt: true`, `publish: ADDRESSES`, `static: ADDRESS`, "
                "`source-becomes: ...`, `intercept: true`"
            )
        [kind] = said
        for field in sorted(self.model_fields_set - KINDS[kind] - {"name", "description", kind}):
            raise ValueError(f"`{key_of(field)}` does not go with `{key_of(kind)}`")
        if "on" in KINDS[kind] and self.on is None:
            raise ValueError(f"`{kind}` needs `on`: the internal host")
        if self.to and self.at in ("arrival", "both"):
            raise ValueError("on arrival the egress interface is not known yet: leave `at` or `to` out")
        if self.destination_becomes and not self.destination:
            raise ValueError("`destination-becomes` needs `destination`: the address that the sender uses")
        return self
