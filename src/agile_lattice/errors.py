"""Errors: one tree, so that a program can catch what it can do something about.

LatticeError
  ├ NotationError     an intent file is wrong: its faults, each with file and line
  ├ UnknownName       there is no device of that name
  ├ DialectError      a dialect file, a capture, a rendering or a change (see `dialects.errors`)
  │   ├ Refusals      a device holds what a dialect cannot express
  │   └ ...
  └ Undecided         an exact answer would take more work than the limit allows

Addresses and numbers that are malformed raise `ValueError`, as in the standard library.
"""

from __future__ import annotations

from collections.abc import Sequence
from difflib import get_close_matches


class LatticeError(Exception):
    """Any error that this package raises on purpose, besides `ValueError` for malformed values."""


class UnknownName(LatticeError, KeyError):
    """There is nothing of that name.

    Attributes:
        name: The name that was asked for.
        known: The names that there are.
    """

    def __init__(self, kind: str, name: str, known: Sequence[str]) -> None:
        self.kind, self.name, self.known = kind, name, tuple(known)
        super().__init__(kind, name, self.known)

    def __str__(self) -> str:
        near = get_close_matches(self.name, self.known, 1)
        hint = f"did you mean {near[0]!r}?" if near else f"there are {', '.join(self.known) or 'none'}"
        return f"there is no {self.kind} {self.name!r}: {hint}"
