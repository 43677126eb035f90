"""Whether a text holds the statements that it was written from: no value may become a statement of its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import zip_longest

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.nested import CELL, Tables
from agile_lattice.dialects.surfaces.statements import Statement, Surface


def smuggler(
    surface: Surface, statements: Sequence[Statement], files: Sequence[tuple[str, str]]
) -> tuple[int, str] | None:
    """Find the first statement that would be read as something else.

    Args:
        surface: How the text is laid out.
        statements: What was written.
        files: Name and text of each file that it was written as.

    Returns:
        How many statements are before it, those inside others counted where they stand, and what would be read.
    """
    read: list[Statement] = []
    for file, text in files:
        try:
            read += surface.parse(text, file)
        except CaptureError as error:
            return _count_until(statements, error.place.line), error.what
    written = [each for each in statements if surface.bare(each.text)]
    told = len(statements) - len(written)  # remarks, which are not read
    for at, (one, other) in enumerate(zip_longest(_flat(written), _flat(read))):
        if one != other and not (isinstance(surface, Tables) and one and other and _cells(one) == _cells(other)):
            return at + told, other[0] if other is not None else ""
    return None


def _cells(of: tuple[str, int]) -> tuple[list[str], int]:
    """Return the cells of a row, which a table arranges in its columns."""
    return sorted(CELL.findall(of[0])), of[1]


def _count_until(statements: Sequence[Statement], line: int) -> int:
    return min(max(line - 1, 0), sum(1 for _ in _flat(statements)) - 1)


def _flat(statements: Sequence[Statement], depth: int = 0) -> Iterator[tuple[str, int]]:
    for each in statements:
        yield each.text, depth
        yield from _flat(each.children or (), depth + 1)


def nth(statements: Sequence[Statement], number: int) -> Statement:
    """Return a statement by how many are before it; the last one if there are not so many."""
    every = list(_every(statements))
    return every[min(number, len(every) - 1)]


def _every(statements: Sequence[Statement]) -> Iterator[Statement]:
    for each in statements:
        yield each
        yield from _every(each.children or ())
