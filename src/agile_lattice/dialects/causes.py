"""Which line of an intent each line of a configuration comes from."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.rendering import Causes, written
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.places import Place


def render_with_causes(dialect: Dialect, facts: Facts) -> list[tuple[str, str, dict[int, Place]]]:
    """Write facts: the name and the text of each file, and for its lines, from 1, where what they say stands.

    A text that was written is read into the statements that it was written from, in their order; so these are told
    apart by going along both.

    Raises:
        Refusals: With everything that the dialect cannot express.
    """
    form, causes = dialect.forms[0], Causes()
    statements = written(dialect, facts, form, causes)
    meant = list(_all(statements))
    found = []
    at = 0
    for name, text in form.surface.print_files(statements):
        lines: dict[int, Place] = {}
        for each in _all(form.surface.parse(text, name)):
            following = next((n for n in range(at, len(meant)) if meant[n].text == each.text), None)
            if following is None:
                continue  # something that only the surface needs
            at = following + 1
            place = causes.get(id(meant[following]))
            if place is not None and place.line:
                lines.setdefault(each.line, place)
        found.append((name or form.file, text, lines))
    return found


def _all(statements: Iterable[Statement]) -> Iterator[Statement]:
    for each in statements:
        yield each
        yield from _all(each.children or ())
