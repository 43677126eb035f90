"""Where a value was written: file, line, and the places of its parts.

A place is never part of what a value *is*: two values are equal whichever file
they came from. So every place equals every other, and objects that carry one
can be compared, sorted into sets and hashed as if they had none.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec


def _shown(character: str) -> str:
    return character if character.isprintable() else character.encode("unicode_escape").decode()


class Place(msgspec.Struct, frozen=True, eq=False, gc=False, omit_defaults=True):
    """A position in a file.

    Attributes:
        file: The path as the user gave it; empty if the value came from no file.
        line: Line number, from 1; 0 if unknown.
        parts: Places of the value's members, by key or by index from 0.
        column: Column of a single value, from 1; 0 if unknown.
        width: How many characters wide it is written.
        jumps: Lines of the file whose jumps lead there, the outermost first: a chain may be jumped to from several.
        last: Whether what is written there holds only where no rule of its list matches, so that it comes behind lines
            that follow it.
        arm: Which of the rules it is that a line stands for of which at most one applies, from 1; else 0.
    """

    file: str = ""
    line: int = 0
    parts: Mapping[str | int, Place] | None = None
    column: int = 0
    width: int = 0
    jumps: tuple[int, ...] = ()
    last: bool = False
    arm: int = 0

    @property
    def told(self) -> str:
        """The file, the line, and how packets get there if it is by jumps."""
        return f"{self}{self.way}"

    @property
    def way(self) -> str:
        """By which jumps packets get there, in words; empty if by none."""
        if not self.jumps:
            return ""
        plural = "s" if len(self.jumps) > 1 else ""
        return f" (by the jump{plural} in line{plural} {', '.join(map(str, self.jumps))})"

    def at(self, *path: str | int) -> Place:
        """Return the place of the member that `path` leads to, or the nearest known one above it."""
        place = self
        for step in path:
            if place.parts is None or step not in place.parts:
                break
            place = place.parts[step]
        return place

    def same_as(self, other: Place) -> bool:
        """Tell whether two values stand at one spot of one line: that places are equal says nothing."""
        return bool(self.line) and self.spot == other.spot

    @property
    def spot(self) -> tuple[str, int, tuple[int, ...]]:
        """The file, the line, and where the value stands in it; of one with parts, where these do."""
        return self.file, self.line, (self.column, *(each.column for each in (self.parts or {}).values()))

    def is_line_of(self, other: Place) -> bool:
        """Tell whether two values are written on one line of one file."""
        return bool(self.line) and (self.file, self.line) == (other.file, other.line)

    def stands_before(self, other: Place) -> bool:
        """Tell whether a rule is written, and holds, before another of the same file."""
        return self.file == other.file and 0 < self.line < other.line and not self.last

    def __str__(self) -> str:
        # A file may be called anything: a line break in its name begins no line of ours.
        file = self.file if self.file.isprintable() else "".join(map(_shown, self.file))
        return f"{file}:{self.line}" if self.line else file

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Place)

    def __hash__(self) -> int:
        return 0


NOWHERE = Place()
