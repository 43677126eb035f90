"""What of a device is not known, because something in its configuration was not understood.

What such a line could decide nobody can tell. So nothing is claimed of a packet that it could reach.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.intent.places import Place


class Doubt(msgspec.Struct, frozen=True):
    """Something that was not understood.

    Attributes:
        place: Where it stands.
        touches: The parts of a device that it could be about: lists of rules, `interfaces`, `routes`.
        ordered: Whether it stands in a list of rules, so that it decides nothing that an earlier rule decides.
    """

    place: Place
    touches: frozenset[str]
    ordered: bool = False


class Unknown(msgspec.Struct, frozen=True):
    """All that was not understood of a device."""

    doubts: tuple[Doubt, ...] = ()

    def of(self, part: str) -> str:
        """Tell why a part of the device is not known; empty if it is."""
        return self._reason(each for each in self.doubts if part in each.touches)

    def before(self, part: Listed, place: Place) -> str:
        """Tell why it is not known whether a rule of a list is asked at all; empty if it is.

        Args:
            part: The list.
            place: Where the rule is written; nowhere for what happens where no rule matches.
        """
        return self._reason(
            each
            for each in self.doubts
            if part in each.touches and not (each.ordered and place.stands_before(each.place))
        )

    def _reason(self, doubts: Iterable[Doubt]) -> str:
        first = next(iter(doubts), None)
        return f"{first.place} was not understood" if first is not None else ""


NOTHING_UNKNOWN = Unknown()
