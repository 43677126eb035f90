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
        faults: All that was found, in file order.
    """

    def __init__(self, faults: Sequence[Fault]) -> None:
        self.faults = tuple(faults)
        super().__init__(self.faults)

    def __str__(self) -> str:
        lines = [str(fault) for fault in self.faults[:SHOWN]]
        if len(self.faults) > SHOWN:
            lines.append(f"... and {len(self.faults) - SHOWN} more")
        return "\n".join(lines)


def fail(place: Place, what: str, remedy: str = "") -> NotationError:
    """Return an error with a single fault, to be raised."""
    return NotationError([Fault(place, what, remedy)])
