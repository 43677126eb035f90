"""Plain statements, of which most of a long text is: each is a whole fact by itself. It must be quick.

Lines that look alike are looked at together. One is understood by itself; if it has a mould, all others that fit in it
are understood with it: first all are matched, then their values are read field by field.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import repeat

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.moulds import Mould
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.patterns import NOT_OF_KIND
from agile_lattice.dialects.surfaces import ALIKE, Statement, groups_alike
from agile_lattice.intent.places import Place

WINDOW = 1000  # statements that are looked at together

Usual = tuple[Mould, Phrase]  # what most lines fit in, and what they are


def all_but_plain(statements: Sequence[Statement], block: Block, file: str, facts: Facts) -> Iterator[Statement]:
    """Make facts of plain statements; yield the others in turn.

    Args:
        statements: Those of a block that makes no fact, and of which facts inside take over nothing.
        block: The phrases that they can be.
        file: The name of the text.
        facts: By kind; gets those that are made.
    """
    usual: Usual | None = None
    for start in range(0, len(statements), WINDOW):
        window = _Window(statements[start : start + WINDOW], block, file)
        usual = window.understand(usual)
        for statement, kind, fact in zip(window.statements, window.kinds, window.made, strict=True):
            if fact is None:
                yield statement
            else:
                facts[kind].append(fact)


class _Window:
    """Some statements, and the facts that are made of them so far.

    Attributes:
        statements: All.
        kinds, made: By statement the fact that it is, and its kind; empty and None if it is none by itself.
    """

    def __init__(self, statements: Sequence[Statement], block: Block, file: str) -> None:
        self.statements, self._block, self._file = statements, block, file
        self.kinds = [""] * len(statements)
        self.made: list[Fact | None] = [None] * len(statements)
        self._texts = [each.text for each in statements]

    def understand(self, usual: Usual | None) -> Usual | None:
        """Make facts of all that is plain.

        Args:
            usual: What may well be the only one that is needed.

        Returns:
            The same for what comes next.
        """
        leaves = [index for index, each in enumerate(self.statements) if each.children is None]
        if usual is not None and self._pour_all(*usual, leaves):
            return usual
        groups = sorted(groups_alike(self._texts, leaves), key=len)
        self._understand([index for group in groups if len(group) < ALIKE for index in group])
        for group in groups:
            if len(group) >= ALIKE:
                usual = self._understand(group, alike=True)
        return usual

    def _understand(self, indices: Sequence[int], alike: bool = False) -> Usual | None:
        """Make facts of some statements; return what the first of them that is plain fits in."""
        tried: list[Mould] = []
        first = None
        while indices:
            found = self._alone(indices[0])
            indices = indices[1:]
            if found is not None and found[0] not in tried:
                first = first or found
                tried.append(found[0])
                if alike and self._pour_all(*found, indices):
                    break
                indices = self._pour(*found, indices)
        return first

    def _alone(self, index: int) -> Usual | None:
        """Make the fact that a statement is by itself; return what others like it would fit in."""
        phrase, found = _first_match(self._texts[index], self._block)
        if phrase is None or found is None or phrase.moulds is None:
            return None
        try:
            [place] = self._places([index])
            self.made[index] = phrase.moulds.make(place, *found.groups())
        except NOT_OF_KIND:
            return None
        self.kinds[index] = phrase.kind
        mould = phrase.moulds.of(found)
        return (mould, phrase) if mould is not None else None

    def _pour_all(self, mould: Mould, phrase: Phrase, indices: Sequence[int]) -> bool:
        """Make facts of statements if all of them fit in a mould; tell whether they do."""
        if not indices:
            return True
        rows = mould.lines(" " + "\n ".join([self._texts[index] for index in indices]))
        if len(rows) != len(indices):
            return False
        try:
            facts = _facts(mould, phrase, rows, self._places(indices))
        except NOT_OF_KIND:
            return False
        self._keep(phrase.kind, indices, facts)
        return True

    def _pour(self, mould: Mould, phrase: Phrase, indices: Sequence[int]) -> Sequence[int]:
        """Make facts of those statements that fit in a mould; return the others."""
        matches = [mould.match(" " + self._texts[index]) for index in indices]
        rest = [index for index, match in zip(indices, matches, strict=True) if match is None]
        fitting = [index for index, match in zip(indices, matches, strict=True) if match is not None]
        rows = [match.groups() for match in matches if match is not None]
        self._keep(phrase.kind, fitting, _right_facts(mould, phrase, rows, self._places(fitting)))
        return rest

    def _keep(self, kind: str, indices: Sequence[int], facts: Sequence[Fact | None]) -> None:
        for index, fact in zip(indices, facts, strict=True):
            self.kinds[index], self.made[index] = kind, fact

    def _places(self, indices: Sequence[int]) -> Sequence[Place]:
        return [*map(Place, repeat(self._file), [self.statements[index].line for index in indices])]


def _facts(mould: Mould, phrase: Phrase, rows: Sequence[tuple[str, ...]], places: Sequence[Place]) -> list[Fact]:
    """Make facts of statements that fit in a mould.

    Raises:
        ValueError, OSError, KeyError: If only the form of one is right.
    """
    return phrase.moulds.facts(mould, [*zip(*rows, strict=True)], places) if phrase.moulds is not None else []


def _right_facts(
    mould: Mould, phrase: Phrase, rows: Sequence[tuple[str, ...]], places: Sequence[Place]
) -> Sequence[Fact | None]:
    """Make facts of statements that fit in a mould; of one of which only the form is right, none."""
    if not rows:
        return []
    try:
        return _facts(mould, phrase, rows, places)
    except NOT_OF_KIND:
        if len(rows) == 1:
            return [None]
        half = len(rows) // 2
        return [
            *_right_facts(mould, phrase, rows[:half], places[:half]),
            *_right_facts(mould, phrase, rows[half:], places[half:]),
        ]


def _first_match(text: str, block: Block) -> tuple[Phrase | None, re.Match[str] | None]:
    """Return the first phrase of a block that a statement has the form of."""
    for phrase in block.candidates(text):
        found = phrase.pattern.matched(text)
        if found is not None:
            return phrase, found
    return None, None
