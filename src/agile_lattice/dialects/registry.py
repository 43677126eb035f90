"""All dialects, found in one place."""

from __future__ import annotations

from difflib import get_close_matches
from functools import cache
from importlib.resources import files

from agile_lattice.dialects.definition import Dialect, parse_dialect
from agile_lattice.dialects.errors import DialectError


class UnknownDialect(DialectError):
    """There is no dialect of that name.

    Attributes:
        name: The name asked for.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        super().__init__(name)

    def __str__(self) -> str:
        near = get_close_matches(self.name, names(), 1)
        hint = f"did you mean {near[0]!r}?" if near else f"known are {', '.join(names())}"
        return f"there is no dialect {self.name!r}: {hint}"


def names() -> list[str]:
    """Return the names of all dialects, sorted."""
    catalogue = files("agile_lattice.dialects").joinpath("catalogue")
    return sorted(entry.name.removesuffix(".toml") for entry in catalogue.iterdir() if entry.name.endswith(".toml"))


@cache
def dialect(name: str) -> Dialect:
    """Return a dialect, compiled.

    Raises:
        UnknownDialect: If there is none of that name.
    """
    if name not in names():
        raise UnknownDialect(name)
    entry = files("agile_lattice.dialects").joinpath("catalogue", f"{name}.toml")
    return parse_dialect(entry.read_text(encoding="utf-8"), f"{name}.toml")
