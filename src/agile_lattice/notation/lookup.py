"""Devices of a network by their names, and what to say of a name that is none."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import get_close_matches
from typing import Protocol, TypeVar

from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.notation.errors import fail

SHOWN = 20  # names in a message


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
            f"Did you mean {near[0]!r}?" if near else f"It has {_some(known) or 'none at all'}.",
        )  # fmt: skip
    return device


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN else ""
    return f"{', '.join(names[:SHOWN])}{more}"


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
