"""Devices as they are kept, or sent to somebody: packed, until somebody looks at them."""

from __future__ import annotations

import pickle
from hashlib import blake2b

import msgspec
from msgspec.structs import replace

from agile_lattice.intent.model import Device
from agile_lattice.intent.vocabulary import Named, Vocabulary


class Packed(msgspec.Struct, frozen=True, gc=False):
    """A device, packed.

    Attributes:
        name, speaks: As those of the device.
        digest: What tells it, with all that it refers to, from any other.
        data: The rest of it.
        named: What has a name in its intent: the same for all of its devices, so that it is not packed with each.
    """

    name: str
    speaks: tuple[str, ...]
    digest: bytes
    data: bytes
    named: tuple[Named, ...] = ()

    @property
    def device(self) -> Device:
        """The device."""
        device: Device = pickle.loads(self.data)
        return replace(device, named=self.named) if self.named else device


def packed(device: Device | Packed) -> Packed:
    """Pack a device."""
    if isinstance(device, Packed):
        return device
    names = Vocabulary.of(device.named)
    data = pickle.dumps(replace(device, named=()), pickle.HIGHEST_PROTOCOL)
    digest = blake2b(data, key=names.digest, digest_size=32).digest()
    return Packed(device.name, device.speaks, digest, data, names)


def unpacked(device: Device | Packed) -> Device:
    """Return a device, whether it is packed or not."""
    return device.device if isinstance(device, Packed) else device
