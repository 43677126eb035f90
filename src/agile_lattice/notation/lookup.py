"""Devices of a network by their names, and what to say of a name that is none."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import get_close_matches
from typing import Protocol, TypeVar

from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.notation.errors import fail

MOST_NAMES = 6  # in one line


class HasName(Protocol):
    """A device, or what stands for one."""

    @property
    def name(self) -> str:
        """What it is called."""


N = TypeVar("N", bound=HasName)


def device_named(devices: Sequence[N], name: str, place: Place = NOWHERE) -> N:
    """Return one of the devices of an intent.

    Raises:
        NotationError: If there is none of that name.
    """
    device = next((each for each in devices if each.name == name), None)
    if device is None:
        known = [each.name for each in devices]
        near = get_close_matches(name, known, 1)
        raise fail(
            place, f"the intent has no device {name!r}",
            f"Did you mean {near[0]!r}?" if near else f"It has {few_names(known) or 'none at all'}.",
        )  # fmt: skip
    return device


def few_names(names: Sequence[str]) -> str:
    """Return the first of some names, and how many more there are."""
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return f"{', '.join(names[:MOST_NAMES])}{more}"


def chosen_devices(devices: Sequence[N], names: Sequence[str] | None) -> list[N]:
    """Return the devices of these names, or all if there are no names.

    Raises:
        NotationError: If a name is unknown, or there is no device at all.
    """
    if names:
        return [device_named(devices, name) for name in names]
    if not devices:
        raise fail(NOWHERE, "the intent has no devices", "Describe one under `devices`.")
    return list(devices)
