"""What can go wrong with a dialect.

DialectError             every error of this room
  ├ DefinitionError      a dialect file is wrong: file, line, what
  ├ CaptureError         a text cannot be read at all: file, line, what
  ├ Refusal              a device holds what a dialect cannot express: object, field, place, reason
  ├ Refusals             all refusals of a rendering together
  └ ChangeError          a change that was worked out would not do what it should: device, what
"""

from __future__ import annotations

from collections.abc import Sequence

from agile_lattice.errors import LatticeError
from agile_lattice.intent.places import Place


class DialectError(LatticeError):
    """Any error of a dialect, a text in it, or a rendering into it."""


class DefinitionError(DialectError):
    """A dialect file is wrong.

    Attributes:
        file, line: Where; the line is 0 if it concerns the whole file.
        what: What is wrong.
    """

    def __init__(self, file: str, line: int, what: str) -> None:
        self.file, self.line, self.what = file, line, what
        super().__init__(file, line, what)

    def __str__(self) -> str:
        return f"{Place(self.file, self.line)}: {self.what}"


class CaptureError(DialectError):
    """A device configuration cannot be read at all, because it is damaged or something else.

    Attributes:
        place: Where.
        what: What is wrong.
        remedy: What to do.
        other: Whether the text is of another surface altogether, rather than damaged.
    """

    def __init__(self, place: Place, what: str, remedy: str = "", other: bool = False) -> None:
        self.place, self.what, self.remedy, self.other = place, what, remedy, other
        super().__init__(place, what)

    def __str__(self) -> str:
        return f"{self.place}: {self.what}" + (f"\n    {self.remedy}" if self.remedy else "")


class Refusal(DialectError):
    """A device holds something that a dialect cannot express, and nothing is left out silently.

    Attributes:
        dialect: Name of the dialect.
        subject: The object, in words: `route 10.41.0.0/16`.
        field: The field that cannot be expressed; empty if it is the object as a whole.
        place: Where it is written.
        reason: Why.
    """

    def __init__(self, dialect: str, subject: str, field: str, place: Place, reason: str) -> None:
        self.dialect, self.field, self.place, self.reason = dialect, field, place, reason
        self.subject = subject.rstrip()  # what has no name is `permit` alone
        super().__init__(dialect, subject, field, place, reason)

    def __str__(self) -> str:
        at = f"{self.place}: " if self.place.file else ""
        field = f", `{self.field}`" if self.field else ""
        return f"{at}{self.subject}{field}: {self.dialect} cannot express it: {self.reason}"


class Refusals(DialectError):
    """A rendering was refused.

    Attributes:
        refusals: Every reason found.
    """

    def __init__(self, refusals: Sequence[Refusal]) -> None:
        self.refusals = tuple(refusals)
        super().__init__(self.refusals)

    def __str__(self) -> str:
        return "\n".join(str(each) for each in self.refusals)


class ChangeError(DialectError):
    """A change that was worked out would not do what it should, and so it is not printed.

    Attributes:
        device: The device's name.
        what: What would be wrong afterwards.
    """

    def __init__(self, device: str, what: str) -> None:
        self.device, self.what = device, what
        super().__init__(device, what)

    def __str__(self) -> str:
        return f"{self.device}: no change is printed: {self.what}\n    Nothing was changed or written."
