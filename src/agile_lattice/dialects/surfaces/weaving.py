"""Edits put into a text: what does not change keeps its lines, its remarks and its layout."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from agile_lattice.dialects.surfaces.documents import Json
from agile_lattice.dialects.surfaces.statements import BLANKS, Edit, Statement, Surface, edited, lines_of


def woven(surface: Surface, text: str, edits: Sequence[Edit]) -> str:
    """Return a text with the edits of its statements."""
    if isinstance(surface, Json):
        return surface.edited(text, edits)
    lines = surface.lines(text)
    weaver = _Weaver(surface, lines)
    weaver.block(surface.arranged(edits), 0, weaver.end_of_all(), "", top=True)
    # From the end, so that line numbers hold; of two pieces at one line the second first.
    for (start, end), _, new in sorted(weaver.pieces, reverse=True):
        lines[start:end] = new
    return "\n".join(lines) + "\n" if lines else ""


class _Weaver:
    def __init__(self, surface: Surface, lines: list[str]) -> None:
        self.surface = surface
        self.lines = lines
        # From line to line (the second not included), the number of the piece, and what stands there then.
        self.pieces: list[tuple[tuple[int, int], int, list[str]]] = []

    def end_of_all(self) -> int:
        """Return the line behind the last statement: what closes something around all of them is left alone."""
        end = len(self.lines)
        while end and not self.lines[end - 1].strip():
            end -= 1
        return end - 1 if end and self.surface.closes_all(self.lines[end - 1]) else end

    def block(self, edits: Sequence[Edit], low: int, high: int, indent: str, top: bool = False) -> None:
        """Edit the statements between two lines; `top` for those that stand in nothing else."""
        starts = [each.before.line - 1 for each in edits if each.before is not None]
        limits = iter([*starts[1:], high])
        gap = list(self.surface.gap) if top else []
        if starts:
            indent = self.indent(starts[0])
        first = True
        at = starts[0] if top and starts else low
        # What comes in at one place goes in as one piece: so it keeps its order.
        new: list[str] = []
        remarked = False
        for each in edits:
            if each.before is None:
                assert each.after is not None
                lines = self.printed([each.after], indent, top)
                between = [] if remarked and not new else gap
                new += [*lines, *gap] if first and starts else [*between, *lines]
                continue
            self.put(at, at, new)
            new, first = [], False
            start = each.before.line - 1
            at = self.end(each.before, start, next(limits))
            self.one(each, start, at, top)
            # What takes the place of a statement has its remark.
            remarked = each.after is None and start > 0 and bool(self.lines[start - 1].strip())
        self.put(at, at, new)

    def one(self, edit: Edit, start: int, end: int, top: bool) -> None:
        """Edit one statement that is there."""
        if not edit.changes:
            return
        assert edit.before is not None
        if edit.after is None:
            while start and self.surface.gap and not self.lines[start - 1].strip():
                start -= 1
            self.put(start, end, [])
        elif edit.before is edit.after and edit.inside and edited(edit.inside) and self.nests(edit, start, end):
            closed = self.surface.closes(self.lines[end - 1])
            self.block(edit.inside, start + 1, end - closed, self.indent(start) + self.surface.inner)
        else:
            remarks = list(self.remarks(start, end))
            self.put(start, end, [*remarks, *self.printed(edited([edit]), self.indent(start), top)])

    def put(self, start: int, end: int, new: list[str]) -> None:
        if start != end or new:
            self.pieces.append(((start, end), len(self.pieces), new))

    def end(self, statement: Statement, start: int, limit: int) -> int:
        """Return the line behind a statement; remarks and blank lines before the next one belong to neither."""
        if self.surface.one_line:
            return max([start + 1, *(each.line for each in statement.children or ())])
        while limit - 1 > start and not self.surface.bare(self.lines[limit - 1]):
            limit -= 1
        return limit

    def nests(self, edit: Edit, start: int, end: int) -> bool:
        """Tell whether what changes inside a statement has its lines for itself, and what comes in a place."""
        if not self.surface.whole_lines or edit.before is None or not edit.before.children:
            return False
        if self.surface.closed and not self.surface.closes(self.lines[end - 1]):
            return False
        last, parted = start, False  # the line of the statement before, and whether something is between the two
        for each in edit.inside or ():
            if each.before is None:
                parted = True
                continue
            line = each.before.line - 1
            if line == last and (parted or each.changes):
                return False
            last, parted = line, each.changes
        return True

    def indent(self, line: int) -> str:
        text = self.lines[line]
        return text[: len(text) - len(text.lstrip(BLANKS))]

    def remarks(self, start: int, end: int) -> Iterator[str]:
        """Yield the remarks in lines that are written anew."""
        for line in self.lines[start:end]:
            rest = line.strip().removeprefix(self.surface.bare(line)).strip()
            if rest:
                yield self.indent(start) + rest

    def printed(self, statements: list[Statement], indent: str, top: bool) -> list[str]:
        text = self.surface.print(statements) if top else self.surface.print_inside(statements)
        return [indent + line for line in lines_of(text)]
