"""Large intents: read on all cores, and kept file by file as they were understood.

What is said for all devices is read first. With that each file gives its devices, whoever reads it; they are packed
there, and stay so until somebody looks at them. Whatever is unusual, or wrong, is left to `notation.load`.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from functools import cached_property
from hashlib import blake2b
from pathlib import Path

import msgspec
from msgspec.structs import replace

from agile_lattice.fleet.packed import Packed, packed, unpacked
from agile_lattice.fleet.sharing import side_by_side
from agile_lattice.fleet.store import Store, installed
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.collector import paused_collector
from agile_lattice.notation.errors import NotationError, fail
from agile_lattice.notation.loading import intent_files, load, shaped
from agile_lattice.notation.located import read_text
from agile_lattice.notation.resolving import Common, Source, device_entries

LEAST = 2**19  # octets, below which an intent is read as quickly as it is looked up
SECTION = re.compile(r"\n(\w+):")  # a key of an intent file in its usual layout, where a line ends before it
ODD_BREAKS = "\x85\u2028\u2029"  # which YAML counts as ends of lines, too


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
            return _Loading([_file(each, read_text(each)) for each in intent_files(Path(path))], store).fleet(jobs)
    except NotationError:
        network = load(path)  # which tells all that is wrong, in order
        return Fleet(replace(network, devices=()), tuple(map(packed, network.devices)))


class _File(msgspec.Struct):
    """A file of an intent.

    Attributes:
        path: Its path.
        head, devices: What it says for all devices, and of them: the lines of the other part are empty. Where a file
            cannot be parted, both are all that it says.
    """

    path: Path
    head: str
    devices: str


def _file(path: Path, text: str) -> _File:
    """Part a file by its keys; what is unusual about its layout comes to light when the parts are read."""
    starts = [*SECTION.finditer(f"\n{text}")]  # so that each starts where its key does
    keys = [each[1] for each in starts]
    odd = text.count("\r") > text.count("\r\n") or any(each in text for each in ODD_BREAKS)
    if odd or "lattice" not in keys or len({*keys}) < len(keys):
        return _File(path, text, text)
    ends = [each.start() for each in starts[1:]] + [len(text)]
    pieces = [text[each.start() : end] for each, end in zip(starts, ends, strict=True)]
    parts = [("lattice", text[: starts[0].start()]), *zip(keys, pieces, strict=True)]
    return _File(path, _only(parts, {*keys} - {"devices"}), _only(parts, {"lattice", "devices"}))


def _only(parts: Sequence[tuple[str, str]], keys: Collection[str]) -> str:
    """Return the parts of some keys, each in its lines; behind the last one there is nothing."""
    last = max(at for at, (key, _) in enumerate(parts) if key in keys)
    return "".join(text if key in keys else "\n" * text.count("\n") for key, text in parts[: last + 1])


class _Loading:
    """One intent on its way.

    Args:
        files: Its files.
        store: Where it is kept, if it is.
    """

    def __init__(self, files: Sequence[_File], store: Store | None) -> None:
        self.files, self.store = files, store
        self.common = Common([self._head(file) for file in files])
        names = self.common.names
        said = [names.hosts, names.networks, names.services, self.common.zones, self.common.blocks]
        self.digest = blake2b(msgspec.json.encode(said), digest_size=32).digest()

    def _head(self, file: _File) -> Source:
        """Return what a file says that is for all devices."""
        key = _key(b"head", file, file.head)
        head = self.store.get(key) if self.store is not None else None
        if isinstance(head, Source):
            return head
        source = shaped(file.head, str(file.path))
        if source.shape.devices and file.head != file.devices:
            raise fail(source.place, "it is not laid out as it seems")
        parts = {name: place for name, place in (source.place.parts or {}).items() if name != "devices"}
        head = Source(source.shape.model_copy(update={"devices": {}}), replace(source.place, parts=parts))
        if self.store is not None:
            self.store.put(key, head)
        return head

    def fleet(self, jobs: int) -> Fleet:
        """Return all of it."""
        found: dict[str, Packed] = {}
        for devices in self._by_file(jobs):
            for each in devices:
                if each.name in found:
                    raise fail(Place(), f"{each.name!r} is defined twice")
                found[each.name] = replace(each, named=self.common.named)
        self.common.check_holders(found)
        return Fleet(self.common.network_of(()), tuple(found.values()))

    def _by_file(self, jobs: int) -> Iterator[tuple[Packed, ...]]:
        """Yield the devices of each file."""
        keys = [_key(self.digest, file, file.devices) for file in self.files]
        kept = [self.store.get(key) if self.store is not None else None for key in keys]
        missing = [file for file, devices in zip(self.files, kept, strict=True) if devices is None]
        read = side_by_side(_Loading.devices, self, missing, jobs)
        for key, devices in zip(keys, kept, strict=True):
            if devices is None:
                devices = next(read)
                if self.store is not None:
                    self.store.put(key, devices)
            yield devices

    def devices(self, file: _File) -> tuple[Packed, ...]:
        """Return the devices of a file, packed."""
        with paused_collector():
            source = shaped(file.devices, str(file.path))
            if source.shape.model_fields_set - {"lattice", "devices"} and file.head != file.devices:
                raise fail(source.place, "it is not laid out as it seems")
            devices = self.common.devices_of(device_entries([source]))
            return tuple(replace(packed(each), named=()) for each in devices)  # which whoever gets them has


def _key(what: bytes, file: _File, text: str) -> bytes:
    """Return the key of what is understood of a file: of its name, and of that part of what it says."""
    found = blake2b(installed() + what, digest_size=32)
    found.update(f"{file.path}\n{text}".encode(errors="surrogateescape"))
    return found.digest()
