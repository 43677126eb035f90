"""Long lists in JSON: entries that are laid out alike are cut out, and their values kept in columns.

No cut is taken on trust. A list is cut at what seems to stand between its entries. Those that look alike are taken out
only if nothing but values differs: then each of them is as well formed as the one that stays for all of them. What is
not like that stays in the text.
"""

from __future__ import annotations

import re
from bisect import bisect
from collections import defaultdict
from collections.abc import Iterable, Sequence
from itertools import accumulate, pairwise
from operator import itemgetter

import msgspec

from agile_lattice.dialects.surfaces.statements import Statement

MANY = 64  # entries of a list, before it is worth a look
ALIKE = 8  # of how many that look alike a group is made
_OPENING = re.compile(r"\[(\s*)\{")
_DIGITS = b"0123456789abcdefABCDEF.:/"  # what addresses and numbers are made of
_TOKEN = re.compile(r'"[^"\\]*"\s*:|"(?P<text>[^"\\]*)"|(?P<bare>-?[0-9][0-9.eE+-]*|true|false|null)')
_BARE = re.compile(r"-?(?:0|[1-9][0-9]*)|true|false|null").fullmatch
_MARKS = [chr(code) for code in (*range(1, 9), *range(14, 32))]  # in no well-formed text
_OTHERS = bytes(sorted({*range(256)} - {ord(mark) for mark in _MARKS}))


class Alike(msgspec.Struct, frozen=True):
    """Entries of a list that are laid out alike: the first, their example, stays in the text.

    Attributes:
        lines: The line of the text in which each begins.
        columns: For every value of an entry, in their order, how it is spelt in each, as a statement has it.
    """

    lines: Sequence[int]
    columns: Sequence[Sequence[str]]


class Shortened(msgspec.Struct):
    """A text of which entries of long lists are cut out.

    Attributes:
        text: What is left; examples are marked.
        alike: What was cut out, by the number in the mark of its example.
        shifts: From which line of what is left on how many were cut out before.
    """

    text: str = ""
    alike: list[Alike] = msgspec.field(default_factory=list)
    shifts: list[tuple[int, int]] = msgspec.field(default_factory=lambda: [(0, 0)])

    def cut(self, example: str, alike: Alike) -> str:
        """Keep what is alike; return the example with a mark."""
        self.alike.append(alike)
        return example.replace('"', f'"\\u0001": {len(self.alike) - 1}, "', 1)

    def examples(self, statements: Sequence[Statement]) -> dict[int, Alike]:
        """Give the statements of what is left the lines of the whole text, and take out the marks.

        Returns:
            What is alike, by the identities of the examples.
        """
        found: dict[int, Alike] = {}
        for each in statements:
            each.line += self.shifts[bisect(self.shifts, each.line, key=itemgetter(0)) - 1][1]
            if each.children and each.children[0].text.startswith(_MARKS[0]):
                found[id(each)] = self.alike[int(each.children.pop(0).text.split()[1])]
            found.update(self.examples(each.children or ()))
        return found


def groups_alike(texts: Sequence[str], indices: Iterable[int]) -> list[list[int]]:
    """Group texts that differ in nothing but digits and what addresses are made of besides.

    Args:
        texts: All.
        indices: Which of them are looked at.
    """
    looks = "\0".join(texts).encode().translate(None, _DIGITS).split(b"\0")
    if len(looks) != len(texts):  # one holds a NUL
        return [[*indices]]
    alike: dict[bytes, list[int]] = defaultdict(list)
    for index in indices:
        alike[looks[index]].append(index)
    return [*alike.values()]


def shortened(text: str) -> Shortened | None:
    """Cut out what can be; None if that is nothing."""
    short = Shortened()
    left: list[str] = []
    at = 0
    opening = _OPENING.search(text)
    while opening is not None:
        start = opening.end()
        found = _entries(text, start, opening[1])
        if found is not None:
            end, between = found
            line = text.count("\n", 0, start) + 1
            rest = _cut_all(short, text, start, end, between, line) or _cut(short, text[start:end], between, line)
            left += [text[at:start], rest]
            start = at = end
        opening = _OPENING.search(text, start)
    short.text = "".join([*left, text[at:]])
    return short if short.alike else None


