"""What all terminal views share: the console, the palette, a line of a file."""

from __future__ import annotations

import linecache
from typing import IO

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
        "intent": "bright_blue",
        "device": "dark_orange",
        "strong": "bold dark_orange",
        "calm": "bright_blue",
    }
)
PIPE_WIDTH = 120


def console(file: IO[str] | None = None) -> Console:
    """Return a console for a stream: coloured on a terminal, plain elsewhere or with NO_COLOR set."""
    plain = Console(file=file, theme=THEME, highlight=False, soft_wrap=False)
    if not plain.is_terminal:
        return Console(file=file, theme=THEME, highlight=False, width=PIPE_WIDTH, color_system=None)
    return plain


def source_line(place: Place, most: int = 100) -> str:
    """Return the line of a file that a place names, trimmed; empty if there is nothing to read in it."""
    line = linecache.getline(place.file, place.line).strip() if place.line else ""
    if not any(character.isalnum() for character in line):
        return ""
    return line if len(line) <= most else line[: most - 1] + "…"


def plural(count: int, word: str) -> str:
    """Write a count with its word: `1 difference`, `3 differences`."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def located(place: Place) -> Text:
    """Write a place."""
    return Text(str(place), style="place")
