"""Surfaces whose statements are lines: flat, or nested by indentation."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from agile_lattice.dialects.surfaces.statements import Statement, Surface, cut_comment


class Lines(Surface, frozen=True, tag="lines"):
    """One statement a line.

    Attributes:
        comment: Characters that make the rest of a line a comment.
    """

    comment: str = ""

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        marks = self.comment
        return [Statement(bare, n) for n, line in enumerate(text.splitlines(), 1) if (bare := cut_comment(line, marks))]

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        return "".join([f"{each.text}\n" for each in statements])


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

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return self.step

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return bool(self.close) and line.strip() == self.close

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        root: list[Statement] = []
        stack: list[tuple[int, list[Statement]]] = [(0, root)]
        before: Statement | None = None
        for number, line in enumerate(text.splitlines(), 1):
            words = line.strip()
            if not words or words[0] in self.comment:
                continue
            depth = 0 if line[0] == words[0] else len(line) - len(line.lstrip())
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
