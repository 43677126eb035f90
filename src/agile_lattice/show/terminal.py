"""What all terminal views share: the console, the palette, a line of a file."""

from __future__ import annotations

import linecache
import os
import re
import sys
from collections.abc import Iterable, Iterator, Sequence
from io import TextIOBase
from typing import IO, Any, Self, TypeVar, cast

from rich import box
from rich.console import Console
from rich.progress import track
from rich.table import Table
from rich.text import Text as PlainText
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
NARROW = 100  # columns, below which some tables stack what else stands side by side
FEW = 8  # so few devices are done before a bar could be read
T = TypeVar("T")
_BLANKS = re.compile(r"[ ]+$", re.MULTILINE)


def roomy_table() -> Table:
    """Return a table as wide as the terminal, whose rows may have several lines each."""
    return Table(box=box.SIMPLE_HEAD, expand=True, pad_edge=False, padding=(0, 2, 0, 0), leading=1, header_style="head")


def with_progress(members: Iterable[T], what: str, count: int | None = None) -> Iterator[T]:
    """Go through what takes a while, and on a terminal tell how far it is; what was told is gone at the end.

    Args:
        members: What is gone through.
        what: What is done with it.
        count: How many there are; if it is not given, they have a length.
    """
    out = Console(file=sys.stderr, theme=THEME)
    total = len(cast(Sequence[T], members)) if count is None else count
    quiet = not out.is_terminal or total < FEW
    yield from track(members, what, total=total, console=out, transient=True, disable=quiet)


def console(file: IO[str] | None = None) -> Console:
    """Return a console for a stream: coloured on a terminal, plain elsewhere or with NO_COLOR set."""
    file = file or sys.stdout
    if file.isatty():
        return Console(file=file, theme=THEME, highlight=False)
    return Console(
        file=cast(IO[str], _Trimmed(file)), theme=THEME, highlight=False, width=PIPE_WIDTH, color_system=None
    )


_CONTROLS = {code: f"\\x{code:02x}" for code in (*range(32), *range(127, 160))}
_LINES = {9: "\t", 10: "\n"}


def visible(text: str) -> str:
    """Return text in which what would control a terminal can be seen: an escape becomes four letters."""
    return text.translate(_CONTROLS | _LINES)


class Text(PlainText):
    """Text for a terminal. What comes from outside, and all text may, controls nothing there."""

    def __init__(self, text: str = "", *arguments: Any, **keywords: Any) -> None:
        super().__init__(visible(text), *arguments, **keywords)

    def append(self, text: Any, style: Any = None) -> Self:
        """Add text, with what would control a terminal made visible."""
        super().append(visible(text) if isinstance(text, str) else text, style)
        return self

    @classmethod
    def assemble(cls, *parts: Any, **keywords: Any) -> Self:
        """Put text together from pieces, each with a style or without."""
        return cast(Self, super().assemble(*parts, **keywords))


class _Trimmed(TextIOBase):
    """Passes text on without the blanks that a table leaves at the ends of lines."""

    def __init__(self, file: IO[str]) -> None:
        self._file = file

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """That of the stream: it tells which lines a table can be drawn with."""
        return getattr(self._file, "encoding", None) or "utf-8"

    def write(self, text: str) -> int:
        self._file.write(_BLANKS.sub("", text))
        return len(text)

    def flush(self) -> None:
        self._file.flush()


def source_line(place: Place, most: int = 100) -> tuple[str, int, int]:
    """Return the line of a file that a place names, and where in it the value stands.

    Args:
        place: The place.
        most: How many characters of the line there is room for; it is cut so that the value can be seen.

    Returns:
        The line without the blanks around it, empty if there is nothing to read in it; and the bounds of the value
        in it, from 0, the second excluded; 0 and 0 if they are not known.
    """
    linecache.checkcache(place.file)  # it may have changed since, in a process that lives long
    whole = linecache.getline(place.file, place.line).rstrip() if place.line else ""
    line = whole.lstrip()
    if not any(character.isalnum() for character in line):
        return "", 0, 0
    start = place.column - 1 - (len(whole) - len(line)) if place.column else 0
    end = start + place.width
    cut = max(0, min(end + 1, len(line)) - most)
    if cut:
        cut = min(cut + 1, start)
        line, start, end = "…" + line[cut:], start - cut + 1, end - cut + 1
    if len(line) > most:
        line, end = line[: most - 1] + "…", min(end, most - 1)
    return (line, start, end) if place.column else (line, 0, 0)


def source_text(place: Place, most: int = 100) -> Text:
    """Return the line of a file that a place names, with the value in it underlined."""
    line, start, end = source_line(place, most)
    text = Text(line, style="source")
    text.stylize("underline", start, end)
    return text


def source_lines(place: Place, most: int = 100) -> list[str]:
    """Return the line of a file that a place names, with marks under the value; nothing if there is none to read."""
    line, start, end = source_line(place, most)
    marks = [f"| {' ' * start}{'^' * (end - start)}"] if end > start else []
    return [f"| {line}", *marks] if line else []


def plural(count: int, word: str, words: str = "") -> str:
    """Write a count with its word: `1 difference`, `3 differences`; `words` is for those that take no s."""
    return f"{count} {word}" if count == 1 else f"{count} {words or word + 's'}"


def nearest(place: Place) -> str:
    """Write a place: relative to here if that is shorter."""
    relative = Place(os.path.relpath(place.file), place.line) if place.file else place
    return min(str(place), str(relative), key=len)


def located(place: Place, most: int = 38) -> Text:
    """Write a place in a narrow column: relative to here if that is shorter, and cut in front if it must be."""
    text = nearest(place)
    return Text((text if len(text) <= most else f"…{text[1 - most :]}") + place.way, style="place", overflow="fold")
