"""Statements: what every surface makes of a text, and makes a text of."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import ClassVar

import msgspec

ENTRY = "-"
BLANKS = " \t"  # what stands between words, and around them; what else Unicode counts as white space is a character


class Statement(msgspec.Struct, gc=False):
    """One statement of a text.

    Attributes:
        text: Its words, without indentation, punctuation of the surface, and comments.
        line: Its first line, from 1.
        children: The statements of its block; `None` if it opens none.
        arm: Which of the statements it is that one stands for of which at most one applies, from 1; else 0.
    """

    text: str
    line: int
    children: list[Statement] | None = None
    arm: int = 0


def rewritten(
    statements: Iterable[Statement], change: Callable[[Statement], Iterable[Statement] | None]
) -> Iterator[Statement]:
    """Yield statements with others in the place of some; those without any are the same objects.

    Args:
        statements: All of them.
        change: Gets each that opens no block, and returns what stands in its place; `None` for itself.
    """
    for each in statements:
        if each.children is None:
            instead = change(each)
            yield from [each] if instead is None else instead
            continue
        children = [*rewritten(each.children, change)]
        same = len(children) == len(each.children) and all(map(operator.is_, children, each.children))
        yield each if same else Statement(each.text, each.line, children)


class Edit(msgspec.Struct):
    """What becomes of one statement.

    Attributes:
        before: The statement as it is; `None` for one that comes in.
        after: The statement as it is to be; `None` for one that goes, the same object for one that stays.
        inside: What becomes of the statements of its block; `None` if nothing does, or it is no block.
    """

    before: Statement | None
    after: Statement | None
    inside: list[Edit] | None = None

    @property
    def changes(self) -> bool:
        """Whether anything becomes of it."""
        return self.before is not self.after or any(each.changes for each in self.inside or ())


def edited(edits: Sequence[Edit]) -> list[Statement]:
    """Return the statements after the edits."""
    found = []
    for each in edits:
        if each.after is not None:
            children = each.after.children if each.inside is None else edited(each.inside)
            found.append(Statement(each.after.text, each.after.line, children))
    return found


class Surface(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag_field="kind"):
    """How a dialect's text is laid out. A surface knows nothing of what statements mean.

    Attributes:
        line_ends: What ends a line for the program that reads such texts, besides a carriage return before a line
            feed. What does not is a character of the line, in a comment as elsewhere.
        continued: What a line ends with that goes on in the next; empty if none does.
        whole_lines: Whether what stands in a block can begin on lines of its own.
        one_line: Whether a statement that is no block is one line, whatever follows.
        closed: Whether something ends a block.
        whole_line_comments: Whether a comment begins where its line does, and nowhere else.
        parted: Whether a text can have parts of several dialects, each a statement at the top.
        gap: Lines that part one statement at the top from the next.
    """

    line_ends: tuple[str, ...] = ("\n",)
    continued: str = ""
    whole_lines: ClassVar[bool] = True
    one_line: ClassVar[bool] = False
    closed: ClassVar[bool] = False
    whole_line_comments: ClassVar[bool] = False
    parted: ClassVar[bool] = False
    gap: ClassVar[tuple[str, ...]] = ()

    @property
    def marks(self) -> str:
        """Characters that make the rest of a line a comment."""
        return "" if self.whole_line_comments else str(getattr(self, "comment", ""))

    @property
    def line_marks(self) -> str:
        """Characters that at the start of a line make all of it a comment."""
        return str(getattr(self, "comment", "")) if self.whole_line_comments else ""

    def lines(self, text: str) -> list[str]:
        """Return the lines of a text as its program has them, without what ends them."""
        return lines_of(text, self.line_ends)

    def statements_of(self, text: str) -> list[str]:
        """Return the lines of a text, one that goes on in others with these; in the place of each of those nothing."""
        lines = [line.removesuffix("\r") for line in self.lines(text)]
        if not self.continued or self.continued not in text:
            return lines
        first: int | None = None
        for number, line in enumerate(lines):
            remark = not line.strip(BLANKS) or line.strip(BLANKS)[0] in (self.marks or self.line_marks)
            goes_on = line.endswith(self.continued) and not (remark and first is None)
            words = line.removesuffix(self.continued) if goes_on else line
            if first is not None:
                lines[first], lines[number] = f"{lines[first].rstrip(BLANKS)} {words.lstrip(BLANKS)}", ""
            elif goes_on:
                lines[number] = words
            first = (number if first is None else first) if goes_on else None
        return lines

    def bare(self, line: str) -> str:
        """Return a line without the blanks around it, and without a comment."""
        words = line.removesuffix("\r").strip(BLANKS)
        return "" if words[:1] and words[0] in self.line_marks else cut_comment(words, self.marks)

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return ""

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return False

    def closes_all(self, last: str) -> bool:
        """Tell whether something that says nothing stands around everything, and ends in the last line."""
        return False

    def arranged(self, edits: Sequence[Edit]) -> Sequence[Edit]:
        """Return edits of a whole text in the blocks in which its lines stand."""
        return edits

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

    def print_inside(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as they stand inside a block."""
        return self.print(statements)

    def print_files(self, statements: Sequence[Statement]) -> list[tuple[str, str]]:
        """Lay statements out as files: name and text of each; the name is empty where the form says it."""
        return [("", self.print(statements))]


def lines_of(text: str, ends: Sequence[str] = ("\n",)) -> list[str]:
    """Cut a text into lines, by nothing but what ends a line for the program that reads it.

    Args:
        text: The text.
        ends: What ends a line, a line feed among it.

    Returns:
        The lines without their ends; a carriage return before a line feed is left at the end of its line.
    """
    for end in ends:
        if end == "\r":
            text = text.replace("\r\n", "\n")
        if end != "\n":
            text = text.replace(end, "\n")
    lines = text.split("\n")
    return lines[:-1] if lines[-1] == "" else lines


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
    return line.strip(BLANKS)
