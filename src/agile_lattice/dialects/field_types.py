"""What the fields of facts hold: which constants and which kinds fit them, and what is said of them.

It follows from the types of the records. A wrong word in a dialect file is found when the file is loaded, with those
that would have been right; else it would become a wrong value in somebody's configuration.
"""

from __future__ import annotations

from collections.abc import Hashable
from difflib import get_close_matches
from functools import cache
from types import NoneType, UnionType
from typing import Any, Literal, Union, cast, get_args, get_origin, get_type_hints

from agile_lattice.dialects.fact_types import FactType
from agile_lattice.dialects.kinds import Kind
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.services import PROTOCOLS
from agile_lattice.packets.spans import Spans

# Fields of text that only some words make sense in.
_WORDS = {"protocol": PROTOCOLS}
_PARTS: dict[str, type] = {"ip": Address, "length": int}
_NAMES: dict[Any, str] = {
    str: "text", int: "a number", bool: "true or false", Address: "an address", Prefix: "a prefix",
    AddressSet: "a set of addresses", Spans: "a set of ports", tuple[str, ...]: "a set of names",
    tuple[Prefix, ...]: "prefixes",
}  # fmt: skip


def types_of(fact: FactType, field: str) -> tuple[Any, ...]:
    """Return the types of a field, without None: literals as their values, as in `("arrival", "departure")`."""
    if field in _WORDS:
        return _WORDS[field]
    return tuple(_alternatives(_hints(cast(Hashable, fact.record))[field]))


@cache  # there are some thirty records, and a dialect asks a thousand times
def _hints(record: Any) -> dict[str, Any]:
    return get_type_hints(record)


def _alternatives(hint: Any) -> list[Any]:
    origin = get_origin(hint)
    if origin is Literal:
        return list(get_args(hint))
    if origin in (Union, UnionType):
        return [one for part in get_args(hint) for one in _alternatives(part)]
    return [] if hint is NoneType else [hint]


def described(types: tuple[Any, ...]) -> str:
    """Say what a field holds: `one of arrival, departure`, `a number`."""
    words = [each for each in types if isinstance(each, str)]
    others = [_NAMES.get(each, getattr(each, "__name__", str(each))) for each in types if not isinstance(each, str)]
    return " or ".join([f"one of {', '.join(words)}"] * bool(words) + others)


def check_constant(fact: FactType, field: str, value: Any) -> None:
    """Make sure that a constant of a phrase is a value of its field.

    Raises:
        ValueError: With what would be right.
    """
    fact = _with(fact, field)
    types = types_of(fact, field)
    if not any(_is(value, each) for each in types):
        raise ValueError(
            f"{field}={type_words(value)}: {fact.name}.{field} holds {described(types)}{_near(value, types)}"
        )


def check_kind(fact: FactType, field: str, part: str, kind: Kind, many: bool) -> None:
    """Make sure that what a kind reads is a value of the field, or of a part of it, that a placeholder names.

    Args:
        fact: The fact.
        field: What the placeholder names.
        part: The part of it that it names; empty for all.
        kind: Its kind.
        many: Whether it takes a list.

    Raises:
        ValueError: With what would be right.
    """
    fact = _with(fact, field)
    types = types_of(fact, field)
    where = f"{fact.name}.{field}"
    if part:
        if Prefix not in types:
            raise ValueError(f"<{field}.{part}>: {where} holds {described(types)}, which has no parts")
        types, where = (_PARTS[part],), f"{where}.{part}"
    if many and not any(each is AddressSet or get_origin(each) is tuple for each in types):
        raise ValueError(f"<{field},> takes a list: {where} holds one value, {described(types)}")
    for value in kind.constants:
        if not any(_is(value, each) for each in types):
            right = described(types) + _near(value, types)
            raise ValueError(f"<{field}:{kind.name}> reads {type_words(value)}: {where} holds {right}")
    if kind.gives is not None and not any(_takes(each, kind.gives) for each in types):
        raise ValueError(
            f"<{field}:{kind.name}> reads {_NAMES.get(kind.gives, kind.gives)}: {where} holds {described(types)}"
        )


def _with(fact: FactType, field: str) -> FactType:
    """Return the part of a kind that has a field."""
    return next((each for each in fact.parts if field in each.fields), fact)


def _takes(wanted: Any, given: Any) -> bool:
    # What stands for a protocol may be the name of a service that is declared apart.
    return bool(wanted == given or (given is str and wanted in PROTOCOLS))


def _is(value: Any, wanted: Any) -> bool:
    if isinstance(wanted, str):
        return bool(value == wanted)
    if wanted is int:
        return isinstance(value, int) and not isinstance(value, bool)
    origin = get_origin(wanted)
    return isinstance(value, origin or wanted)


def type_words(value: Any) -> str:
    """Return a value as a dialect file has it."""
    return {True: "true", False: "false"}.get(value, str(value)) if isinstance(value, bool) else str(value)


def _near(value: Any, types: tuple[Any, ...]) -> str:
    near = get_close_matches(str(value), [each for each in types if isinstance(each, str)], 1)
    return f"; did you mean {near[0]}?" if near else ""