def _entries(text: str, start: int, lead: str) -> tuple[int, str] | None:
    """Return where the last entry of a list ends and what stands between entries, if there are many.

    Args:
        text: All.
        start: Where the first entry begins, behind its brace.
        lead: What stands before that brace.
    """
    end = text.find(f"{lead}}}\n" if lead else "}]", start)
    if end < 0:
        return None  # it is cut off, or laid out in some other way
    for between in (f"{lead}}},{lead}{{", f"{lead}}}, {lead}{{")[: 1 if lead else 2]:
        at = start
        for _ in range(MANY):
            at = text.find(between, at, end) + 1
            if not at:
                break
        else:
            return end, between
    return None


def _cut_all(short: Shortened, text: str, start: int, end: int, between: str, line: int) -> str:
    """Cut out all entries but the first and an example, if they are alike; else return nothing."""
    # Not the first, because such a statement may begin where the list is named.
    at = text.index(between, start)
    first = text[start:at]
    at += len(between)
    example = text[at : text.index(between, at)]
    columns = _columns(example, text, at, end, between)
    if columns is None:
        return ""
    height = example.count("\n") + between.count("\n")
    start = line + first.count("\n") + between.count("\n")
    lines = [start + height * index for index in range(len(columns[0]))]
    example = short.cut(example, Alike(lines, columns))
    gone = short.shifts[-1][1]
    short.shifts.append((start - gone + height, gone + height * (len(lines) - 1)))
    return first + between + example


def _cut(short: Shortened, body: str, between: str, line: int) -> str:
    """Cut out entries that are alike, of each kind all but an example."""
    entries = body.split(between)
    if "\n" not in between:
        return body  # of one line, nothing would tell where each stood among the others
    heights = [each.count("\n") + between.count("\n") for each in entries]
    lines = [*accumulate(heights, initial=line)]
    gone: set[int] = set()
    for group in groups_alike(entries, range(1, len(entries))):
        example = entries[group[0]]
        together = between.join([entries[each] for each in group])
        columns = _columns(example, together, 0, len(together), between) if len(group) >= ALIKE else None
        if columns is not None:
            entries[group[0]] = short.cut(example, Alike([lines[each] for each in group], columns))
            gone.update(group[1:])
    left = [index for index in range(len(entries)) if index not in gone]
    line -= short.shifts[-1][1]
    for index in [*left, len(entries)]:
        if lines[index] - line != short.shifts[-1][1]:
            short.shifts.append((line, lines[index] - line))
        line += heights[index] if index < len(entries) else 0
    return between.join([entries[index] for index in left])


def _columns(example: str, text: str, start: int, end: int, between: str) -> list[Sequence[str]] | None:
    """Return the values of entries in columns, in the order in which they stand; None if more than values differs.

    Args:
        example: The first of the entries.
        text: Where they stand.
        start: Where the first begins.
        end: Where the last ends.
        between: What stands between them.
    """
    values = [(each.lastgroup, *each.span(each.lastgroup)) for each in _TOKEN.finditer(example) if each.lastgroup]
    if not values:
        return None
    # What stands between two values, or between the last of an entry and the first of the next, is the same in all.
    head = example[: values[0][1]]
    parts = [example[end:start] for (*_, end), (_, start, _) in pairwise(values)]
    tail = example[values[-1][2] :]
    parts.append(tail + between + head)
    marks = dict(zip(sorted({*parts}, key=len, reverse=True), _MARKS, strict=False))
    if not text.startswith(head, start) or not text.endswith(tail, start, end) or len(marks) < len({*parts}):
        return None
    text = text[start + len(head) : end - len(tail)]
    for part, mark in marks.items():
        text = text.replace(part, mark)
    text += marks[parts[-1]]
    order = "".join([marks[part] for part in parts]).encode()
    found = text.encode().translate(None, _OTHERS)
    if len(found) % len(order) or found != order * (len(found) // len(order)):
        return None
    for mark in marks.values():
        text = text.replace(mark, "\0")
    spelt = text.split("\0")[:-1]
    columns = [spelt[index :: len(values)] for index in range(len(values))]
    if '"' in text or "\\" in text or not "".join(spelt).isprintable():
        return None
    bare = [column for column, (sort, *_) in zip(columns, values, strict=True) if sort == "bare"]
    return [*columns] if all(_BARE(each) for column in bare for each in {*column}) else None
