"""What is wrong with an intent file, as text: where, what, the line with marks under the value, and what to do."""

from __future__ import annotations

import re
from collections.abc import Iterator

from agile_lattice.notation.errors import SHOWN, Fault, NotationError
from agile_lattice.show.terminal import PIPE_WIDTH, source_lines

# Near these words there may stand what must not be printed, though an intent must not hold it.
_SECRET = re.compile(r"dial|user|pass|secret|credential", re.IGNORECASE)


def fault_text(error: NotationError) -> str:
    """Return what is wrong as text, without a line break at its end."""
    lines = [line for fault in error.faults[:SHOWN] for line in _lines(fault)]
    return "\n".join([*lines, *error.rest])


def _lines(fault: Fault) -> Iterator[str]:
    yield f"{fault.place}: {fault.what}" if fault.place.file else fault.what
    source = source_lines(fault.place, PIPE_WIDTH - 8) if fault.place.column else []
    if not any(_SECRET.search(line) for line in source):
        yield from (f"    {line}" for line in source)
    if fault.remedy:
        yield f"    {fault.remedy}"
