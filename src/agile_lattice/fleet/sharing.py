"""How work is shared: by nobody, by processes of this machine, or by a cluster."""

from __future__ import annotations

import gc
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from multiprocessing import get_context
from typing import Any, TypeVar

from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.fleet.packed import unpacked
from agile_lattice.fleet.store import Store, key_of
from agile_lattice.fleet.tasks import Captured, Failed, Work, done

R = TypeVar("R")
SHARES = 8  # of the devices for each process: so that none waits long for the last one


def for_each(
    work: Work[R], captured: Sequence[Captured], catalogue: Catalogue = BUILT_IN, *,
    jobs: int = 1, cluster: str = "", store: Store | None = None,
) -> Iterator[R | Failed]:  # fmt: skip
    """Do the same work for each device; one that fails does not stop the others.

    Args:
        work: What is done: a function of a module, or a `partial` of one.
        captured: The devices with their texts.
        catalogue: The dialects.
        jobs: How many processes share it.
        cluster: The address of a Dask scheduler whose workers share it instead, or `local` for one of its own.
        store: Results that were kept; what is there already is not done again.

    Yields:
        A result for each device, in their order.

    Raises:
        LatticeError: If the only device fails, or the cluster cannot be used.
    """
    keys = [key_of(work, device, texts, catalogue) if store is not None else None for device, texts in captured]
    known = [store.get(key) if store is not None and key is not None else None for key in keys]
    left = [one for one, found in zip(captured, known, strict=True) if found is None]
    answers = _answers(work, left, catalogue, min(jobs, len(left)), cluster, alone=len(captured) == 1)
    for found, key in zip(known, keys, strict=True):
        if found is not None:
            yield found
            continue
        answer = next(answers)
        if store is not None and key is not None and not isinstance(answer, Failed):
            store.put(key, answer)
        yield answer


def _answers(
    work: Work[R], captured: Sequence[Captured], catalogue: Catalogue, jobs: int, cluster: str, alone: bool
) -> Iterator[R | Failed]:
    if cluster and captured:
        from agile_lattice.fleet.cluster import on_cluster  # which takes a second to import what it needs

        yield from on_cluster(work, captured, catalogue, cluster, jobs)
    elif jobs > 1:
        yield from _in_processes(work, captured, catalogue, jobs)
    else:
        for device, texts in captured:
            if alone:
                yield work(unpacked(device), texts, catalogue)
            else:
                yield done(work, device, texts, catalogue)


def _in_processes(work: Work[R], captured: Sequence[Captured], catalogue: Catalogue, jobs: int) -> Iterator[R | Failed]:
    # Whoever begins as a copy of this process has all devices already: only their numbers are sent.
    with processes(jobs, _begin, (work, captured, catalogue)) as pool:
        share = max(1, len(captured) // (jobs * SHARES))
        yield from pool.map(_one, range(len(captured)), chunksize=share)


@contextmanager
def processes(jobs: int, begin: Callable[..., None], told: tuple[Any, ...] = ()) -> Iterator[ProcessPoolExecutor]:
    """Give so many processes to share work, each of which begins with a function and what that is told.

    When the work is done, they are waited for; when it is broken off, they are not.
    """
    ways = get_context("fork" if sys.platform == "linux" else None)
    pool = ProcessPoolExecutor(jobs, mp_context=ways, initializer=begin, initargs=told)
    try:
        yield pool
    except BaseException:
        pool.shutdown(wait=False, cancel_futures=True)
        raise
    pool.shutdown()


def heedless() -> None:
    """Take no notice of an interrupt: who began a process that shares work says when it ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


_shared: list[tuple[Work[Any], Sequence[Captured], Catalogue]] = []  # of this process, if it shares the work


def _begin(work: Work[Any], captured: Sequence[Captured], catalogue: Catalogue) -> None:
    heedless()
    _shared[:] = [(work, captured, catalogue)]
    gc.freeze()  # what came with the copy stays: to look through it again and again would copy it in truth


def _one(number: int) -> Any:
    [(work, captured, catalogue)] = _shared
    return done(work, *captured[number], catalogue)
