"""A round: the configuration of many devices, fetched several at a time. What fails does not stop the others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path
from typing import TypeVar

import msgspec

from agile_lattice.dialects.registry import Catalogue
from agile_lattice.intent.model import Device
from agile_lattice.transport.capturing import capture, session_of
from agile_lattice.transport.errors import TransportError

AT_ONCE = 16  # connections
R = TypeVar("R")


class Captured(msgspec.Struct, frozen=True):
    """What came of a device.

    Attributes:
        device: Its name.
        texts: Its configuration, by file name; empty if it could not be fetched.
        cause: Why not, in words that several devices may share; empty if it was.
        detail: What was said of that, and what to do; may be empty.
    """

    device: str
    texts: dict[str, str] = {}
    cause: str = ""
    detail: str = ""


def captured_round(devices: Iterable[Device], catalogue: Catalogue, folder: Path, seal: bytes) -> Iterator[Captured]:
    """Fetch the configuration of devices, and yield what comes of each as soon as it is there.

    Args:
        devices: The devices; each has to say how it is reached.
        catalogue: Where their dialects are looked up.
        folder: Where file names of connections begin.
        seal: The key by which secrets are made unreadable.
    """
    return at_once(devices, lambda device: _captured(device, catalogue, folder, seal))


def at_once(devices: Iterable[Device], ask: Callable[[Device], R]) -> Iterator[R]:
    """Ask devices several at a time, and yield what comes of each as soon as it is there."""
    with ThreadPoolExecutor(AT_ONCE) as pool:
        waiting = [pool.submit(ask, each) for each in devices]
        try:
            for done in as_completed(waiting):
                yield done.result()
        finally:
            pool.shutdown(cancel_futures=True)


def _captured(device: Device, catalogue: Catalogue, folder: Path, seal: bytes) -> Captured:
    try:
        if device.connection is None:
            raise TransportError(device.name, "the intent does not say how it is reached", remedy="Say `connection`.")
        dialects = [catalogue.dialect(each) for each in device.speaks]
        session = session_of(device.name, device.connection, folder, dialects)
        return Captured(device.name, capture(session, dialects, seal))
    except TransportError as error:
        return Captured(device.name, cause=error.cause, detail=". ".join(filter(None, (error.detail, error.remedy))))
