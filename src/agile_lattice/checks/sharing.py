"""Checks shared among processes: each of them looks at the whole network, so what is shared is the checks."""

from __future__ import annotations

import signal
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from typing import TypeVar, cast

from agile_lattice.checks.design import Design

F = TypeVar("F")
Find = Callable[[Design], Iterable[F]]
_shared: list[tuple[Design, Sequence[Find[object]]]] = []  # what a process finds that begins as a copy of this one


def found_by(finders: Sequence[Find[F]], design: Design, jobs: int) -> Iterator[list[F]]:
    """Yield what each of some checks finds.

    Args:
        finders: What they find things with.
        design: The network.
        jobs: How many processes share them, where a process can begin as a copy of another one.
    """
    if jobs == 1 or sys.platform != "linux":
        yield from ([*find(design)] for find in finders)
        return
    _shared[:] = [(design, finders)]
    pool = ProcessPoolExecutor(jobs, mp_context=get_context("fork"), initializer=_begin)
    try:
        yield from cast(Iterator[list[F]], pool.map(_found, range(len(finders))))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
        _shared.clear()


def _begin() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who began it all says when it ends


def _found(number: int) -> list[object]:
    design, finders = _shared[0]
    return [*finders[number](design)]
