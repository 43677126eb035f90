"""What is usually so of the conditions of rules, as a dialect says it, and what of that was assumed."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Literal

import msgspec

from agile_lattice.intent.places import Place

Assumption = Literal["within-rates", "ordinary"]
MEANS: Mapping[Assumption, str] = {
    "within-rates": "no rate, count or quota is exceeded",
    "ordinary": "packets are ordinary ones: hop limit 63 or 64, best effort, not fragmented, without options, "
    "extension headers or IPsec, sent to one host, and for no socket of the device",
}
MOST_TOLD = 5  # conditions of one assumption


class Usual(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Conditions, in their words, as regular expressions.

    Attributes:
        so: Those that are usually so.
        never: Those that usually are not.
    """

    so: str = ""
    never: str = ""

    @property
    def expressions(self) -> tuple[str, ...]:
        """Those that there are."""
        return tuple(each for each in (self.so, self.never) if each)

    def tells(self, condition: str) -> bool | None:
        """Tell whether a condition is usually so; None if that is not said."""
        if self.so and _compiled(self.so).fullmatch(condition):
            return True
        return False if self.never and _compiled(self.never).fullmatch(condition) else None


class Assumed(msgspec.Struct, frozen=True):
    """A condition that was taken for granted.

    Attributes:
        by: The assumption.
        condition: The condition, in its words.
        so: Whether it was taken to be so, or not to be so.
        place: Where it is asked.
    """

    by: Assumption
    condition: str
    so: bool
    place: Place


def assumed_in_words(found: Sequence[Assumed]) -> Iterator[str]:
    """Yield each assumption, with the first conditions that were taken for granted by it."""
    for name, means in MEANS.items():
        of_it = [each for each in found if each.by == name]
        lines = [f"{each.place} ({'' if each.so else 'not '}{each.condition})" for each in of_it[:MOST_TOLD]]
        more = [f"and {len(of_it) - MOST_TOLD} more"] if len(of_it) > MOST_TOLD else []
        if lines:
            yield f"{means}: {', '.join((*lines, *more))}"


@lru_cache(64)
def _compiled(expression: str) -> re.Pattern[str]:
    return re.compile(expression)
