"""Conditions that no dimension of a packet says, as the unknowns that they are."""

from __future__ import annotations

from collections import Counter

from agile_lattice.dialects.program_facts import CONDITIONS, StepFact
from agile_lattice.programs.model import Kind, Unknown

KINDS: dict[str, Kind] = {
    "rate": "rate", "chance": "chance", "time": "time", "members": "set", "header": "header", "system": "system",
    "unread": "unread",
}  # fmt: skip
PURE = frozenset({"header", "time"})  # alike for one packet wherever they stand


class Conditions:
    """Gives conditions their names: one that is not alike for a packet wherever it stands is another one each time."""

    def __init__(self) -> None:
        self._seen: Counter[str] = Counter()

    def of(self, step: StepFact) -> list[tuple[Unknown, bool]]:
        """Return the conditions of a step, all of which have to be so."""
        return [(self.called(kind, said), True) for kind in CONDITIONS if (said := getattr(step, kind))]

    def called(self, kind: str, said: str) -> Unknown:
        """Return one condition."""
        if kind in PURE:
            return Unknown(said, KINDS[kind])
        self._seen[said] += 1
        number = self._seen[said]
        return Unknown(said if number == 1 else f"{said} (number {number})", KINDS[kind])
