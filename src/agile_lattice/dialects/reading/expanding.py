"""Statements that stand for several: with a variable in them, or a map from values to what happens then.

A form says how its texts write these. What is expanded is only read; it keeps its line.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

import msgspec

from agile_lattice.dialects.surfaces import Statement

MOST = 20_000  # elements of one map
DEEPEST = 20  # variables in the values of others


class Mapped(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a map is written in a statement.

    Attributes:
        word: What stands before it, behind the field that is looked up: `tcp dport vmap { 22 : accept }` is
            `tcp dport 22 accept`.
        action: What begins an action into which the value is put, as a regular expression: `dnat to tcp dport map
            { 80 : 10.0.0.1 }` is `tcp dport 80 dnat to 10.0.0.1`. Empty if the value is the action.
    """

    word: str
    action: str = ""


class Expansion(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What stands for several statements, or for other words.

    Attributes:
        define: The word that defines a variable: `define lan = 10.0.0.0/8`; empty if there are none.
        use: What stands before the name of a variable where it is used.
        maps: How maps are written.
    """

    define: str = ""
    use: str = "$"
    maps: tuple[Mapped, ...] = ()


def expanded(statements: list[Statement], how: Expansion) -> list[Statement]:
    """Return statements with variables and maps written out; those without any are the same objects."""
    if how.define:
        known: dict[str, str] = {}
        statements = list(_with_values(statements, how, known))
    return list(_without_maps(statements, how.maps)) if how.maps else statements


def _with_values(statements: Iterable[Statement], how: Expansion, known: dict[str, str]) -> Iterator[Statement]:
    defines = re.compile(rf"{re.escape(how.define)}\s+(\w+)\s*=\s*(.+)")
    for each in statements:
        defined = defines.fullmatch(each.text) if each.children is None else None
        if defined is not None:
            known[defined[1]] = _filled(defined[2], how.use, known)
            continue
        text = _filled(each.text, how.use, known)
        children = None if each.children is None else list(_with_values(each.children, how, known))
        same = text == each.text and children == each.children
        yield each if same else Statement(text, each.line, children)


def _filled(text: str, use: str, known: dict[str, str]) -> str:
    if use not in text or not known:
        return text
    return re.sub(rf"{re.escape(use)}(\w+)", lambda found: known.get(found[1], found[0]), text)


def _without_maps(statements: Iterable[Statement], maps: tuple[Mapped, ...]) -> Iterator[Statement]:
    for each in statements:
        if each.children is not None:
            children = list(_without_maps(each.children, maps))
            unchanged = len(children) == len(each.children) and all(map(_is, children, each.children))
            yield each if unchanged else Statement(each.text, each.line, children)
            continue
        texts = next((found for one in maps if (found := _one_by_one(each.text, one)) is not None), None)
        yield from [each] if texts is None else (Statement(text, each.line) for text in texts)


def _is(one: object, other: object) -> bool:
    return one is other


def _one_by_one(text: str, how: Mapped) -> list[str] | None:
    """Return the statements that one with a map stands for; None if it has none that is written out."""
    before, word, rest = text.partition(f" {how.word} {{")
    inside, closed, after = rest.partition("}")
    if not word or not closed or "{" in inside:
        return None
    action = re.search(how.action, before) if how.action else None
    if how.action and action is None:
        return None
    found = []
    for element in inside.split(","):
        key, colon, value = (each.strip() for each in element.partition(" : "))
        if not colon:
            return None
        if action is None:
            found.append(f"{before} {key} {value}{after}")
        else:
            field = before[action.end() :].strip()
            found.append(f"{before[: action.start()]}{field} {key} {action[0]} {value}{after}".strip())
    return found if len(found) <= MOST else None
