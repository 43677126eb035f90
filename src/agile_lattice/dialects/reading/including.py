"""Texts that include others: what those say stands in the line that includes them, as the program reads it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import PurePath

from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces import Statement

INCLUDING = re.compile(r'^[ \t]*include[ \t]+"(?P<path>[^"\n]+)"[ \t]*;?', re.MULTILINE)


MOST = 16  # times as much as all texts have may be put in: files include each other, and some many others
NOT_HERE = "the program reads these files, too, and not all of them are here: capture them with it"


def without_includes(statements: Sequence[Statement]) -> tuple[list[Statement], list[Statement]]:
    """Return statements without those that still include something, wherever they stand; and these."""
    kept: list[Statement] = []
    left: list[Statement] = []
    for each in statements:
        if each.children is None:
            (left if INCLUDING.match(each.text) else kept).append(each)
            continue
        inside, more = without_includes(each.children)
        kept.append(Statement(each.text, each.line, inside) if more else each)
        left += more
    return kept, left


def with_included(dialects: Sequence[Dialect], texts: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return texts with what they include; a file that another one includes is no text of its own then.

    All of it has the place of the line that includes it. Where a file is not among the texts, or cannot be read, that
    line stays.

    Args:
        dialects: Those that the texts may be in.
        texts: File name and text of each.
    """
    texts = list(texts)
    forms = [form for dialect in dialects for form in dialect.forms if form.expand.includes]
    if not forms or not any(INCLUDING.search(text) for _, text in texts):
        return texts
    including = _Including(forms, dict(texts))
    whole = [(file, including.resolved(file)) for file, _ in texts]
    return [(file, text) for file, text in whole if file not in including.included] or texts


class _Including:
    """The texts of a device, by name, and which of them others include."""

    def __init__(self, forms: Sequence[Form], texts: dict[str, str]) -> None:
        self.forms, self.texts = forms, texts
        self.included: set[str] = set()
        self.room = MOST * sum(map(len, texts.values()))
        self._lines: dict[str, str | None] = {}

    def resolved(self, file: str) -> str:
        """Return a text with what it includes, but for the files that include it themselves."""

        def in_place(found: re.Match[str]) -> str:
            name = PurePath(found["path"]).name
            files = [each for each in sorted(self.texts) if each != file and fnmatchcase(PurePath(each).name, name)]
            lines = [self._line(each) for each in files]
            told = "; ".join(filter(None, lines))
            if not lines or None in lines or len(told) > self.room:
                return found[0]
            self.room -= len(told)
            self.included.update(files)
            return told

        return INCLUDING.sub(in_place, self.texts[file])

    def _line(self, file: str) -> str | None:
        """Return what a text says, in one line; `None` if that cannot be said so."""
        if file not in self._lines:
            self._lines[file] = None  # for those that it includes
            told = (_flattened(form, self.resolved(file), file) for form in self.forms)
            self._lines[file] = next((each for each in told if each is not None), None)
        return self._lines[file]


class _NotFlatError(Exception):
    """A block is only known as one by its line break."""


def _flattened(form: Form, text: str, file: str) -> str | None:
    try:
        return _flat(form.surface.parse(text, file), getattr(form.surface, "blocks", ()))
    except (CaptureError, _NotFlatError):
        return None


def _flat(statements: Iterable[Statement], blocks: Sequence[str]) -> str:
    def parts() -> Iterator[str]:
        for each in statements:
            if each.children is not None and each.text.partition(" ")[0] not in blocks:
                raise _NotFlatError
            inside = "" if each.children is None else f" {{ {_flat(each.children, blocks)} }}"
            yield f"{each.text}{inside}"

    return "; ".join(parts())
