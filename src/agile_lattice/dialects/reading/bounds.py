"""How much a text may ask of its reader."""

from __future__ import annotations

from collections.abc import Callable

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.places import Place

MOST_DEEP = 100  # statements inside one another


def bounded(parse: Callable[[str, str], list[Statement]], text: str, file: str) -> list[Statement]:
    """Cut a text into statements.

    Args:
        parse: Does so for the surface that the text is of.
        text: The text.
        file: Its name, for messages.

    Raises:
        CaptureError: If it breaks off, is of another surface, or nests too deeply.
    """
    try:
        statements = parse(text, file)
    except RecursionError:
        raise CaptureError(Place(file, 1), TOO_DEEP) from None
    level = statements
    for _ in range(MOST_DEEP):
        level = [child for each in level for child in each.children or ()]
        if not level:
            return statements
    raise CaptureError(Place(file, level[0].line), TOO_DEEP)


TOO_DEEP = f"it nests too deeply: more than {MOST_DEEP} levels"
