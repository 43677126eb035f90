"""The garbage collector of the interpreter, out of the way while many values are made that all stay."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_collection() -> Iterator[None]:
    """Keep the collector off ever more live values: it would take a third of the time and find nothing."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
