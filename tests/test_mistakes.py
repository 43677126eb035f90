"""Networks that are correct have no findings; each kind of mistake that is made in them is found."""

from __future__ import annotations

from mistakes import MISTAKES, look
from where import ROOT

NOT_FOUND = {"a subnet on two sites"}  # it cannot be told from a link that both are on


def test_mistakes_are_found_and_nothing_else() -> None:
    count = 3
    found, alarms = look(count, seed=7)
    assert alarms == []
    assert {words for words, times in found.items() if times == 0} == NOT_FOUND
    assert sum(found.values()) >= 0.95 * count * (len(found) - len(NOT_FOUND))


def test_every_kind_of_mistake_stands_in_the_documentation() -> None:
    page = (ROOT / "docs" / "mistakes.md").read_text()
    assert len(MISTAKES) >= 30
    assert [words for words in MISTAKES if f"| {words} |" not in page] == []
