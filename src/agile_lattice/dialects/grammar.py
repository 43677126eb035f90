r"""The notation of phrases: text of one statement, parsed into elements.

    address replace        words are themselves
    <mtu:number>           a hole: a field of the fact, and the kind of spelling it has
    <interface>            a hole whose kind has the field's name
    <to.length:length>     a hole for a part of a value
    <source:span4,>        a list, separated by commas
    <_:number>             a hole whose value is read and dropped: it says nothing
    <?:number>             a hole whose value says something that is passed over, and that is told
    [ ... ]                may be missing
    ( a | b )              one of these; the first that fits is written, all are read
    { a b c }              these in any order, each at most once; written in this order
    @match                 a named part of the dialect file
    \{ \[ \< ...           these characters themselves

Elements written without a space between them stand without one in the text.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import msgspec

_TOKEN = re.compile(r"\s+|<[^<>\s]+>|[\[\](){}|]|@[\w-]+|(?:\\.|[^\s<>\[\](){}|@\\])+")
_HOLE = re.compile(r"<(?P<field>\w+|\?)(?:\.(?P<part>\w+))?(?::(?P<kind>[\w-]+))?(?P<many>,)?>")
_CLOSING = {"[": "]", "(": ")", "{": "}"}


DROPPED, PASSED = "_", "?"


class Word(msgspec.Struct, frozen=True):
    """Text that stands as it is."""

    text: str
    glued: bool


class Hole(msgspec.Struct, frozen=True):
    """A place for a value. `field` is `_` for a value that is dropped, and `?` for one that is passed over."""

    field: str
    part: str
    kind: str
    many: bool
    glued: bool


class Maybe(msgspec.Struct, frozen=True):
    """Elements that may be missing, all together."""

    body: tuple[Element, ...]
    glued: bool


class Choice(msgspec.Struct, frozen=True):
    """One of several runs of elements."""

    bodies: tuple[tuple[Element, ...], ...]
    glued: bool


class AnyOrder(msgspec.Struct, frozen=True):
    """Elements in any order, each at most once."""

    bodies: tuple[tuple[Element, ...], ...]
    glued: bool


Element = Word | Hole | Maybe | Choice | AnyOrder


def parse_phrase(text: str, parts: Mapping[str, str]) -> tuple[Element, ...]:
    """Parse one phrase.

    Args:
        text: The phrase, without what it makes.
        parts: Texts of named parts.

    Raises:
        ValueError: With what is wrong, if the phrase is malformed.
    """
    tokens = list(_tokens(text, parts, ()))
    elements, rest = _sequence(tokens, 0, "")
    if rest != len(tokens):
        raise ValueError(f"{tokens[rest][0]!r} closes nothing")
    return elements


def _tokens(text: str, parts: Mapping[str, str], inside: tuple[str, ...]) -> Iterator[tuple[str, bool]]:
    """Yield tokens, each with whether it is glued to the one before; parts are put in their place."""
    position, glued = 0, False
    while position < len(text):
        found = _TOKEN.match(text, position)
        if found is None:
            raise ValueError(f"cannot understand {text[position:]!r}")
        position = found.end()
        token = found.group()
        if token.isspace():
            glued = False
        elif token[0] == "@":
            name = token[1:]
            if name not in parts or name in inside:
                raise ValueError(
                    f"there is no fragment {token}; write \\{token} for the text itself"
                    if name not in parts
                    else f"{token} contains itself"
                )
            yield from _tokens(parts[name], parts, (*inside, name))
            glued = True
        else:
            yield token, glued
            glued = True


def _sequence(tokens: list[tuple[str, bool]], at: int, closing: str) -> tuple[tuple[Element, ...], int]:
    """Parse elements up to `closing` or `|`; return them and the index of the token that ended them."""
    elements: list[Element] = []
    while at < len(tokens):
        token, glued = tokens[at]
        if token == closing or (token == "|" and closing == ")"):
            return tuple(elements), at
        if token in _CLOSING:
            element, at = _group(tokens, at)
            elements.append(element)
        elif token[0] == "<":
            elements.append(_hole(token, glued))
        elif token in (")", "]", "}", "|"):
            return tuple(elements), at
        else:
            elements.append(Word(re.sub(r"\\(.)", r"\1", token), glued))
        at += 1
    if closing:
        raise ValueError(f"{closing!r} is missing")
    return tuple(elements), at


def _group(tokens: list[tuple[str, bool]], at: int) -> tuple[Element, int]:
    opening, glued = tokens[at]
    closing = _CLOSING[opening]
    bodies = []
    body, at = _sequence(tokens, at + 1, closing)
    bodies.append(body)
    while at < len(tokens) and tokens[at][0] == "|" and opening == "(":
        body, at = _sequence(tokens, at + 1, closing)
        bodies.append(body)
    if at >= len(tokens) or tokens[at][0] != closing:
        raise ValueError(f"{closing!r} is missing")
    if opening == "[":
        return Maybe(bodies[0], glued), at
    if opening == "(":
        return Choice(tuple(bodies), glued), at
    return AnyOrder(tuple(_each_alone(bodies[0])), glued), at


def _each_alone(elements: tuple[Element, ...]) -> Iterator[tuple[Element, ...]]:
    """Yield what may stand anywhere among others; what is in any order inside that may be parted by others, too."""
    for element in elements:
        if isinstance(element, AnyOrder):
            yield from element.bodies
        else:
            yield element.body if isinstance(element, Maybe) else (element,)


def _hole(token: str, glued: bool) -> Hole:
    found = _HOLE.fullmatch(token)
    if found is None:
        raise ValueError(f"{token} is no placeholder; write <field>, <field:type>, <field.part:type> or <field:type,>")
    field = found["field"]
    return Hole(field, found["part"] or "", found["kind"] or field, bool(found["many"]), glued)


def words_of(elements: tuple[Element, ...]) -> Iterator[str]:
    """Yield every fixed word of a phrase."""
    for element in elements:
        if isinstance(element, Word):
            yield element.text
        elif isinstance(element, Maybe):
            yield from words_of(element.body)
        elif isinstance(element, Choice | AnyOrder):
            for body in element.bodies:
                yield from words_of(body)


def always_said(elements: tuple[Element, ...]) -> set[str]:
    """Return the fields that every statement of a phrase gives."""
    said = {each.field for each in elements if isinstance(each, Hole)}
    for each in elements:
        if isinstance(each, Choice):
            said |= set[str].intersection(*map(always_said, each.bodies))
    return said


def holes_of(elements: tuple[Element, ...]) -> Iterator[Hole]:
    """Yield every hole of a phrase, from left to right."""
    for element in elements:
        if isinstance(element, Hole):
            yield element
        elif isinstance(element, Maybe):
            yield from holes_of(element.body)
        elif isinstance(element, Choice | AnyOrder):
            for body in element.bodies:
                yield from holes_of(body)
