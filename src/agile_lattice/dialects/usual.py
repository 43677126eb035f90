"""What is usually so of the conditions of rules, as a dialect says it."""

from __future__ import annotations

import re
from functools import lru_cache

import msgspec


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


@lru_cache(64)
def _compiled(expression: str) -> re.Pattern[str]:
    return re.compile(expression)
