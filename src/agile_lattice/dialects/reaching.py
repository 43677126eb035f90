"""Which fields of an intent each value of a text reaches: those that are others, or not there, if it is not read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import islice, takewhile
from typing import Any

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.reading.understanding import Trace, Value
from agile_lattice.intent.model import Device
from agile_lattice.notation.plain import device_data

Path = tuple[str, ...]
MOST = 400  # values that are tried: each is a reading by itself


class Reached(msgspec.Struct, frozen=True):
    """A value of a text.

    Attributes:
        line: Its line, from 1.
        field: The field of a fact that its dialect reads it as.
        value: The value, in words.
        at: The field of the intent that it reaches, from the device on: `interfaces.lan0.mtu`. Empty if the intent is
            the same without it, since it says what goes without saying, or since it is lost.
    """

    line: int
    field: str
    value: str
    at: str


def reached(trace: Trace, read: Callable[[Value | None], Device]) -> tuple[Reached, ...]:
    """Find out which field of the intent each value reaches: the text is read again without it.

    Args:
        trace: What became of the statements.
        read: Reads the text, but for one value.

    Returns:
        The values in order of lines; of a large text the first `MOST`.
    """
    values = sorted({value for each in trace.values() for value in each.values})[:MOST]
    whole = _fields_of(read(None)) if values else {}
    found = []
    for value in values:
        try:
            rest = _fields_of(read(value))
        except CaptureError:
            rest = {}
        gone = [path for path in whole if whole[path] != rest.get(path)]
        found.append(Reached(value.line, value.field, value.text, _common(gone or [*rest.keys() - whole.keys()])))
    return tuple(found)


def _fields_of(device: Device) -> dict[Path, str]:
    return dict(_fields({"name": device.name, **device_data(device)}))


def _fields(data: Any, path: Path = ()) -> Iterator[tuple[Path, str]]:
    """Yield the fields of what is in the notation; entries of lists go by what they say first."""
    if isinstance(data, Mapping):
        yield path, ""
        for key, each in data.items():
            yield from _fields(each, (*path, str(key)))
    elif isinstance(data, list | tuple):
        firsts = Counter(_first(each, 1) for each in data)
        for each in data:
            alone = firsts[_first(each, 1)] == 1
            yield from _fields(each, (*path, _first(each, 1 if alone else 2)))
    else:
        yield path, str(data)


def _first(entry: Any, count: int) -> str:
    return " ".join(map(str, islice(entry.values(), count))) if isinstance(entry, Mapping) else str(entry)


def _common(paths: Sequence[Path]) -> str:
    """Return how paths begin alike, in the words of an intent; of those that do not, the first. Empty for none."""
    steps = [one for one, *_ in takewhile(lambda step: len({*step}) == 1, zip(*paths, strict=False))]
    return ".".join(steps) if steps or not paths else f"{'.'.join(paths[0][:2])} and others"
