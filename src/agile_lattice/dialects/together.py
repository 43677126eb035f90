"""Kinds of facts that one statement says together: an interface with its address and its zone, on one line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any

import msgspec

from agile_lattice.dialects.fact_types import FACTS, FactType
from agile_lattice.dialects.facts import Fact
from agile_lattice.intent.places import NOWHERE


@lru_cache(256)
def together(names: tuple[str, ...]) -> FactType:
    """Return the kind of facts that hold one of each of several kinds.

    Args:
        names: The kinds. The first leads: there is always one of it, and of each other one or none. They belong
            together by the values of the fields that they have in common.

    Raises:
        ValueError: If one has nothing in common with the first.
    """
    kinds = tuple(FACTS[name] for name in names)
    lead = kinds[0]
    for each in kinds[1:]:
        if each.name in {lead.name} or not {*each.fields} & {*lead.fields}:
            raise ValueError(f"one statement cannot say {lead.name} and {each.name}: they have no field in common")
    fields = tuple(dict.fromkeys(name for each in kinds for name in each.fields))
    defaults = lead.defaults
    record = msgspec.defstruct(
        "Together", [*((name, Any, defaults.get(name)) for name in fields), ("place", Any, NOWHERE)]
    )
    keys = {name: path for each in kinds[::-1] for name, path in each.keys.items()}
    return FactType(
        ", ".join(names), record, lead.section, fields, lambda one: tuple(_traits(kinds, fields, one)), lead.key,
        lead.holds, lead.words, keys, kinds,
    )  # fmt: skip


def parted(kinds: Sequence[FactType], fields: Mapping[str, Any]) -> Iterator[tuple[FactType, dict[str, Any]]]:
    """Part what a statement says among its facts; one of which nothing of its own is said is none.

    Args:
        kinds: The kinds, the leading one first.
        fields: Values by field; of a part of a field as `address.ip`.
    """
    shared = {*kinds[0].fields}
    for kind in kinds:
        own = {name: value for name, value in fields.items() if name.partition(".")[0] in kind.fields}
        if kind is kinds[0] or any(name.partition(".")[0] not in shared for name in own):
            yield kind, own


def joined(kind: FactType, facts: Iterable[Fact | None]) -> Any:
    """Return one fact of several, of each of the parts of a kind one or none, the leading one first."""
    values: dict[str, Any] = {}
    for part, fact in zip(kind.parts, facts, strict=True):
        if fact is not None:
            values.update({name: getattr(fact, name) for name in part.fields if name not in values})
            values.setdefault("place", fact.place)
    return kind.record(**values)


def _traits(kinds: Sequence[FactType], fields: Sequence[str], one: Any) -> Iterator[Any]:
    """Yield the trait of each field of facts that were joined."""
    said = {name: value for name in fields if (value := getattr(one, name)) is not None}
    found: dict[str, Any] = {}
    for kind, own in parted(kinds, said):
        for name, trait in zip(kind.fields, kind.traits(kind.record(**own)), strict=True):
            found.setdefault(name, trait)
    return (found.get(name) for name in fields)
