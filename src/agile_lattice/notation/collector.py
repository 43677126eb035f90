"""The collector of the interpreter, which has nothing to find while very much is made that stays."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def paused_collector() -> Iterator[None]:
    """Keep the collector from going over all that has been made, again and again: it takes as long as the making."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
