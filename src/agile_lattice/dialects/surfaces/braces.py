"""A surface of blocks in braces."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import ClassVar

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import BLANKS, Statement, Surface
from agile_lattice.intent.places import Place

MARKS = re.compile(r'"[^"]*"|[{};]')  # what parts statements, and quotes, in which it does not
WORD = re.compile(r"[ \t]*([^ \t]+)")
PLAIN = re.compile(r'([^"{};]*[^"{}; \t])[ \t]*;?')  # a line that is one statement


class Braces(Surface, frozen=True, tag="braces"):
    """A line that ends in `{` opens a block, a line `}` closes it; semicolons part statements.

    A block that is declared to may also begin and end within lines.

    Attributes:
        comment: Characters that make the rest of a line a comment.
        enclosed: What opens and closes a comment that can go over several lines; empty for none.
        blocks: First words of statements whose block may stand on the same line; of others, braces there are words.
        named: Those of them that open a block only with a name behind them, and nothing else: `counter web {`.
        whole: Words with one of which a statement is one line: its braces are words, over several lines, too. One
            that begins with such a word ends behind its braces.
        end: What ends a statement when it is written: nothing, or `;`.
        close: What closes a block when it is written: `}` with the end behind it if nothing else is said.
    """

    comment: str = ""
    enclosed: tuple[str, ...] = ()
    end: str = ""
    close: str = ""
    blocks: tuple[str, ...] = ()
    named: tuple[str, ...] = ()
    whole: tuple[str, ...] = ()
    closed: ClassVar[bool] = True

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return "\t"

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return self.bare(line) in ("}", "};")

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        cutter = _Cutter(self, file)
        cutter.take(self.statements_of(_without(text, *self.enclosed) if self.enclosed else text))
        return cutter.finished()

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


class _Open(msgspec.Struct):
    """A block that is open: its statement, nothing for the text as a whole, and what has been read of it."""

    statement: Statement | None
    inside: list[Statement]


class _Pending:
    """What is known of the statement that is being read, so that its words need not be gone through at each brace.

    Args:
        whole: Words whose statements hold their braces as words.

    Attributes:
        first: Its first word.
        count: How many words it has.
        whole: Whether it has one of those words.
        braced: Whether it has a brace.
        equals: Whether it has an equals sign.
    """

    def __init__(self, whole: Sequence[str]) -> None:
        self._whole = whole
        self.forget()

    def forget(self) -> None:
        """Begin anew, with a statement of which nothing was read."""
        self.first, self.count, self.whole, self.braced, self.equals = "", 0, False, False, False

    def see(self, words: str) -> None:
        """Read on in it."""
        found = words.split()
        if found:
            self.first = self.first or found[0]
            self.count += len(found)
            self.whole = self.whole or not set(self._whole).isdisjoint(found)
            self.braced = self.braced or "{" in words
            self.equals = self.equals or "=" in words


class _Cutter:
    """Cuts lines into statements.

    Args:
        surface: How they are laid out.
        file: Their name.
    """

    def __init__(self, surface: Braces, file: str) -> None:
        self.surface, self.file = surface, file
        self.stack = [_Open(None, [])]
        self.words: list[str] = []  # of the statement that is being read
        self.begun = 0  # its first line
        self.depth = 0  # how many braces are open in it
        self.open_ended = False  # whether the last statement ended with its line only
        self.pending = _Pending(surface.whole)

    def take(self, lines: Sequence[str]) -> None:
        """Cut lines, from the first."""
        for number, line in enumerate(lines, 1):
            words = self.surface.bare(line)
            if not words:
                continue
            if self.surface.end and words[0] == "{":
                self._take_back()
            plain = None if self.words else PLAIN.fullmatch(words)
            if plain is not None and plain[1].partition(" ")[0] not in self.surface.whole:
                self.stack[-1].inside.append(Statement(plain[1], number))
                self.open_ended = words[-1] != ";"
            else:
                self._line(words, number)

    def _take_back(self) -> None:
        """Read on in the statement before, which the end of its line did not end."""
        inside = self.stack[-1].inside
        if self.open_ended and not self.words and inside and inside[-1].children is None:
            before = inside.pop()
            self.words, self.begun = [before.text], before.line
            self.pending.see(before.text)

    def _line(self, line: str, number: int) -> None:
        start = seen = 0
        for mark in MARKS.finditer(line):
            sign = mark[0]
            self.pending.see(line[seen : mark.start()])
            seen = mark.end()
            if sign == ";" and not self.depth and not self._unfinished():
                self._add(line[start : mark.start()], number)
                self._end()
            elif sign == "{" and not self.depth and self._opens(_behind(line, seen)):
                self._add(line[start : mark.start()], number)
                self._open(number)
            elif sign == "}" and not self.depth and self._closes(line, _behind(line, seen), number):
                self._add(line[start : mark.start()], number)
                self._end()
                self._close(number, _behind(line, seen))
            else:
                self.pending.see(sign)
                self.depth = max(self.depth + (sign == "{") - (sign == "}"), 0)
                continue
            start = seen
        self.pending.see(line[seen:])
        self._add(line[start:], number)
        self.open_ended = bool(self.words)
        if not self.depth and not self._unfinished():
            self._end()

    def _add(self, words: str, number: int) -> None:
        """Add words to the statement that is being read."""
        if words := words.strip(BLANKS):
            self.begun = self.begun if self.words else number
            self.words.append(words)

    def _end(self) -> None:
        """End the statement that is being read."""
        if self.words:
            self.stack[-1].inside.append(Statement(" ".join(self.words), self.begun))
            self.words = []
        self.pending.forget()

    def _unfinished(self) -> bool:
        """Tell whether a statement goes on until its braces come."""
        return self.pending.first in self.surface.whole and not self.pending.braced

    def _opens(self, behind: str) -> bool:
        """Tell whether a brace opens a block; what else is in braces belongs to its statement."""
        if self.pending.whole:
            return False
        first, surface = self.pending.first, self.surface
        if first in surface.named and self.pending.count != 2:
            return False
        return first in surface.blocks or (not behind and not self.pending.equals)

    def _open(self, number: int) -> None:
        inside: list[Statement] = []
        block = Statement(" ".join(self.words), self.begun if self.words else number, inside)
        self.stack[-1].inside.append(block)
        self.stack.append(_Open(block, inside))
        self.words = []
        self.pending.forget()

    def _goes_on(self, behind: str) -> bool:
        """Tell whether a statement goes on behind a brace, with the word that comes there."""
        return bool(behind) and behind[0] not in ";}" and behind not in self.surface.blocks

    def _closes(self, line: str, behind: str, number: int) -> bool:
        """Tell whether a brace closes what is open; else it is a word."""
        if not self._goes_on(behind):
            return bool(self.surface.blocks) or line in ("}", "};")
        block = self.stack[-1].statement
        if block is None or any(each.children is not None for each in self.stack[-1].inside):
            return False
        return block.line == number or block.text.partition(" ")[0] not in self.surface.blocks

    def _close(self, number: int, behind: str) -> None:
        """Close a block; where its statement goes on behind it, it was none: several values over several lines."""
        if len(self.stack) == 1:
            raise CaptureError(Place(self.file, number), "a block is closed that was never opened")
        block = self.stack.pop().statement
        if block is not None and self._goes_on(behind):
            self.stack[-1].inside.pop()
            self.words = [block.text, "{", *(each.text for each in block.children or ()), "}"]
            self.begun = block.line
            for each in self.words:
                self.pending.see(each)

    def finished(self) -> list[Statement]:
        """Return all statements.

        Raises:
            CaptureError: If a block is still open.
        """
        if len(self.stack) > 1 or self.words:
            opened = self.stack[-1].statement
            at = self.begun if self.words or opened is None else opened.line
            raise CaptureError(
                Place(self.file, at), "the block opened here is never closed", "The text breaks off: capture it again."
            )
        return self.stack[0].inside


def _behind(line: str, at: int) -> str:
    """Return the word that comes behind a place of a line; empty if none does."""
    found = WORD.match(line, at)
    return found[1] if found is not None else ""


def _without(text: str, opening: str, closing: str) -> str:
    """Return a text with blanks in place of comments between two marks; lines stay where they are."""
    either = rf'"[^"\n]*"|{re.escape(opening)}[\s\S]*?{re.escape(closing)}'

    def blank(found: re.Match[str]) -> str:
        return found[0] if found[0].startswith('"') else re.sub(r"[^\n]", " ", found[0])

    return re.sub(either, blank, text)
