"""What can be wrong with an intent file.

NotationError        several faults, found in one go
  └ Fault            one of them: place, what is wrong, what to do
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from agile_lattice.errors import LatticeError
from agile_lattice.intent.places import Place

SHOWN = 20


class Fault(msgspec.Struct, frozen=True):
    """One thing that is wrong in a file, and what to do about it.

    Attributes:
        slug: Of the check that explains it, if there is one.
    """

    place: Place
    what: str
    remedy: str = ""
    slug: str = ""

    def __str__(self) -> str:
        text = f"{self.place}: {self.what}" if self.place.file else self.what
        return f"{text}\n    {self.remedy}" if self.remedy else text


class NotationError(LatticeError):
    """An intent could not be understood.

    Attributes:
        faults: What was found, in file order.
        whole: Whether that is all of it: of very many faults the first are told.
    """

    def __init__(self, faults: Sequence[Fault], whole: bool = True) -> None:
        self.faults, self.whole = tuple(faults), whole
        super().__init__(self.faults, whole)

    def __str__(self) -> str:
        return "\n".join([*map(str, self.faults[:SHOWN]), *self.rest])

    @property
    def rest(self) -> list[str]:
        """A line that says how many faults there are besides those that are shown; none if there are no others."""
        more = len(self.faults) - SHOWN
        return [f"... and {more} more" if self.whole else "... and very many more"] if more > 0 else []


def fail(place: Place, what: str, remedy: str = "") -> NotationError:
    """Return an error with a single fault, to be raised."""
    return NotationError([Fault(place, what, remedy)])
