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
    forms = [form for dialect in dialects for form in dialect.forms if form.expand.define]
    if not forms or not any(INCLUDING.search(text) for _, text in texts):
        return texts
    including = _Including(max(forms, key=lambda form: len(_blocks(form))), dict(texts))
    whole = [(file, including.resolved(file)) for file, _ in texts]
    return [(file, text) for file, text in whole if file not in including.included] or texts


class _Including:
    """The texts of a device, by name, and which of them others include."""

    def __init__(self, form: Form, texts: dict[str, str]) -> None:
        self.form, self.texts = form, texts
        self.included: set[str] = set()

    def resolved(self, file: str, above: tuple[str, ...] = ()) -> str:
        """Return a text with what it includes, but for the files that include it themselves."""

        def in_place(found: re.Match[str]) -> str:
            name = PurePath(found["path"]).name
            files = [each for each in sorted(self.texts) if each != file and fnmatchcase(PurePath(each).name, name)]
            lines = [self._line(each, (*above, file)) for each in files if each not in above]
            if not lines or len(lines) < len(files) or None in lines:
                return found[0]
            self.included.update(files)
            return "; ".join(filter(None, lines))

        return INCLUDING.sub(in_place, self.texts[file])

    def _line(self, file: str, above: tuple[str, ...]) -> str | None:
        """Return what a text says, in one line; `None` if that cannot be said so."""
        try:
            return _flat(self.form.surface.parse(self.resolved(file, above), file), _blocks(self.form))
        except (CaptureError, _NotFlatError):
            return None


class _NotFlatError(Exception):
    """A block is only known as one by its line break."""


def _flat(statements: Iterable[Statement], blocks: Sequence[str]) -> str:
    def parts() -> Iterator[str]:
        for each in statements:
            if each.children is not None and each.text.partition(" ")[0] not in blocks:
                raise _NotFlatError
            inside = "" if each.children is None else f" {{ {_flat(each.children, blocks)} }}"
            yield f"{each.text}{inside}"

    return "; ".join(parts())


def _blocks(form: Form) -> Sequence[str]:
    return getattr(form.surface, "blocks", ())
