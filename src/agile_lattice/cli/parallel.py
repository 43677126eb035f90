"""The same work for many devices, on all cores; what comes back is in the order of the devices, as on one core."""

from __future__ import annotations

import os
import signal
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Generic, TypeVar

import msgspec

from agile_lattice.cli.options import count
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.errors import LatticeError
from agile_lattice.intent.model import Device
from agile_lattice.show.terminal import with_progress

Texts = list[tuple[str, str]]
Captured = tuple[Device, Texts]
R = TypeVar("R")
MANY = 24  # devices, below which it takes longer to start other processes than to do the work
SHARES = 8  # of the devices for each process: so that none waits long for the last one


class Failed(msgspec.Struct, frozen=True):
    """A device of which nothing comes back, and why."""

    device: str
    reason: str


class Done(msgspec.Struct, Generic[R], frozen=True):
    """What came back of all devices of which something did, and the others."""

    results: tuple[R, ...]
    failed: tuple[Failed, ...]

    def told(self, code: int) -> int:
        """Print why devices failed; return the exit code, that of an error if some did."""
        for each in self.failed:
            print(f"lattice: {each.device}: {each.reason}", file=sys.stderr)
        return 2 if self.failed else code


def add_jobs(command: ArgumentParser) -> None:
    """Add how many processes share the work."""
    command.add_argument(
        "--jobs",
        metavar="N",
        type=count,
        help="how many processes share the work (default: all cores, for many devices)",
    )


def for_each(
    work: Callable[[Device, Texts, Catalogue], R], captured: Sequence[Captured], arguments: Namespace, what: str
) -> Done[R]:
    """Do the same work for each device; one that fails does not stop the others, unless it is alone.

    Args:
        work: What is done: a function of a module, since other processes have to find it.
        captured: The devices with their texts.
        arguments: Of the command: `intent` and `jobs`.
        what: What is done, in a word for the bar that tells how far it is.
    """
    jobs = arguments.jobs or (os.cpu_count() or 1 if len(captured) >= MANY else 1)
    jobs = min(jobs, len(captured))
    answers = _alone(work, captured, arguments.intent) if jobs == 1 else _shared(work, captured, arguments.intent, jobs)
    found = list(with_progress(answers, what, len(captured)))
    failed = tuple(each for each in found if isinstance(each, Failed))
    return Done(tuple(each for each in found if not isinstance(each, Failed)), failed)


def _alone(
    work: Callable[[Device, Texts, Catalogue], R], captured: Sequence[Captured], intent: str
) -> Iterator[R | Failed]:
    catalogue = catalogue_beside(Path(intent))
    for device, texts in captured:
        try:
            yield work(device, texts, catalogue)
        except LatticeError as error:
            if len(captured) == 1:
                raise
            yield Failed(device.name, str(error))


def _shared(
    work: Callable[[Device, Texts, Catalogue], R], captured: Sequence[Captured], intent: str, jobs: int
) -> Iterator[R | Failed]:
    ways = get_context("fork" if sys.platform == "linux" else None)
    pool = ProcessPoolExecutor(jobs, mp_context=ways, initializer=_begin, initargs=(intent,))
    try:
        share = max(1, len(captured) // (jobs * SHARES))
        yield from pool.map(_one, [(work, device, texts) for device, texts in captured], chunksize=share)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


_catalogue: list[Catalogue] = []  # of this process, if it is one that shares the work


def _begin(intent: str) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who began it all says when it ends
    _catalogue[:] = [catalogue_beside(Path(intent))]


def _one(task: tuple[Callable[[Device, Texts, Catalogue], R], Device, Texts]) -> R | Failed:
    work, device, texts = task
    try:
        return work(device, texts, _catalogue[0])
    except LatticeError as error:
        return Failed(device.name, str(error))
