"""What is wrong in a dialect file, in words: the line, what was written, and what would have been right."""

from __future__ import annotations

import re
from collections.abc import Iterator
from difflib import get_close_matches
from types import UnionType
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from agile_lattice.dialects.fact_types import FACTS


def line_of(text: str, word: str, first: int = 1) -> int:
    """Return the line on which a key is given a value, or a table begins; 0 if there is none.

    Args:
        text: The file.
        word: The key.
        first: The line from which on it is looked for.
    """
    key = re.escape(word)
    given = re.compile(rf"""(^|[{{,])\s*["']?{key}["']?\s*=|^\[+(\w+\.)*{key}\]""")
    return next((n for n, line in enumerate(text.split("\n"), 1) if n >= first and given.search(line)), 0)


def _begins(text: str, where: str) -> int:
    """Return the line on which the table of a list begins in which something stands, such as `.forms[1].syntax`."""
    listed = re.match(r"\.([\w-]+)\[(\d+)\]", where)
    heads = [n for n, line in enumerate(text.split("\n"), 1) if listed and line.startswith(f"[[{listed[1]}]]")]
    return heads[int(listed[2])] if listed and int(listed[2]) < len(heads) else 1


def explained(error: str, text: str, whole: type[msgspec.Struct]) -> tuple[int, str]:
    """Return the line of what is wrong with the keys of a file or their values, and what it is.

    Args:
        error: As msgspec says it, with the path behind it.
        text: The file.
        whole: What a file is to be.
    """
    where = error.partition(" - at `$")[2]
    path, first = [key for key in re.findall(r"[\w-]+", where) if not key.isdigit()], _begins(text, where)
    named = re.search(r"field `([^`]+)`", error)
    value = re.search(r"value '([^']*)'", error)
    kinds = list(_kinds_at(whole, path))
    at = path[-1] if path else ""
    if named and "unknown" in error:
        keys = dict.fromkeys(name for each in kinds if _is_struct(each) for name in _keys(each))
        return line_of(text, named[1], first), f"there is no key {named[1]!r} here; {_known(named[1], keys)}"
    if named:
        return line_of(text, at, first), f"{at or 'the file'}: {named[1]!r} is missing"
    if value:
        words = dict.fromkeys(word for each in kinds for word in _words(each, path))
        return line_of(text, at, first), f"{at}: there is no {value[1]!r}; {_known(value[1], words)}"
    return line_of(text, at, first), f"{at}: {error.partition(' - at ')[0]}"


def _known(written: str, words: dict[str, None]) -> str:
    near = get_close_matches(written, [*words], 1)
    return f"known are {', '.join(words)}" + (f"; did you mean {near[0]}?" if near else "")


def _kinds_at(kind: Any, path: list[str]) -> Iterator[Any]:
    """Yield the types that stand at the end of a path of keys."""
    if get_origin(kind) in (Union, UnionType):
        for each in get_args(kind):
            yield from _kinds_at(each, path)
    elif get_origin(kind) in (tuple, dict):
        yield from _kinds_at(get_args(kind)[-1 if get_origin(kind) is dict else 0], path)
    elif not path or not _is_struct(kind):
        yield kind
    elif path[0] in (hints := get_type_hints(kind)):
        yield from _kinds_at(hints[path[0]], path[1:])
    else:
        yield kind  # the key that tells one type from others


def _is_struct(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, msgspec.Struct)


def _keys(kind: Any) -> tuple[str, ...]:
    """Return the keys of a table."""
    tag: tuple[str, ...] = (kind.__struct_config__.tag_field,) if kind.__struct_config__.tag_field else ()
    return (*tag, *kind.__struct_encode_fields__)


def _words(kind: Any, path: list[str]) -> tuple[str, ...]:
    """Return the words that a value can be."""
    if get_origin(kind) is Literal:
        return get_args(kind)
    return (
        (str(kind.__struct_config__.tag),)
        if _is_struct(kind) and path[-1:] == [kind.__struct_config__.tag_field]
        else ()
    )


def no_field(name: str) -> str:
    """Say what is wrong with the name of a fact, or of a field of one; nothing if that is right."""
    fact, _, field = name.partition(".")
    if fact not in FACTS:
        return f"the facts are {', '.join(FACTS)}"
    if field and field not in FACTS[fact].fields:
        return f"the fields of {fact} are {', '.join(FACTS[fact].fields)}"
    return ""
