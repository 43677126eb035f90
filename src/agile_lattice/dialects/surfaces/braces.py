"""A surface of blocks in braces."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import ClassVar

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import Statement, Surface, bare_lines, cut_comment, split_outside_quotes
from agile_lattice.intent.places import Place


class Braces(Surface, frozen=True, tag="braces"):
    """A line that ends in `{` opens a block, a line `}` closes it; semicolons part statements.

    Attributes:
        comment: Characters that make the rest of a line a comment.
        blocks: First words of statements whose block may stand on the same line; of others, braces there are words.
        end: What ends a statement and a block when they are written: nothing, or `;`.
    """

    comment: str = ""
    end: str = ""
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
        root: list[Statement] = []
        stack: list[tuple[Statement | None, list[Statement]]] = [(None, root)]
        here = root
        pending, pending_line = "", 0
        for number, words in bare_lines(text, self.comment):
            if not pending and "{" not in words and "}" not in words:
                at = words.find(";")
                if at < 0 or at == len(words) - 1 > 0:  # most lines are one statement
                    here.append(Statement(words if at < 0 else words[:-1].rstrip(), number))
                    continue
            if words in ("}", "};") and not pending:
                if len(stack) == 1:
                    raise CaptureError(Place(file, number), "a block is closed that was never opened")
                stack.pop()
                here = stack[-1][1]
                continue
            if pending:
                words, start = f"{pending} {words}", pending_line
                pending = ""
            else:
                start = number
            if words[-1] == "{" and "=" not in words:
                block = Statement(words[:-1].rstrip(), start, [])
                here.append(block)
                here = block.children or []
                block.children = here
                stack.append((block, here))
            elif words.split(None, 1)[0] in self.blocks and _open_braces(words) == 0 and "{" in words:
                here.extend(self._in_one_line(words, start))
            elif "{" in words and _open_braces(words) > 0:
                pending, pending_line = words, start
            else:
                here.extend([Statement(part, start) for part in _statements(words)])
        if len(stack) > 1 or pending:
            opened = stack[-1][0]
            at = opened.line if opened and not pending else pending_line
            raise CaptureError(
                Place(file, at), "the block opened here is never closed", "The text breaks off: capture it again."
            )
        return root

    def _in_one_line(self, words: str, line: int) -> list[Statement]:
        """Cut a line apart that has whole blocks."""
        found = []
        for each in _statements(words):
            if each.partition(" ")[0] not in self.blocks or "{" not in each:
                found.append(Statement(each, line))
                continue
            head, _, rest = each.partition("{")
            found.append(Statement(head.rstrip(), line, self._in_one_line(rest.rpartition("}")[0].strip(), line)))
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
            lines.append(f"{indent}}}{end}")


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
