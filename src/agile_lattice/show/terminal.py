"""What all terminal views share: the console, the palette, a line of a file."""

from __future__ import annotations

import linecache
import os
import re
import sys
from io import TextIOBase
from typing import IO, cast

from rich.console import Console
from rich.text import Text
from rich.theme import Theme

from agile_lattice.intent.places import Place

# Blue, orange and weight: told apart without red and green, and by the words alone without any colour.
THEME = Theme(
    {
        "head": "bold",
        "place": "dim",
        "source": "dim",
        "remedy": "italic",
        "intent": "deep_sky_blue2",
        "device": "dark_orange",
        "changed": "bold deep_sky_blue2",
        "strong": "bold dark_orange",
        "calm": "deep_sky_blue2",
    }
)
PIPE_WIDTH = 120
_BLANKS = re.compile(r"[ ]+$", re.MULTILINE)


def console(file: IO[str] | None = None) -> Console:
    """Return a console for a stream: coloured on a terminal, plain elsewhere or with NO_COLOR set."""
    file = file or sys.stdout
    if file.isatty():
        return Console(file=file, theme=THEME, highlight=False)
    return Console(
        file=cast(IO[str], _Trimmed(file)), theme=THEME, highlight=False, width=PIPE_WIDTH, color_system=None
    )


class _Trimmed(TextIOBase):
    """Passes text on without the blanks that a table leaves at the ends of lines."""

    def __init__(self, file: IO[str]) -> None:
        self._file = file

    def write(self, text: str) -> int:
        self._file.write(_BLANKS.sub("", text))
        return len(text)

    def flush(self) -> None:
        self._file.flush()


def source_line(place: Place, most: int = 100) -> str:
    """Return the line of a file that a place names, trimmed; empty if there is nothing to read in it."""
    line = linecache.getline(place.file, place.line).strip() if place.line else ""
    if not any(character.isalnum() for character in line):
        return ""
    return line if len(line) <= most else line[: most - 1] + "…"


def plural(count: int, word: str, words: str = "") -> str:
    """Write a count with its word: `1 difference`, `3 differences`; `words` is for those that take no s."""
    return f"{count} {word}" if count == 1 else f"{count} {words or word + 's'}"


def located(place: Place, most: int = 38) -> Text:
    """Write a place in a narrow column: relative to here if that is shorter, and cut in front if it must be."""
    relative = str(Place(os.path.relpath(place.file), place.line))
    text = min(str(place), relative, key=len)
    return Text(text if len(text) <= most else f"…{text[1 - most :]}", style="place", no_wrap=True)
