"""Regular expressions of dialect files: only those that take time with the length of a text.

An expression may not repeat what has choices in itself, such as `(a+)+` or `(a|ab|b)+`: a text that nearly fits would
be tried in a number of ways that doubles with each character. Nor may two repetitions share characters that nothing
parts, such as `[a-z.]+[a-z]+`: there the ways grow with the square. And it has no groups of its own: those are the
engine's.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator
from functools import lru_cache
from math import exp, log
from re import _constants as codes  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

ENDLESS = 10_000  # what a repetition without a bound counts as
MOST_WAYS = 100_000  # ways in which a text may be tried
FEW_WAYS = 64  # in which what is looked ahead for may be tried at each character
Row = tuple[tuple[Any, Any], ...]
REPEATS = (codes.MAX_REPEAT, codes.MIN_REPEAT, codes.POSSESSIVE_REPEAT)
ASSERTIONS = (codes.ASSERT, codes.ASSERT_NOT)
SAMPLES = frozenset([*map(chr, range(128)), *"éж一"])  # of every other letter these stand for all


def checked(text: str) -> str:
    """Return an expression if it can be used in a dialect.

    Raises:
        ValueError: If it is malformed, captures something, refers back, repeats a repetition, or has repetitions that
            can share characters.
    """
    try:
        tree = _parsed(text)
        if "(?<" in text:
            re.compile(text)  # what is well-formed and cannot be compiled: a look-behind of no fixed length
    except (re.error, FutureWarning, DeprecationWarning) as error:
        raise ValueError(f"{text!r} is not a regular expression: {error}") from None
    except (RecursionError, OverflowError):
        raise ValueError(f"{text[:40]!r} is too long for a regular expression here") from None
    _look_into(tree, text)
    _look_along(tree, text)
    return text


def ungrouped(text: str) -> str:
    """Return an expression without the groups that it has for those who use it."""
    return re.sub(r"(?<!\\)\((?!\?)", "(?:", text)


def checked_sign(text: str) -> str:
    """Return an expression if it can be searched for in a text, line by line.

    Raises:
        ValueError: As `checked` does, or if it repeats what can be a line break.
    """
    tree = _parsed(checked(text))
    if tree.state.flags & re.DOTALL or _goes_on(tree):
        raise ValueError(f"{text!r} repeats what can be a line break: a sign stands on one line")
    return text


def _goes_on(tree: Any) -> bool:
    """Tell whether a row repeats something without bound that can be a line break."""
    return any(
        (code in REPEATS and _most(argument) == ENDLESS and "\n" in _letters(argument[2]))
        or any(map(_goes_on, _inside(code, argument)))
        for code, argument in tree
    )


@lru_cache(1024)
def takes(text: str, letter: str) -> bool:
    """Tell whether what an expression matches can have a letter in it."""
    return letter in _letters(_parsed(text))


@lru_cache(1024)
def is_long(text: str) -> bool:
    """Tell whether an expression repeats something without bound."""
    return _repeats(_parsed(text))


def _repeats(tree: Any) -> bool:
    return any(
        (code in REPEATS and _most(argument) == ENDLESS) or any(map(_repeats, _inside(code, argument)))
        for code, argument in tree
    )


def _parsed(text: str) -> Any:
    with warnings.catch_warnings():
        warnings.simplefilter("error")  # what may mean something else one day is refused today
        return parser.parse(text)


def _look_into(tree: Any, text: str) -> None:
    """Refuse groups, and repetitions of what has choices."""
    for code, argument in tree:
        if code in REPEATS and argument[1] > 1:
            if _choices([(code, argument)]) > max(MOST_WAYS, _span(argument)):
                raise ValueError(
                    f"{text!r} repeats what has choices or repetitions in it, which can take time without end: "
                    "say it in one, as in [a-z.]+"
                )
        elif code is codes.SUBPATTERN and argument[0] is not None:
            raise ValueError(f"{text!r} has a group that captures: write (?:...)")
        elif code in (codes.GROUPREF, codes.GROUPREF_EXISTS):
            raise ValueError(f"{text!r} refers back to a group")
        for each in _inside(code, argument):
            _look_into(each, text)


def _choices(tree: Any) -> int:
    """Return in how many ways a row can be matched, whatever the text; not more than some millions."""
    ways = 1
    for code, argument in tree:
        inside = [_choices(each) for each in _inside(code, argument)]
        if code in REPEATS:
            each_time = _most(argument) * log(inside[0])
            ways *= _span(argument) * (round(exp(each_time)) if each_time < log(MOST_WAYS) else MOST_WAYS + 1)
        elif code is codes.BRANCH:
            ways *= sum(inside)
        elif code in ASSERTIONS and inside[0] <= FEW_WAYS:
            continue  # it is not gone back into: it adds a step, and no way
        elif inside:
            ways *= inside[0]
        ways = min(ways, MOST_WAYS + 1)
    return ways


def _look_along(tree: Any, text: str, after: Row = ()) -> None:
    """Refuse repetitions that follow each other and can share characters.

    Args:
        tree: A row of elements.
        text: The whole expression.
        after: What follows the row.
    """
    row = (*_flat(tree), *after)
    for index in range(len(row) - len(after)):
        code, argument = row[index]
        rest = row[index + 1 :]
        for each in _inside(code, argument):
            _look_along(each, text, rest if code is codes.BRANCH or (code in REPEATS and argument[1] == 1) else ())
        ways = _ways(code, argument)
        if ways > 1 and ways * _shared(rest, _letters([(code, argument)]))[0] > MOST_WAYS:
            raise ValueError(
                f"{text!r} has repetitions that can share characters, which can take very long: "
                "part them by a character that the first cannot take, or bound them, as in {1,40}"
            )


def _shared(row: Row, letters: frozenset[str]) -> tuple[int, bool]:
    """Return in how many ways the next elements can share what a repetition takes, and whether one ends it."""
    ways = 1
    for code, argument in row:
        alike = letters & _letters([(code, argument)])
        if code in REPEATS and argument[:2] == (0, 1):
            inner, ended = _shared(tuple(_flat(argument[2])), letters)
            ways *= inner if ended else 2 * inner
        elif code in ASSERTIONS:
            ways *= _shared(tuple(_flat(argument[1])), letters)[0]  # it is looked for again, wherever that ends
        elif not alike and not _may_be_empty(code, argument):
            return ways, True  # something must stand there that the repetition cannot take
        elif alike:
            ways *= _ways(code, argument)
    return ways, False


def _flat(tree: Any) -> Iterator[tuple[Any, Any]]:
    """Yield what stands in a row, groups that are there only for brackets taken apart."""
    for code, argument in tree:
        if code is codes.SUBPATTERN:
            yield from _flat(argument[3])
        elif code is codes.ATOMIC_GROUP:
            yield from _flat(argument)
        else:
            yield code, argument


def _ways(code: Any, argument: Any) -> int:
    """Return in how many ways an element can share characters with what stands before it."""
    return _choices([(code, argument)]) if code in REPEATS or code is codes.BRANCH else 1


def _inside(code: Any, argument: Any) -> list[Any]:
    """Return the rows inside an element."""
    if code in REPEATS:
        return [argument[2]]
    if code is codes.SUBPATTERN:
        return [argument[3]]
    if code is codes.BRANCH:
        return list(argument[1])
    if code in ASSERTIONS:
        return [argument[1]]
    return [argument] if code is codes.ATOMIC_GROUP else []


def _most(argument: Any) -> int:
    return ENDLESS if argument[1] == codes.MAXREPEAT else int(argument[1])


def _span(argument: Any) -> int:
    """Return how many numbers of repetitions there are to choose from."""
    return _most(argument) - int(argument[0]) + 1


def _may_be_empty(code: Any, argument: Any) -> bool:
    if code in (codes.AT, *ASSERTIONS):
        return True
    if code in REPEATS and argument[0] > 0:
        return all(_may_be_empty(*each) for each in _flat(argument[2]))
    if code is codes.BRANCH:
        return any(all(_may_be_empty(*each) for each in _flat(way)) for way in argument[1])
    return code in REPEATS


def _letters(tree: Any) -> frozenset[str]:
    """Return the sample letters that what a row matches can have in it."""
    found: set[str] = set()
    for code, argument in tree:
        if code in (codes.LITERAL, codes.NOT_LITERAL):
            same = {chr(argument)} & SAMPLES
            found |= same if code is codes.LITERAL else SAMPLES - same
        elif code is codes.ANY:
            found |= SAMPLES - {"\n"}
        elif code is codes.IN:
            found |= _class(argument)
        elif code not in ASSERTIONS:
            for each in _inside(code, argument):
                found |= _letters(each)
    return frozenset(found)


def _class(members: Any) -> set[str]:
    """Return the sample letters of a class such as `[a-z_]`."""
    found: set[str] = set()
    for code, argument in members:
        if code is codes.LITERAL:
            found |= {chr(argument)} & SAMPLES
        elif code is codes.RANGE:
            first, last = map(chr, argument)
            found |= {each for each in SAMPLES if first <= each <= last}
        elif code is codes.CATEGORY:
            found |= set(filter(re.compile(CATEGORIES[argument]).fullmatch, SAMPLES))
    return set(SAMPLES - found) if members[0][0] is codes.NEGATE else found


CATEGORIES = {
    codes.CATEGORY_DIGIT: r"\d", codes.CATEGORY_NOT_DIGIT: r"\D", codes.CATEGORY_SPACE: r"\s",
    codes.CATEGORY_NOT_SPACE: r"\S", codes.CATEGORY_WORD: r"\w", codes.CATEGORY_NOT_WORD: r"\W",
}  # fmt: skip
