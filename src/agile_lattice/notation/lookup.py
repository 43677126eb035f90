"""Devices of a network by their names, and what to say of a name that is none."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import get_close_matches

from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.notation.errors import fail


def device_named(network: Network, name: str, place: Place = NOWHERE) -> Device:
    """Return a device of an intent.

    Raises:
        NotationError: If there is none of that name.
    """
    device = network.find_device(name)
    if device is None:
        known = [each.name for each in network.devices]
        near = get_close_matches(name, known, 1)
        raise fail(
            place, f"the intent has no device {name!r}",
            f"Did you mean {near[0]!r}?" if near else f"It has {', '.join(known) or 'none at all'}.",
        )  # fmt: skip
    return device


def chosen_devices(network: Network, names: Sequence[str] | None) -> list[Device]:
    """Return the devices of these names, or all if there are no names.

    Raises:
        NotationError: If a name is unknown, or there is no device at all.
    """
    if names:
        return [device_named(network, name) for name in names]
    if not network.devices:
        raise fail(NOWHERE, "the intent has no devices", "Describe one under `devices`.")
    return list(network.devices)
