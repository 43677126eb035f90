"""Texts of several dialects: a document that has a part of each, as a device gives all of its data in one."""

from __future__ import annotations

from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.reading.bounds import bounded
from agile_lattice.dialects.reading.texts import Reading, best_reading, read_statements
from agile_lattice.dialects.surfaces import Statement

Speaker = tuple[Dialect, Form, list[Statement]]


def readings(dialects: list[Dialect], text: str, file: str) -> list[Reading]:
    """Read a text in the dialect that understands most of it; parts that it does not know in others.

    Raises:
        CaptureError: If none understands anything, or the text is damaged.
    """
    best = best_reading(dialects, text, file)
    speakers = _speakers(dialects, best, text, file) if best.leftovers else []
    if len(speakers) < 2:
        return [best]
    parts: list[list[Statement]] = [[] for _ in speakers]
    for index in range(len(speakers[0][2])):
        taker = next((number for number, each in enumerate(speakers) if _knows(each, index, file)), 0)
        parts[taker].append(speakers[taker][2][index])
    return [
        read_statements(dialect, form, part, file)
        for (dialect, form, _), part in zip(speakers, parts, strict=True)
        if part
    ]


def _speakers(dialects: list[Dialect], best: Reading, text: str, file: str) -> list[Speaker]:
    """Return dialects and forms for the same kind of document, the one that understands most first."""
    found: list[Speaker] = []
    for dialect in sorted(dialects, key=lambda each: each.name != best.dialect):
        for form in dialect.forms:
            own = dialect.name == best.dialect
            if (own and form.name != best.form) or not form.surface.parted or not form.may_be(text):
                continue
            if found and type(form.surface) is not type(found[0][1].surface):
                continue
            try:
                statements = bounded(form.surface.parse, text, file)
            except CaptureError:
                continue
            if not found or len(statements) == len(found[0][2]):
                found.append((dialect, form, statements))
    return found if found and found[0][0].name == best.dialect else []


def _knows(speaker: Speaker, index: int, file: str) -> bool:
    """Tell whether a dialect understands anything of a statement that stands in nothing else."""
    dialect, form, statements = speaker
    return read_statements(dialect, form, [statements[index]], file).statements[1] > 0
