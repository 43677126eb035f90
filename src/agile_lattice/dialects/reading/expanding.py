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
        each: What statements begin with that name what the block around them is about: with several names, the
            block is about each of them. Empty if there are none.
        several: What statements begin with that list several words: each stands for one with each of them.
    """

    define: str = ""
    use: str = "$"
    maps: tuple[Mapped, ...] = ()
    each: str = ""
    several: tuple[str, ...] = ()


def expanded(statements: list[Statement], how: Expansion) -> list[Statement]:
    """Return statements with variables and maps written out; those without any are the same objects."""
    if how.define:
        known: dict[str, str] = {}
        statements = list(_with_values(statements, how, known))
    if how.each:
        statements = list(_about_each(statements, how.each))
    if how.several:
        statements = list(_one_word_each(statements, how.several))
    return list(_without_maps(statements, how.maps)) if how.maps else statements


def _one_word_each(statements: Iterable[Statement], begins: tuple[str, ...]) -> Iterator[Statement]:
    for each in statements:
        if each.children is not None:
            children = list(_one_word_each(each.children, begins))
            unchanged = len(children) == len(each.children) and all(map(_is, children, each.children))
            yield each if unchanged else Statement(each.text, each.line, children)
            continue
        start = next((start for start in begins if each.text.startswith(start)), None)
        words = each.text.removeprefix(start).split()[:MOST] if start else []
        yield from [each] if len(words) < 2 else (Statement(f"{start}{word}", each.line) for word in words)


def _about_each(statements: Iterable[Statement], begins: str) -> Iterator[Statement]:
    """Yield a block for each of the names that it is about; one with a pattern among them is left as it is."""
    for block in statements:
        naming = [each for each in block.children or () if each.text.startswith(begins) and each.children is None]
        names = [(name, each.line) for each in naming for name in each.text.removeprefix(begins).split()]
        if len(names) < 2 or any(set(name) & set("*?[!") for name, _ in names):
            yield block
            continue
        rest = [each for each in block.children or () if each not in naming]
        for name, line in names[:MOST]:
            yield Statement(block.text, block.line, [Statement(f"{begins}{name}", line), *rest])


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
