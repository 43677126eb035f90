"""Words of a device that stand for values: those that are there if, and only if, a field has a certain value."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import msgspec

from agile_lattice.dialects.drafting.lines import Line, every, joined
from agile_lattice.dialects.drafting.matching import Said, Word
from agile_lattice.dialects.drafting.spelling import WORDED


def worded(lines: Sequence[Line]) -> dict[str, dict[str, Any]]:
    """Find words that stand for values of a field, and put placeholders in their places."""
    groups: dict[tuple[str, str], list[tuple[Line, Any]]] = defaultdict(list)
    for line in every(lines):
        for said in line.said:
            for fact in said.facts if said.kinds else ():
                first = line.words[0].text if not line.words[0].field else ""
                groups[type(fact).__name__, first].append((line, fact))
    types: dict[str, dict[str, Any]] = defaultdict(dict)
    for members in groups.values():
        for field in WORDED:
            if hasattr(members[0][1], field):
                for text, value in _telling(members, field):
                    types[field][text] = value
                    for line, _ in members:
                        line.words = [_as(word, field) if _is(word, text) else word for word in line.words]
    return types


def ranked(lines: Iterable[Line]) -> None:
    """Put a rank in place of the number in the first line of a rule, if no value of the rule was found there."""
    for line in every(lines):
        if line.said and line.said[0].kinds in (("rule",), ("permit",)):
            at = next((n for n, each in enumerate(line.words) if not each.field and each.text.isdigit()), None)
            if at is not None:
                line.words[at] = msgspec.structs.replace(line.words[at], placeholder="<rank:number>", field="rank")


def shut(lines: Iterable[Line], types: dict[str, dict[str, Any]]) -> None:
    """Find a statement that stands in the block of an interface if, and only if, that is down."""
    blocks = [line for line in every(lines) if line.open and line.said and line.said[0].kinds[:1] == ("interface",)]
    states = [(line, getattr(line.said[0].facts[0], "enabled", True)) for line in blocks]
    texts = {joined(each.words) for line, enabled in states if not enabled for each in line.inside if not each.said}
    for text in sorted(texts):
        if all((text in {joined(each.words) for each in line.inside}) != enabled for line, enabled in states):
            types["enabled"][text] = False
            for line, _ in states:
                for each in line.inside:
                    if joined(each.words) == text:
                        each.words = [Word(text, False, "<enabled>", "enabled")]
                        each.said = [Said((), line.said[0].facts, tuple(each.words), frozenset({"enabled"}))]
            return


def _telling(members: Sequence[tuple[Line, Any]], field: str) -> Iterator[tuple[str, Any]]:
    """Yield the words that stand in a statement if, and only if, a field of its fact has a certain value."""
    texts = dict.fromkeys(word.text for line, _ in members for word in line.words if not word.field)
    found: dict[Any, list[str]] = defaultdict(list)
    for text in texts:
        there = {getattr(fact, field) for line, fact in members if any(_is(word, text) for word in line.words)}
        away = {getattr(fact, field) for line, fact in members if not any(_is(word, text) for word in line.words)}
        if len(there) == 1 and None not in there and not there & away and (away or text in there):
            found[next(iter(there))].append(text)
    places = {text: _places(members, text) for candidates in found.values() for text in candidates}
    for value, candidates in found.items():
        others = {each for other, texts in found.items() if other != value for text in texts for each in places[text]}
        beside = [text for text in candidates if places[text] & others]
        # The word itself, or one that stands where another value has its word, or the first that tells.
        yield (value if value in candidates else (beside or candidates)[-1 if beside else 0]), value


def _places(members: Sequence[tuple[Line, Any]], text: str) -> set[int]:
    """Return where a word stands in its statement, counted from both ends."""
    for line, _ in members:
        for at, word in enumerate(line.words):
            if _is(word, text):
                return {at, at - len(line.words)}
    return set()


def _is(word: Word, text: str) -> bool:
    return not word.field and word.text == text and any(map(str.isalnum, text))


def _as(word: Word, field: str) -> Word:
    return msgspec.structs.replace(word, placeholder=f"<{field}>", field=field)
