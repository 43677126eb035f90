"""Statements: what every surface makes of a text, and makes a text of."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

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


class Surface(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag_field="kind"):
    """How a dialect's text is laid out. A surface knows nothing of what statements mean."""

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements.

        Args:
            text: The whole text.
            file: Its name, for messages.

        Raises:
            CaptureError: If the text breaks off, or is not of this surface at all.
        """
        raise NotImplementedError

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text, ending in a line break; empty if there are none."""
        raise NotImplementedError

    def print_files(self, statements: Sequence[Statement]) -> list[tuple[str, str]]:
        """Lay statements out as files: name and text of each; the name is empty where the form says it."""
        return [("", self.print(statements))]


def cut_comment(line: str, marks: str) -> str:
    """Strip white space and a comment that no quotes protect."""
    if marks and (marks in line if len(marks) == 1 else any(mark in line for mark in marks)):
        quoted = False
        for index, character in enumerate(line):
            if character == '"':
                quoted = not quoted
            elif character in marks and not quoted:
                line = line[:index]
                break
    return line.strip()


def split_outside_quotes(text: str, mark: str) -> list[str]:
    """Split at a mark that no quotes protect; empty parts are left out."""
    if mark not in text:
        return [text]
    if text[-1] == mark and text.count(mark) == 1:  # by far the most common case
        return [text[:-1].rstrip()] if len(text) > 1 else []
    parts = re.findall(rf'(?:[^{re.escape(mark)}"]|"[^"]*"?)+', text)
    return [part.strip() for part in parts if part.strip()]
