"""All dialects, found in one place: those that ship with the package, those of other packages, and a user's own.

A package offers dialects by an entry point in the group `agile_lattice.dialects`: its value is a package
that holds `*.toml` files. A user's own are `*.toml` files in a folder `dialects` beside the intent.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from difflib import get_close_matches
from functools import cached_property, lru_cache
from hashlib import blake2b
from importlib.metadata import entry_points
from importlib.resources import files
from pathlib import Path
from threading import RLock
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.definition import parse_dialect, plain_definition
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import DefinitionError, DialectError

GROUP = "agile_lattice.dialects"
FOLDER = "dialects"


LIKE = re.compile(r'^like\s*=\s*"([^"]+)"', re.MULTILINE)
# One at a time: two threads that convert values to a type for the first time can bring the interpreter down.
_COMPILING = RLock()
MOST_COMPILED = 64  # dialects that are kept, by their texts


class UnknownDialect(DialectError):
    """There is no dialect of that name.

    Attributes:
        name: The name asked for.
        known: The names that there are.
    """

    def __init__(self, name: str, known: list[str]) -> None:
        self.name, self.known = name, known
        super().__init__(name, known)

    def __str__(self) -> str:
        near = get_close_matches(self.name, self.known, 1)
        hint = f"did you mean {near[0]!r}?" if near else f"known are {', '.join(self.known)}"
        return f"there is no dialect {self.name!r}: {hint}"


class Catalogue:
    """The dialects that can be spoken.

    Args:
        folder: A folder of a user's own dialects, which come before those of the same name that ship.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder
        self._known: dict[str, Dialect] = {}
        self._plain: dict[str, dict[str, Any]] = {}

    @cached_property
    def _sources(self) -> dict[str, tuple[str, str]]:
        """Text and file of every dialect, by its name."""
        return dict(_sources(self._folder))

    @cached_property
    def digest(self) -> bytes:
        """What tells these dialects from any others: the same texts, the same digest."""
        return blake2b(repr(sorted(self._sources.items())).encode(), digest_size=16).digest()

    def __reduce__(self) -> tuple[Callable[..., Catalogue], tuple[tuple[tuple[str, tuple[str, str]], ...]]]:
        """Give the texts to another process, and not what was compiled of them."""
        return _catalogue_of, (tuple(self._sources.items()),)

    def names(self) -> list[str]:
        """Return the names of all dialects, sorted."""
        return sorted(self._sources)

    def text(self, name: str) -> str:
        """Return the text of a dialect's file.

        Raises:
            UnknownDialect: If there is none of that name.
        """
        if name not in self._sources:
            raise UnknownDialect(name, self.names())
        return self._sources[name][0]

    def _bases(self, name: str) -> Iterator[tuple[str, str]]:
        """Yield the dialects that one is like, one after the other, each with its text."""
        passed = {name}
        like = LIKE.search(self.text(name))
        while like is not None and like.group(1) in self._sources and like.group(1) not in passed:
            passed.add(like.group(1))
            yield like.group(1), self.text(like.group(1))
            like = LIKE.search(self.text(like.group(1)))

    def secrets(self, name: str) -> tuple[str, ...]:
        """Return how a dialect's secrets are found in captured texts: regular expressions.

        Raises:
            UnknownDialect: If there is none of that name.
            DefinitionError: If its file is wrong.
        """
        running = self._as_it_stands(name).get("running", {})
        return tuple(running.get("secrets", ()))

    def waits_to_be_told(self, names: Iterable[str]) -> bool:
        """Tell whether a device forwards nothing until its settings say so, and one of its dialects carries them.

        Args:
            names: What it speaks.

        Raises:
            UnknownDialect: If there is no dialect of such a name.
            DefinitionError: If a file is wrong.
        """
        said = [self._as_it_stands(each) for each in names]
        carries = any("settings" in form["carries"] for each in said for form in each["forms"])
        return carries and any(each.get("semantics", {}).get("forwards") == "said" for each in said)

    def _as_it_stands(self, name: str) -> dict[str, Any]:
        """Return what a dialect's file says, without compiling it if it is right."""
        plain = name.partition("/")[0]
        if plain not in self._plain:
            try:
                self._plain[plain] = plain_definition(self.text(plain), self.text)
            except (ValueError, KeyError):
                self.dialect(plain)  # which says what is wrong
                raise
        return self._plain[plain]

    def dialect(self, name: str) -> Dialect:
        """Return a dialect, compiled.

        Args:
            name: Its name; with `/FORM` behind it that form is the one that is written.

        Raises:
            UnknownDialect: If there is none of that name, or it has no such form.
            DefinitionError: If its file is wrong.
        """
        with _COMPILING:
            if name not in self._known:
                plain, _, form = name.partition("/")
                if plain not in self._sources:
                    raise UnknownDialect(name, self.names())
                dialect = _compiled(*self._sources[plain], tuple(self._bases(plain)))
                self._known[name] = _written_in(dialect, form, name) if form else dialect
            return self._known[name]


def _written_in(dialect: Dialect, form: str, name: str) -> Dialect:
    forms = [each.name for each in dialect.forms if each.file]
    if form not in forms:
        raise UnknownDialect(name, [f"{dialect.name}/{each}" for each in forms])
    ordered = sorted(dialect.forms, key=lambda each: each.name != form)
    return replace(dialect, name=name, forms=tuple(ordered))


@lru_cache(MOST_COMPILED)
def _compiled(text: str, file: str, bases: tuple[tuple[str, str], ...]) -> Dialect:
    return parse_dialect(text, file, dict(bases).__getitem__)


def _sources(folder: Path | None) -> Iterator[tuple[str, tuple[str, str]]]:
    packages = [files("agile_lattice.dialects").joinpath("catalogue")]
    packages += [files(each.load()) for each in entry_points(group=GROUP)]
    for package in packages:
        for entry in package.iterdir():
            if entry.name.endswith(".toml"):
                yield entry.name.removesuffix(".toml"), (entry.read_text(encoding="utf-8"), entry.name)
    if folder is not None and folder.is_dir():
        for path in sorted(folder.glob("*.toml")):
            yield path.stem, (_read(path), str(path))


def _read(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise DefinitionError(str(path), 0, f"it cannot be read: {error}") from None


def catalogue_beside(intent: Path) -> Catalogue:
    """Return the catalogue for an intent: with the folder `dialects` beside its file, or in its folder."""
    return Catalogue((intent if intent.is_dir() else intent.parent) / FOLDER)


@lru_cache(MOST_COMPILED)
def _catalogue_of(sources: tuple[tuple[str, tuple[str, str]], ...]) -> Catalogue:
    catalogue = Catalogue()
    catalogue._sources = dict(sources)
    return catalogue


BUILT_IN = Catalogue()
