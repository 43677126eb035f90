"""What is shared: work, and the devices that it is done for."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import msgspec

from agile_lattice.dialects.registry import Catalogue
from agile_lattice.errors import LatticeError
from agile_lattice.fleet.packed import Packed, unpacked
from agile_lattice.intent.model import Device

Texts = list[tuple[str, str]]
Captured = tuple[Device | Packed, Texts]
R = TypeVar("R")
Work = Callable[[Device, Texts, Catalogue], R]


class Failed(msgspec.Struct, frozen=True):
    """A device of which nothing comes back, and why."""

    device: str
    reason: str


def done(work: Work[R], device: Device | Packed, texts: Texts, catalogue: Catalogue) -> R | Failed:
    """Do the work for one device."""
    try:
        return work(unpacked(device), texts, catalogue)
    except LatticeError as error:
        return Failed(device.name, str(error))
