"""Surfaces: how the text of a configuration becomes nested statements, and back.

    lines      one statement a line
    indent     statements nest by indentation, a closing word may end a block
    braces     a line that ends in `{` opens a block, a line `}` closes it
    document   JSON: every member of an object is a statement `key value`, members that are
               objects or lists are blocks, and each object in a list is a block called `-`

A surface knows nothing of what statements mean.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import Any

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.intent.places import Place

ENTRY = "-"


class Statement(msgspec.Struct, gc=False):
    """One statement of a text.

    Attributes:
        text: Its words, without indentation, punctuation of the surface, and comments.
        line: Its first line, from 1.
        children: The statements of its block; `None` if it opens none.
    """

    text: str
    line: int
    children: list[Statement] | None = None


class Surface(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a dialect's text is laid out.

    Attributes:
        kind: See the module.
        comment: Characters that make the rest of a line a comment; with `indent`, at its start only.
        close: A word that ends a block.
        between: A line written between blocks.
    """

    kind: str
    comment: str = ""
    close: str = ""
    between: str = ""

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements.

        Raises:
            CaptureError: If the text breaks off, or is not of this surface at all.
        """
        if self.kind == "document":
            return _parse_document(text, file)
        lines = text.splitlines()
        if self.kind == "lines":
            cut = self._cut
            return [Statement(bare, n) for n, line in enumerate(lines, 1) if (bare := cut(line))]
        if self.kind == "indent":
            return self._parse_indent(lines)
        return self._parse_braces(lines, file)

    def print(self, statements: Iterable[Statement]) -> str:
        """Lay statements out as text, ending in a line break."""
        lines: list[str] = []
        self._print(statements, "", lines)
        return "\n".join(lines) + "\n" if lines else ""

    def _cut(self, line: str) -> str:
        """Strip white space and a comment that no quotes protect."""
        comment = self.comment
        if comment and comment in line:
            quoted = False
            for index, character in enumerate(line):
                if character == '"':
                    quoted = not quoted
                elif character == comment and not quoted:
                    line = line[:index]
                    break
        return line.strip()

    def _parse_indent(self, lines: list[str]) -> list[Statement]:
        root: list[Statement] = []
        stack: list[tuple[int, list[Statement]]] = [(0, root)]
        before: Statement | None = None
        for number, line in enumerate(lines, 1):
            text = line.strip()
            if not text or text[0] in self.comment:
                continue
            depth = 0 if line[0] == text[0] else len(line) - len(line.lstrip())
            if text == self.close and before is not None:
                before = None
                stack = [each for each in stack if each[0] <= depth] or stack[:1]
                continue
            if before is not None and depth > stack[-1][0]:
                before.children = []
                stack.append((depth, before.children))
            while len(stack) > 1 and depth < stack[-1][0]:
                stack.pop()
            before = Statement(text, number)
            stack[-1][1].append(before)
        return root

    def _parse_braces(self, lines: list[str], file: str) -> list[Statement]:
        root: list[Statement] = []
        stack: list[tuple[Statement | None, list[Statement]]] = [(None, root)]
        here = root
        pending, pending_line = "", 0
        for number, line in enumerate(lines, 1):
            text = self._cut(line)
            if not text:
                continue
            if text == "}" and not pending:
                if len(stack) == 1:
                    raise CaptureError(Place(file, number), "a block is closed that was never opened")
                stack.pop()
                here = stack[-1][1]
                continue
            if pending:
                text, start = f"{pending} {text}", pending_line
                pending = ""
            else:
                start = number
            if text[-1] == "{" and "=" not in text:
                block = Statement(text[:-1].rstrip(), start, [])
                here.append(block)
                here = block.children or []
                block.children = here
                stack.append((block, here))
            elif "{" in text and _open_braces(text) > 0:
                pending, pending_line = text, start
            else:
                here.extend([Statement(part, start) for part in _semicolons(text)])
        if len(stack) > 1 or pending:
            opened = stack[-1][0]
            at = opened.line if opened and not pending else pending_line
            raise CaptureError(
                Place(file, at),
                "the block opened here is never closed",
                "The text breaks off: capture it again.",
            )
        return root

    def _print(self, statements: Iterable[Statement], indent: str, lines: list[str]) -> None:
        braces = self.kind == "braces"
        step = "\t" if braces else " "
        for statement in statements:
            if statement.children is None:
                lines.append(indent + statement.text)
                continue
            if self.between and lines and lines[-1] != self.between:
                lines.append(self.between)
            lines.append(f"{indent}{statement.text} {{" if braces else indent + statement.text)
            self._print(statement.children, indent + step, lines)
            if braces:
                lines.append(indent + "}")
            elif self.close:
                lines.append(indent + self.close)
            if self.between:
                lines.append(self.between)


def _open_braces(text: str) -> int:
    """Count the braces that a line leaves open, outside quotes."""
    bare = re.sub(r'"[^"]*"', "", text)
    return bare.count("{") - bare.count("}")


def _semicolons(text: str) -> list[str]:
    """Split at semicolons that no quotes protect."""
    if ";" not in text:
        return [text]
    parts = re.findall(r'(?:[^;"]|"[^"]*"?)+', text)
    return [part.strip() for part in parts if part.strip()]


def _parse_document(text: str, file: str) -> list[Statement]:
    decoder = json.JSONDecoder()
    start = len(text) - len(text.lstrip())
    if text[start : start + 1] != "[":
        raise CaptureError(Place(file, 1), "this is not a JSON list", other=True)
    statements: list[Statement] = []
    at = start + 1
    lines = _Lines(text)
    try:
        while True:
            at = _skip(text, at)
            if text[at : at + 1] == "]" and not statements:
                break  # an empty list
            lines.to(at)
            item, at = decoder.raw_decode(text, at)
            if item != {}:  # ip prints one for each entry that it filtered out
                statements.append(_item(item, lines))
            at = _skip(text, at)
            if text[at : at + 1] == "]":
                break
            if text[at : at + 1] != ",":
                raise json.JSONDecodeError("expected a comma or ]", text, at)
            at += 1
        if text[_skip(text, at + 1) :]:
            raise json.JSONDecodeError("something follows the list", text, at + 1)
    except json.JSONDecodeError as error:
        raise CaptureError(
            Place(file, error.lineno), f"not well-formed JSON: {error.msg}", "It may be cut off: capture it again."
        ) from None
    except RecursionError:
        raise CaptureError(Place(file, lines.line), "the document nests too deeply") from None
    return statements


_WHITE = re.compile(r"[ \t\r\n]*")


def _skip(text: str, at: int) -> int:
    found = _WHITE.match(text, at)
    return found.end() if found else at


class _Lines:
    """Counts lines along a JSON text: members stand in it in the order in which they were decoded."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.line = text, 0, 1

    def to(self, at: int) -> int:
        """Go to an offset; return its line."""
        if at > self.at:
            self.line += self.text.count("\n", self.at, at)
            self.at = at
        return self.line

    def key(self, key: str) -> int:
        """Go to the next place where a key is written; return its line."""
        return self.to(self.text.find(json.dumps(key), self.at) + 1)


def _item(value: Any, lines: _Lines) -> Statement:
    """Make a statement of a list's item: objects and lists become entries."""
    if isinstance(value, dict):
        members = [_member(str(key), each, lines) for key, each in value.items()]
        return Statement(ENTRY, members[0].line if members else lines.line, members)
    if isinstance(value, list):
        return Statement(ENTRY, lines.line, [_item(each, lines) for each in value])
    return Statement(_scalar(value), lines.line)


def _member(key: str, value: Any, lines: _Lines) -> Statement:
    line = lines.key(key)
    if isinstance(value, dict):
        return Statement(key, line, [_member(str(name), each, lines) for name, each in value.items()])
    if isinstance(value, list):
        return Statement(key, line, [_item(each, lines) for each in value])
    return Statement(f"{key} {_scalar(value)}", line)


def _scalar(value: Any) -> str:
    # Text that could break a line apart, or hide what it is, stays in JSON's own spelling.
    return value if isinstance(value, str) and value.isprintable() else json.dumps(value)
