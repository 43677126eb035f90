"""Facts of statements that are whole facts by themselves: most lines of a long text."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from agile_lattice.dialects.patterns import NOT_OF_KIND, Pattern
from agile_lattice.intent.places import Place


class Maker:
    """Makes facts of one phrase, field for field.

    Args:
        pattern: The phrase.
        record: The class of the facts; what it cannot do without, every statement of the phrase says.
        constants: Fields that the phrase sets by being there.
    """

    def __init__(self, pattern: Pattern, record: type[Any], constants: Mapping[str, Any]) -> None:
        names = record.__struct_fields__
        defaults = dict(zip(names[::-1], record.__struct_defaults__[::-1], strict=False))
        self._pattern, self._record = pattern, record
        self._usual = [constants.get(name, defaults.get(name)) for name in names]
        self._places = [hole and (names.index(hole[0]), hole[1]) for hole in pattern.holes]
        self._at = names.index("place")

    def make(self, text: str, place: Place) -> Any | None:
        """Return the fact that a statement is; None if it is not of this phrase."""
        found = self._pattern.matched(text)
        if found is None:
            return None
        values = self._usual.copy()
        try:
            for spelt, hole in zip(found.groups(), self._places):  # noqa: B905 - this is hot
                if spelt and hole:
                    values[hole[0]] = hole[1](spelt)
        except NOT_OF_KIND:
            return None  # the form was right and the value was not: 10.0.0.999, a port above 65535
        values[self._at] = place
        return self._record(*values)
