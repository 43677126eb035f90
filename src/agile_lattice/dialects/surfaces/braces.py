"""A surface of blocks in braces."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import ClassVar

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import Statement, Surface, cut_comment, split_outside_quotes
from agile_lattice.intent.places import Place

STRETCH = 500  # lines that are looked at together: most of a long text is simple


class Braces(Surface, frozen=True, tag="braces"):
    """A line that ends in `{` opens a block, a line `}` closes it; semicolons part statements.

    Attributes:
        comment: Characters that make the rest of a line a comment.
        enclosed: What opens and closes a comment that can go over several lines; empty for none.
        blocks: First words of statements whose block may stand on the same line; of others, braces there are words.
        end: What ends a statement when it is written: nothing, or `;`.
        close: What closes a block when it is written: `}` with the end behind it if nothing else is said.
    """

    comment: str = ""
    enclosed: tuple[str, ...] = ()
    end: str = ""
    close: str = ""
    blocks: tuple[str, ...] = ()
    closed: ClassVar[bool] = True

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return "\t"

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return cut_comment(line, self.comment) in ("}", "};")

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        cutter = _Cutter(self, file)
        lines = (_without(text, *self.enclosed) if self.enclosed else text).splitlines()
        for start in range(0, len(lines), STRETCH):
            cutter.take(lines[start : start + STRETCH], start + 1)
        return cutter.finished()

    def in_one_line(self, words: str, line: int) -> list[Statement]:
        """Cut a line apart that has whole blocks."""
        found = []
        for each in filter(None, _statements(words)):
            if each.partition(" ")[0] not in self.blocks or "{" not in each:
                found.append(Statement(each, line))
                continue
            head, _, rest = each.partition("{")
            found.append(Statement(head.rstrip(), line, self.in_one_line(rest.rpartition("}")[0].strip(), line)))
        return found

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        lines: list[str] = []
        self._print(statements, "", lines)
        return "\n".join(lines) + "\n" if lines else ""

    def _print(self, statements: Iterable[Statement], indent: str, lines: list[str]) -> None:
        end = self.end
        for statement in statements:
            if statement.children is None:
                lines.append(f"{indent}{statement.text}{end}")
                continue
            lines.append(f"{indent}{statement.text} {{")
            self._print(statement.children, indent + "\t", lines)
            lines.append(indent + (self.close or f"}}{end}"))


class _Cutter:
    """Cuts lines into statements.

    Args:
        surface: How they are laid out.
        file: Their name.
    """

    def __init__(self, surface: Braces, file: str) -> None:
        self.surface, self.file = surface, file
        self.root: list[Statement] = []
        self.stack: list[tuple[Statement | None, list[Statement]]] = [(None, self.root)]
        self.pending, self.pending_line = "", 0  # what goes on in the next line

    def take(self, lines: Sequence[str], first: int) -> None:
        """Cut the next lines, of which the first has this number."""
        simple = None if self.pending else _simple(lines, first, self.surface.comment)
        if simple is not None:
            self.stack[-1][1].extend(simple)
            return
        for number, line in enumerate(lines, first):
            words = cut_comment(line, self.surface.comment)
            if words:
                self._line(words, number)

    def _line(self, words: str, number: int) -> None:
        here = self.stack[-1][1]
        start = number
        if not self.pending and "{" not in words and "}" not in words and ";" not in words[:-1]:
            here += [Statement(each, number) for each in [words.removesuffix(";").rstrip()] if each]
            return
        if self.pending:
            words, start = f"{self.pending} {words}", self.pending_line
            self.pending = ""
        elif words in ("}", "};"):
            if len(self.stack) == 1:
                raise CaptureError(Place(self.file, number), "a block is closed that was never opened")
            self.stack.pop()
            return
        if words[-1] == "{" and "=" not in words:
            inside: list[Statement] = []
            block = Statement(words[:-1].rstrip(), start, inside)
            here.append(block)
            self.stack.append((block, inside))
        elif words.split(None, 1)[0] in self.surface.blocks and _open_braces(words) == 0 and "{" in words:
            here.extend(self.surface.in_one_line(words, start))
        elif "{" in words and _open_braces(words) > 0:
            self.pending, self.pending_line = words, start
        else:
            here.extend([Statement(part, start) for part in _statements(words)])

    def finished(self) -> list[Statement]:
        """Return all statements.

        Raises:
            CaptureError: If a block is still open.
        """
        if len(self.stack) > 1 or self.pending:
            opened = self.stack[-1][0]
            at = opened.line if opened and not self.pending else self.pending_line
            raise CaptureError(
                Place(self.file, at), "the block opened here is never closed", "The text breaks off: capture it again."
            )
        return self.root


def _without(text: str, opening: str, closing: str) -> str:
    """Return a text with blanks in place of comments between two marks; lines stay where they are."""
    either = rf'"[^"\n]*"|{re.escape(opening)}[\s\S]*?{re.escape(closing)}'

    def blank(found: re.Match[str]) -> str:
        return found[0] if found[0].startswith('"') else re.sub(r"[^\n]", " ", found[0])

    return re.sub(either, blank, text)


def _simple(lines: Sequence[str], first: int, comment: str) -> list[Statement] | None:
    """Return the statements of lines, each a statement or empty; None if there may be more to them."""
    together = "\n".join(lines)
    if any(mark in together for mark in ("{", "}", *comment)):
        return None
    bare = [line.strip() for line in lines]
    if together.count(";") != sum([line[-1:] == ";" for line in bare]):
        return None
    whole = [line[:-1].rstrip() if line[-1:] == ";" else line for line in bare]
    return [Statement(words, number) for number, words in enumerate(whole, first) if words]


def _open_braces(text: str) -> int:
    """Count the braces that a line leaves open, outside quotes."""
    bare = "".join(text.split('"')[::2])
    return bare.count("{") - bare.count("}")


def _statements(words: str) -> list[str]:
    """Part statements at semicolons; one with a block of its own on the same line stays whole."""
    if "{" not in words or ";" not in words:
        return split_outside_quotes(words, ";")
    found, depth, quoted, start = [], 0, False, 0
    for index, character in enumerate(words):
        if character == '"':
            quoted = not quoted
        elif quoted:
            continue
        elif character == ";" and depth == 0:
            found.append(words[start:index])
            start = index + 1
        else:
            depth += (character == "{") - (character == "}")
    return [part for each in (*found, words[start:]) if (part := each.strip())]
