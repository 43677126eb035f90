"""How work is shared: by nobody, by processes of this machine, or by a cluster."""

from __future__ import annotations

import gc
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.fleet.packed import unpacked
from agile_lattice.fleet.store import Store, key_of
from agile_lattice.fleet.tasks import Captured, Failed, Work, done

if TYPE_CHECKING:
    from concurrent.futures import ProcessPoolExecutor

T = TypeVar("T")
A = TypeVar("A")
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
    elif alone:
        for device, texts in captured:
            yield work(unpacked(device), texts, catalogue)
    else:
        share = max(1, len(captured) // (max(jobs, 1) * SHARES))
        yield from side_by_side(_one, (work, captured, catalogue), range(len(captured)), jobs, share)


def _one(about: tuple[Work[R], Sequence[Captured], Catalogue], number: int) -> R | Failed:
    work, captured, catalogue = about
    return done(work, *captured[number], catalogue)


def side_by_side(do: Callable[[T, A], R], about: T, members: Sequence[A], jobs: int, at_once: int = 1) -> Iterator[R]:
    """Do something for each of some members; what comes back is in their order.

    Args:
        do: What is done: a function, or a method of what it is about, that other processes find by its name.
        about: What all of it is about. Processes begin with it, so that it is not sent with each member.
        members: Those that it is done for.
        jobs: How many processes share it.
        at_once: How many members a process takes before it hands over what comes of them.
    """
    if jobs < 2 or len(members) < 2:
        yield from (do(about, each) for each in members)
        return
    with _processes(min(jobs, len(members)), about) as pool:
        yield from pool.map(partial(_done, do), members, chunksize=at_once)


def as_they_come(do: Callable[[T, A], R], about: T, members: Sequence[A], jobs: int) -> Iterator[tuple[A, R]]:
    """Do something for each of some members, begun in their order, as `side_by_side` does.

    Yields:
        A member and what comes back for it, as soon as it does.
    """
    if jobs < 2 or len(members) < 2:
        yield from ((each, do(about, each)) for each in members)
        return
    from concurrent.futures import as_completed

    with _processes(min(jobs, len(members)), about) as pool:
        doing = {pool.submit(_done, do, each): each for each in members}
        for future in as_completed(doing):
            yield doing[future], future.result()


@contextmanager
def _processes(jobs: int, about: object) -> Iterator[ProcessPoolExecutor]:
    """Give processes that know what something is about; when it is broken off, they are not waited for."""
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    ways = get_context("fork" if sys.platform == "linux" else None)
    pool = ProcessPoolExecutor(jobs, mp_context=ways, initializer=_begin, initargs=(about,))
    try:
        yield pool
    except BaseException:
        pool.shutdown(wait=False, cancel_futures=True)
        raise
    pool.shutdown()


_about: list[Any] = []  # of this process, if it shares something


def _begin(about: object) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who began it all says when it ends
    _about[:] = [about]
    gc.freeze()  # what came with the copy stays: to look through it again and again would copy it in truth


def _done(do: Callable[[T, A], R], member: A) -> R:
    [about] = _about
    return do(about, member)
