"""Lines of a draft: statements of one skeleton, with placeholders for what differs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from agile_lattice.dialects.drafting.matching import Said, Word

APART = ("stage", "verdict", "loopback")  # in which statements of one line agree


class Line(msgspec.Struct):
    """A line of the draft: statements of one skeleton.

    Attributes:
        said: What each of them says.
        words: The words, with placeholders.
        inside: The lines of its block.
        open: Whether it opens one.
    """

    said: list[Said]
    words: list[Word]
    inside: list[Line]
    open: bool = False


def every(lines: Iterable[Line]) -> Iterator[Line]:
    """Yield lines, and those of their blocks."""
    for each in lines:
        yield each
        yield from every(each.inside)


def merged(lines: Sequence[Line]) -> list[Line]:
    """Put lines of one skeleton together, and those of which one has a part more than the other."""
    found: list[Line] = []
    for line in lines:
        for known in found:
            if _sort(known) == _sort(line) and (words := _together(known.words, line.words)) is not None:
                known.words = words
                known.said += line.said
                known.inside += line.inside
                known.open |= line.open
                break
        else:
            found.append(line)
    for line in found:
        line.inside = merged(line.inside)
    return found


def _sort(line: Line) -> tuple[object, ...]:
    """Return what statements of one line have in common, besides their words."""
    if not line.said:
        return ()
    facts = line.said[0].facts if line.said[0].kinds else ()
    return (line.said[0].kinds, *(getattr(fact, field, None) for fact in facts[:1] for field in APART))


def _together(one: Sequence[Word], other: Sequence[Word]) -> list[Word] | None:
    """Return the words of two statements as one, with an option for what only one has; None if they differ more."""
    if [_shown(each) for each in one] == [_shown(each) for each in other]:
        return list(one)
    long, short = (one, other) if len(one) > len(other) else (other, one)
    for start in range(1, len(long)):
        end = start + len(long) - len(short)
        rest = [*long[:start], *long[end:]]
        inside = long[start:end]
        if [_shown(each) for each in rest] == [_shown(each) for each in short] and any(each.field for each in inside):
            if len(inside) == 1 and inside[0].text.startswith("[") and inside[0].text == inside[0].placeholder:
                return list(long)  # it is an option already
            opened = f"[{joined(inside)}]"
            option = Word(opened, inside[0].glued, opened, inside[0].field)
            return [*long[:start], option, *long[end:]]
    return None


def _shown(word: Word) -> str:
    return word.placeholder or re.sub(r"([\\\[\](){}|<>@])", r"\\\1", word.text)


def joined(words: Sequence[Word]) -> str:
    """Return words as a dialect file has them."""
    text = ""
    for number, each in enumerate(words):
        text += ("" if each.glued or number == 0 else " ") + _shown(each)
    return text
