"""Surfaces whose statements are lines: flat, or nested by indentation."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from pathlib import PurePath
from typing import ClassVar

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import BLANKS, Statement, Surface
from agile_lattice.intent.places import Place


class Lines(Surface, frozen=True, tag="lines"):
    """One statement a line; they may be held together between two that mark where a block begins and ends.

    Attributes:
        comment: Characters that make the rest of a line a comment.
        comment_lines: Characters that at the start of a line make all of it a comment.
        open: What a line begins with that opens a block; empty if there are none.
        close: The line that ends a block.
        assign: What stands between a key and its value, with blanks around it or without; empty if nothing does.
        prefix: What may stand before a statement and says nothing, such as counters: a regular expression.
        files: Whether a text is the inside of one block, called by the name of the file.
    """

    comment: str = ""
    comment_lines: str = ""
    assign: str = ""
    open: str = ""
    close: str = ""
    prefix: str = ""
    files: bool = False

    @property
    def line_marks(self) -> str:
        """Characters that at the start of a line make all of it a comment."""
        return self.comment_lines

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return bool(self.close) and line.removesuffix("\r").strip(BLANKS) == self.close

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root = self._inside(text, file)
        return [Statement(PurePath(file).name, 1, root)] if self.files else root

    def _inside(self, text: str, file: str) -> list[Statement]:
        lines = self.statements_of(text)
        commented = any(mark in text for mark in self.comment + self.comment_lines)
        bare = [self.bare(line) for line in lines] if commented else [line.strip(BLANKS) for line in lines]
        if self.prefix:
            begins = re.compile(self.prefix)
            bare = [words[start.end() :] if (start := begins.match(words)) else words for words in bare]
        if self.assign:
            bare = [re.sub(rf"\s*{re.escape(self.assign)}\s*", f" {self.assign} ", words, count=1) for words in bare]
        found = [Statement(words, number) for number, words in enumerate(bare, 1) if words]
        return list(self._blocks(found, file)) if self.open else found

    def _blocks(self, statements: Iterable[Statement], file: str) -> Iterator[Statement]:
        block: Statement | None = None
        for each in statements:
            if each.text.startswith(self.open):
                self._closed(block, file)
                each.children = []
                block = each
                yield each
            elif each.text == self.close:
                if block is None:
                    problem = f"{each.text} closes nothing: no line before it begins with {self.open}"
                    raise CaptureError(Place(file, each.line), problem, "It may lack its beginning: capture it again.")
                block = None
            elif block is None or block.children is None:
                yield each
            else:
                block.children.append(each)
        self._closed(block, file)

    def _closed(self, block: Statement | None, file: str) -> None:
        if block is not None:
            raise CaptureError(
                Place(file, block.line), f"{block.text} is not closed by {self.close}",
                "It may be cut off: capture it again.",
            )  # fmt: skip

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        lines = []
        for each in statements:
            lines.append(each.text)
            if each.children is not None:
                lines += [*(inside.text for inside in each.children), self.close]
        return "".join([f"{line}\n" for line in lines])

    def print_files(self, statements: Sequence[Statement]) -> list[tuple[str, str]]:
        """Lay statements out as files."""
        if not self.files:
            return [("", self.print(statements))]
        return [(each.text, self.print(each.children or ())) for each in statements]


class Indent(Surface, frozen=True, tag="indent"):
    """Statements nest by indentation.

    Attributes:
        comment: Characters that at the start of a line make it a comment.
        close: A word that ends a block; empty for none.
        between: A line written between blocks; `None` for none.
        step: What a block is indented by when it is written.
    """

    comment: str = ""
    close: str = ""
    between: str | None = None
    step: str = " "
    whole_line_comments: ClassVar[bool] = True

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return self.step

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return bool(self.close) and line.removesuffix("\r").strip(BLANKS) == self.close

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        stack: list[tuple[int, list[Statement]]] = [(0, root)]
        before: Statement | None = None
        for number, line in enumerate(self.statements_of(text), 1):
            words = line.strip(BLANKS)
            if not words or words[0] in self.comment:
                continue
            if len(stack) == 1 and words == line and words != self.close:  # at the top: most of a long text
                before = Statement(words, number)
                root.append(before)
                continue
            depth = 0 if line[0] == words[0] else len(line) - len(line.lstrip(BLANKS))
            if words == self.close and before is not None:
                before = None
                stack = [each for each in stack if each[0] <= depth] or stack[:1]
                continue
            if before is not None and depth > stack[-1][0]:
                before.children = []
                stack.append((depth, before.children))
            while len(stack) > 1 and depth < stack[-1][0]:
                stack.pop()
            before = Statement(words, number)
            stack[-1][1].append(before)
        return root

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        lines: list[str] = []
        self._print(statements, "", lines)
        return "\n".join(lines) + "\n" if lines else ""

    def _print(self, statements: Iterable[Statement], indent: str, lines: list[str]) -> None:
        between = self.between
        for statement in statements:
            if statement.children is None:
                lines.append(indent + statement.text)
                continue
            if between is not None and lines and lines[-1] != between:
                lines.append(between)
            lines.append(indent + statement.text)
            self._print(statement.children, indent + self.step, lines)
            if self.close:
                lines.append(indent + self.close)
            if between is not None:
                lines.append(between)
