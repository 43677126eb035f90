"""Large intents: read on all cores, and kept file by file as they were understood.

What all devices have in common is read first. With that each file gives its devices, whoever reads it; they are packed
there, and stay so until somebody looks at them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from hashlib import blake2b
from pathlib import Path

import msgspec
from msgspec.structs import replace

from agile_lattice.fleet.packed import Packed, packed, packed_without_names, unpacked
from agile_lattice.fleet.sharing import heedless, processes
from agile_lattice.fleet.store import Store, installed
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.collector import paused_collector
from agile_lattice.notation.errors import NotationError, fail
from agile_lattice.notation.loading import intent_files, load, shaped
from agile_lattice.notation.located import read_text
from agile_lattice.notation.resolving import Common, Source, device_entries

LEAST = 2**19  # octets, below which an intent is read as quickly as it is looked up
# A line that begins anything but devices: only a file with one can say something that is for all devices.
BESIDES = re.compile(r"^(?!lattice:|devices:[ \t\r]*$|[ \t\r#]|$)", re.MULTILINE)
Text = tuple[Path, str]


class Fleet(msgspec.Struct, frozen=True, dict=True):
    """An intent of many devices, each packed until somebody looks at it.

    Attributes:
        bare: The network without its devices.
        devices: These, packed.
    """

    bare: Network
    devices: tuple[Packed, ...]

    @cached_property
    def network(self) -> Network:
        """All of it, unpacked."""
        with paused_collector():  # millions of values come, and none goes
            return replace(self.bare, devices=tuple(map(unpacked, self.devices)))


def is_large(path: str | Path) -> bool:
    """Tell whether it is worth to keep an intent.

    Raises:
        NotationError: If there is no file of one.
    """
    return sum(file.stat().st_size for file in intent_files(Path(path)) if file.exists()) >= LEAST


def load_large(path: str | Path, store: Store | None, jobs: int = 1) -> Fleet:
    """Read an intent that `notation.load` would read, or take from a store what has not changed.

    Args:
        path: A file or a folder.
        store: Where it is kept, if it is.
        jobs: How many processes share the reading of its files.

    Raises:
        NotationError: As `load` does; what is wrong is not kept.
    """
    try:
        with paused_collector():
            return _Loading([(file, read_text(file)) for file in intent_files(Path(path))], store).fleet(jobs)
    except NotationError:
        network = load(path)  # which tells all that is wrong, in order
        return Fleet(replace(network, devices=()), tuple(map(packed, network.devices)))


class _Loading:
    """One intent on its way.

    Args:
        texts: Its files, and all that they say.
        store: Where it is kept, if it is.
    """

    def __init__(self, texts: Sequence[Text], store: Store | None) -> None:
        self.texts = texts
        self.store = store
        self.read: dict[Path, Source] = {}
        self.common = Common([self.head(text) for text in texts if BESIDES.search(text[1])])
        names, common = self.common.names, self.common
        said = [names.hosts, names.networks, names.services, common.zones, common.blocks]
        self.digest = blake2b(msgspec.json.encode(said), digest_size=32).digest()

    def head(self, text: Text) -> Source:
        """Return what a file says that is for all devices."""
        key = _key(b"head", text)
        head = self.store.get(key) if self.store is not None else None
        if isinstance(head, Source):
            return head
        source = self.read[text[0]] = shaped(text[1], str(text[0]))
        parts = {name: place for name, place in (source.place.parts or {}).items() if name != "devices"}
        head = Source(source.shape.model_copy(update={"devices": {}}), replace(source.place, parts=parts))
        if self.store is not None:
            self.store.put(key, head)
        return head

    def fleet(self, jobs: int) -> Fleet:
        """Return all devices."""
        found: dict[str, Packed] = {}
        for devices in self.by_file(jobs):
            for each in devices:
                if each.name in found:
                    raise fail(Place(), f"{each.name!r} is defined twice")
                found[each.name] = replace(each, named=self.common.named)
        self.common.blocks_held_by(found)
        return Fleet(self.common.network_of(()), tuple(found.values()))

    def by_file(self, jobs: int) -> Iterator[tuple[Packed, ...]]:
        """Yield the devices of each file."""
        keys = [_key(self.digest, text) for text in self.texts]
        kept = [self.store.get(key) if self.store is not None else None for key in keys]
        missing = [at for at, devices in enumerate(kept) if devices is None and self.texts[at][0] not in self.read]
        pool = processes(min(jobs, len(missing)), _begin, (self,)) if min(jobs, len(missing)) > 1 else None
        reading = {at: pool.submit(_devices, at) for at in missing} if pool is not None else {}
        try:
            for at, (key, devices) in enumerate(zip(keys, kept, strict=True)):
                if devices is None:
                    devices = reading[at].result() if at in reading else self.devices(self.texts[at])
                    if self.store is not None:
                        self.store.put(key, devices)
                yield devices
        finally:
            if pool is not None:
                pool.shutdown(wait=False, cancel_futures=True)

    def devices(self, text: Text) -> tuple[Packed, ...]:
        """Return the devices of a file."""
        source = self.read.get(text[0]) or shaped(text[1], str(text[0]))
        if not BESIDES.search(text[1]) and source.shape.model_fields_set - {"lattice", "devices"}:
            raise fail(source.place, "it says something for all devices")
        devices: tuple[Device, ...] = self.common.devices_of(device_entries([source]))
        return tuple(packed_without_names(each, self.digest) for each in devices)


_shared: list[_Loading] = []  # of this process, if it shares the reading


def _begin(loading: _Loading) -> None:
    heedless()
    _shared[:] = [loading]


def _devices(at: int) -> tuple[Packed, ...]:
    [loading] = _shared
    with paused_collector():
        return loading.devices(loading.texts[at])


def _key(what: bytes, text: Text) -> bytes:
    """Return the key of what is understood of a file: of its name, and all that it says."""
    file, said = text
    found = blake2b(installed() + what, digest_size=32)
    found.update(f"{file}\n{said}".encode(errors="surrogateescape"))
    return found.digest()
