"""Surfaces that nest otherwise: parentheses, sections in brackets, paragraphs, tables."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import PurePath
from typing import ClassVar

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import BLANKS, Edit, Statement, Surface, edited
from agile_lattice.intent.places import Place

_TOKEN = re.compile(r'[()]|"[^"]*"|[^\s()"]+|"')
CELL = re.compile(r'"[^"]*"|\S+')
NOTHING = "."


class Parens(Surface, frozen=True, tag="parens"):
    """Nested parentheses: the words of a statement stand before the statements inside it.

    Attributes:
        comment: Characters that make the rest of a line a comment.
    """

    comment: str = ""
    whole_lines: ClassVar[bool] = False

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        stack: list[Statement] = []
        for number, line in enumerate(self.statements_of(text), 1):
            for token in _TOKEN.findall(self.bare(line)):
                if token == "(":
                    statement = Statement("", number)
                    if not stack:
                        root.append(statement)
                    elif stack[-1].children is None:
                        stack[-1].children = [statement]
                    else:
                        stack[-1].children.append(statement)
                    stack.append(statement)
                elif not stack:
                    what = (
                        "a parenthesis is closed that was never opened"
                        if token == ")"
                        else "words outside of all parentheses"
                    )
                    raise CaptureError(Place(file, number), what, other=token != ")")
                elif token == ")":
                    stack.pop()
                else:
                    stack[-1].text = f"{stack[-1].text} {token}".lstrip()
        if stack:
            raise CaptureError(
                Place(file, stack[-1].line), "the parenthesis opened here is never closed",
                "The text breaks off: capture it again.",
            )  # fmt: skip
        return root

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        lines: list[str] = []
        self._print(statements, "", lines)
        return "\n".join(lines) + "\n" if lines else ""

    def _print(self, statements: Iterable[Statement], indent: str, lines: list[str]) -> None:
        for statement in statements:
            lines.append(f"{indent}({statement.text}")
            self._print(statement.children or (), indent + "  ", lines)
            lines[-1] += ")"


class Sections(Surface, frozen=True, tag="sections"):
    """Sections under a title in brackets, with entries `Key=value`.

    Attributes:
        comment: Characters that at the start of a line make it a comment.
        flat: Titles of sections that come once: their entries are statements `Title Key=value` of the text
            itself. Every other section is a block.
        files: Whether each block at the top is a file of its own, called by the block's text.
    """

    comment: str = "#;"
    flat: tuple[str, ...] = ()
    files: bool = False
    gap: ClassVar[tuple[str, ...]] = ("",)
    one_line: ClassVar[bool] = True
    whole_line_comments: ClassVar[bool] = True

    def arranged(self, edits: Sequence[Edit]) -> Sequence[Edit]:
        """Return edits with the flat entries in blocks, each under its title."""
        flat: dict[str, list[Edit]] = {}
        order: list[Edit | str] = []
        for each in edits:
            statement = each.before or each.after
            assert statement is not None
            title, _, _ = statement.text.partition(" ")
            if statement.children is not None:
                order.append(each)
                continue
            if title not in flat:
                order.append(title)
            flat.setdefault(title, []).append(_untitled(each))
        return [_titled(each, flat[each]) if isinstance(each, str) else each for each in order]

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        title, block = "", root
        for number, line in enumerate(self.statements_of(text), 1):
            words = line.strip(BLANKS)
            if not words or words[0] in self.comment:
                continue
            if words[0] == "[" and words[-1] == "]":
                title, block = words[1:-1], root
                if title not in self.flat:
                    root.append(Statement(title, number, []))
                    block = root[-1].children or []
                    root[-1].children = block
            elif not title:
                raise CaptureError(Place(file, number), "an entry stands before any [section]", other=True)
            else:
                block.append(Statement(f"{title} {words}" if block is root else words, number))
        return [Statement(PurePath(file).name, 1, root)] if self.files else root

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        parts: dict[object, list[str]] = {}
        for number, statement in enumerate(statements):
            if statement.children is not None:
                parts[number] = [f"[{statement.text}]", *(each.text for each in statement.children)]
            else:
                title, _, entry = statement.text.partition(" ")
                parts.setdefault(title, [f"[{title}]"]).append(entry)
        return "\n\n".join("\n".join(lines) for lines in parts.values()) + "\n" if parts else ""

    def print_inside(self, statements: Sequence[Statement]) -> str:
        """Lay entries out without the title."""
        return "".join(f"{each.text}\n" for each in statements)

    def print_files(self, statements: Sequence[Statement]) -> list[tuple[str, str]]:
        """Lay statements out as files."""
        if not self.files:
            return [("", self.print(statements))]
        return [(each.text, self.print(each.children or ())) for each in statements]


def _untitled(edit: Edit) -> Edit:
    """Return the edit of a flat entry as one under its title."""

    def entry(statement: Statement | None) -> Statement | None:
        return statement and Statement(statement.text.partition(" ")[2], statement.line)

    before = entry(edit.before)
    return Edit(before, before if edit.before is edit.after else entry(edit.after))


def _titled(title: str, entries: list[Edit]) -> Edit:
    """Return the edit of a title with its entries, which is new if none of them was there."""
    there = [each.before for each in entries if each.before is not None]
    if not there:
        return Edit(None, Statement(title, 0, edited(entries)))
    block = Statement(title, there[0].line - 1, there)
    return Edit(block, block, entries)


class Paragraphs(Surface, frozen=True, tag="paragraphs"):
    """Paragraphs of `Key: value`, parted by blank lines: the first line is a statement, the others are inside it.

    Attributes:
        comment: Characters that at the start of a line make it a comment.
    """

    comment: str = ""
    gap: ClassVar[tuple[str, ...]] = ("",)
    whole_line_comments: ClassVar[bool] = True

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        head: Statement | None = None
        for number, line in enumerate(self.statements_of(text), 1):
            words = line.strip(BLANKS)
            if not words:
                head = None
            elif words[0] in self.comment:
                continue
            elif head is None:
                head = Statement(words, number)
                root.append(head)
            elif head.children is None:
                head.children = [Statement(words, number)]
            else:
                head.children.append(Statement(words, number))
        return root

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        paragraphs = ["\n".join([each.text, *(one.text for one in each.children or ())]) for each in statements]
        return "\n\n".join(paragraphs) + "\n" if paragraphs else ""


class Tables(Surface, frozen=True, tag="tables"):
    """Tables: a title, a row of column names, and rows of cells; a row is a statement `column=cell ...`.

    Attributes:
        title: What a title begins with.
        comment: Characters that at the start of a line make it a comment.
    """

    title: str = "table"
    comment: str = "#"
    whole_lines: ClassVar[bool] = False
    whole_line_comments: ClassVar[bool] = True
    gap: ClassVar[tuple[str, ...]] = ("",)

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        columns: list[str] | None = None
        rows: list[Statement] | None = None
        for number, line in enumerate(self.statements_of(text), 1):
            cells = CELL.findall(line)
            if not cells or cells[0][0] in self.comment:
                continue
            if cells[0] == self.title and len(cells) == 2:
                rows, columns = [], None
                root.append(Statement(cells[1], number, rows))
            elif rows is None:
                raise CaptureError(Place(file, number), f"a row stands before any {self.title}", other=True)
            elif columns is None:
                columns = cells
            elif len(cells) != len(columns):
                raise CaptureError(
                    Place(file, number), f"the row has {len(cells)} cells, and the table {len(columns)} columns",
                    f"An empty cell is written as {NOTHING!r}.",
                )  # fmt: skip
            else:
                filled = [f"{name}={cell}" for name, cell in zip(columns, cells, strict=True) if cell != NOTHING]
                rows.append(Statement(" ".join(filled), number))
        return root

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text, in columns."""
        tables = []
        for table in statements:
            rows = [dict(_cells(row.text)) for row in table.children or ()]
            columns = list(dict.fromkeys(name for row in rows for name in row))
            lines = [columns, *([row.get(name, NOTHING) for name in columns] for row in rows)]
            widths = [max(len(line[n]) for line in lines) for n in range(len(columns))]
            text = [f"{self.title} {table.text}"]
            for line in lines if rows else ():
                cells = (cell.ljust(width) for cell, width in zip(line, widths, strict=True))
                text.append("  ".join(cells).rstrip())
            tables.append("\n".join(text))
        return "\n\n".join(tables) + "\n" if tables else ""


def _cells(row: str) -> list[tuple[str, str]]:
    return re.findall(r'([\w-]+)=("[^"]*"|\S+)', row)
