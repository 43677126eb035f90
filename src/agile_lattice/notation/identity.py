"""What tells an object of a device from all others of its sort, whatever it is called elsewhere or said to be for.

It is the name that the intent gives it; for what has none, what it matches. Descriptions, and how it is treated
besides, are no part of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, get_args

from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.translations import Translation
from agile_lattice.notation.plain import access_data, permit_data, route_data, translation_data

REMARKS = frozenset({"name", "description", "log", "derive"})
OF_ROUTES = ("to", "via", "interface", "discard", "instance")


def object_key(one: Any) -> str:
    """Return what tells an object from others of its sort; empty for one of another sort than these.

    Args:
        one: A route, a permit, an entry of management, or a translation.

    Example:
        `object_key(Access(services=None, arrives=("lan0",)))` is `from lan0`.
    """
    if isinstance(one, Route):
        return _text(route_data(one), OF_ROUTES)
    if isinstance(one, Permit):
        return one.name or _text(permit_data(one))
    if isinstance(one, Access):
        return one.name or _text(access_data(one))
    if isinstance(one, get_args(Translation)):
        return one.name or _text(translation_data(one))
    return ""


def _text(data: dict[str, Any], keys: Sequence[str] = ()) -> str:
    kept = {key: value for key, value in data.items() if (key in keys if keys else key not in REMARKS)}
    return ", ".join(f"{key} {_spelt(value)}" for key, value in kept.items()) or "everything"


def _spelt(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return " ".join(map(_spelt, value))
    if isinstance(value, dict):
        return " ".join(f"{key} {_spelt(each)}" for key, each in value.items())
    return str(value)
