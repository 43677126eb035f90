"""Regular expressions of dialect files: only those that cannot take time without bound.

An expression may not repeat what can itself repeat without bound, such as `(a+)+`: a text that nearly fits would be
tried in a number of ways that doubles with each character. And it has no groups of its own: those are the engine's.
"""

from __future__ import annotations

import re
import warnings
from re import _constants as codes  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

MOST_AT_ONCE = 1000  # repetitions that still count as few


def checked(text: str) -> str:
    """Return an expression if it can be used in a dialect.

    Raises:
        ValueError: If it is malformed, captures something, refers back, or repeats a repetition.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")  # what may mean something else one day is refused today
            tree = parser.parse(text)
            re.compile(text)  # what is well-formed and cannot be compiled: a look-behind of no fixed length
    except (re.error, FutureWarning, DeprecationWarning) as error:
        raise ValueError(f"{text!r} is not a regular expression: {error}") from None
    except (RecursionError, OverflowError):
        raise ValueError(f"{text[:40]!r} is too long for a regular expression here") from None
    _look_into(tree, text, repeated=False)
    return text


def _look_into(tree: Any, text: str, repeated: bool) -> None:
    for code, argument in tree:
        if code in (codes.MAX_REPEAT, codes.MIN_REPEAT):
            _, most, inside = argument
            often = most == codes.MAXREPEAT or most > MOST_AT_ONCE
            if often and repeated:
                raise ValueError(f"{text!r} repeats a repetition, which can take time without end: say it in one")
            _look_into(inside, text, repeated or often)
        elif code is codes.SUBPATTERN:
            number, _, _, inside = argument
            if number is not None:
                raise ValueError(f"{text!r} has a group that captures: write (?:...)")
            _look_into(inside, text, repeated)
        elif code is codes.BRANCH:
            for each in argument[1]:
                _look_into(each, text, repeated)
        elif code in (codes.ASSERT, codes.ASSERT_NOT):
            _look_into(argument[1], text, repeated)
        elif code in (codes.GROUPREF, codes.GROUPREF_EXISTS):
            raise ValueError(f"{text!r} refers back to a group")
