"""Rules that say `any interface but lan0`, or `eth*`, with the names that an intent has for these interfaces."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

import msgspec

from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.interface_names import includes, is_plain
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.translations import Translation

T = TypeVar("T", Translation, Permit, Access)
FIELDS = ("arrives", "leaves", "facing")


class Spoken:
    """Rules with names of interfaces in place of descriptions.

    Args:
        names: All interfaces that are known.
        all_known: Whether there are no others.

    Attributes:
        leftovers: Rules that are about interfaces of which nothing is known, or may be.
    """

    def __init__(self, names: Iterable[str], all_known: bool) -> None:
        self.names, self.all_known = sorted(names), all_known
        self.leftovers: list[Leftover] = []

    def of(self, rules: Iterable[T]) -> tuple[T, ...]:
        """Return rules with names; one that is about no known interface is left out."""
        return tuple(found for each in rules if (found := self._one(each)) is not None)

    def _one(self, rule: T) -> T | None:
        said = {
            field: sides
            for field in FIELDS
            if (sides := getattr(rule, field, None)) and not all(is_plain(name) for name in sides)
        }
        if not said:
            return rule
        named = {field: tuple(each for each in self.names if includes(sides, each)) for field, sides in said.items()}
        if not self.all_known:
            taken = "; ".join(
                f"{_words(sides)}, taken as {', '.join(named[field]) or 'none'}" for field, sides in said.items()
            )
            reason = f"it is for {taken}: no text says which interfaces there are"
            self.leftovers.append(Leftover(rule.place, rule.name or "a rule", (), reason))
        return msgspec.structs.replace(rule, **named) if all(named.values()) else None


def _words(sides: tuple[str, ...]) -> str:
    return " or ".join(f"any interface but {each[1:]}" if each.startswith("!") else each for each in sides)
