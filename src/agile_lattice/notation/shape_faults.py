"""What the validator of shapes found, in the user's words: one fault for one mistake."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from difflib import get_close_matches
from typing import Any

from pydantic import ValidationError
from pydantic_core import ErrorDetails

from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import Fault, NotationError
from agile_lattice.notation.shapes import json_schema
from agile_lattice.notation.values import spell_value

MOST = 2000  # faults of the validator that are looked at
VERSION_HINT = "An intent file begins with `lattice: 1`."
Path = tuple[str | int, ...]
# The validator's names for what it expected, where its own words are those of a programmer.
EXPECTED = {
    "string_type": "expected text",
    "bool_type": "expected true or false",
    "int_type": "expected a whole number",
    "int_parsing": "expected a whole number",
    "list_type": "expected a list",
    "dict_type": "expected keys and values",
    "model_type": "expected keys and values",
    "too_short": "expected at least one value",
}


def shape_faults(error: ValidationError, root: Place) -> NotationError:
    """Return what is wrong with the shape of a file, in its order; of very many faults the first.

    Args:
        error: What the validator found.
        root: The place of the file's content.
    """
    found = error.errors(include_url=False)
    faults = [_fault(root, path, entry) for path, entry in _found(found[:MOST]).items()]
    return NotationError(sorted(faults, key=lambda fault: fault.place.line), whole=len(found) <= MOST)


def _fault(root: Place, path: Path, entry: Mapping[str, Any]) -> Fault:
    place = root.at(*path)
    if "dial" in path:
        place = Place(place.file, place.line)  # somebody may have written a password there: it is not to be shown
    return Fault(place, *_words_for(path, entry), getattr(entry.get("ctx", {}).get("error"), "slug", ""))


def _found(errors: Iterable[ErrorDetails]) -> dict[Path, Mapping[str, Any]]:
    """Return one entry for each mistake: a value that fits none of several shapes is told of each of them."""
    entries: dict[Path, Mapping[str, Any]] = {}
    for details in errors:
        entry: Mapping[str, Any] = {**details}
        path = tuple(_steps(entry["loc"], entry["type"]))
        known = entries.get(path)
        if known is None or known["type"] == "literal_error":  # it wants one word; the other shape is more than that
            entries[path] = entry
    inner = {path[:end] for path in entries for end in range(len(path))}
    entries = {
        path: entry for path, entry in entries.items()
        if not (path in inner and isinstance(entry["input"], dict | list))
    }  # fmt: skip
    keys: dict[Path, dict[str, list[str]]] = defaultdict(lambda: defaultdict(list))
    for path, entry in entries.items():
        keys[path[:-1]][entry["type"]].append(str(path[-1]) if path else "")
    for around, kinds in keys.items():
        for unknown in kinds["extra_forbidden"]:
            meant = get_close_matches(unknown, kinds["missing"], 1)
            if not meant and around and len(kinds["extra_forbidden"]) == 1:  # another word for the one that is missing
                meant = kinds["missing"]
            if len(meant) == 1:  # a misspelt key is not also a missing one
                entries.pop((*around, meant[0]), None)
                entries[*around, unknown] = {**entries[*around, unknown], "meant": meant[0]}
    return entries


def _steps(location: Path, kind: str) -> Iterator[str | int]:
    """Yield the keys and numbers of a place in the file, without the names of shapes that were tried there."""
    for number, step in enumerate(location, 1):
        written = kind == "extra_forbidden" and number == len(location)  # somebody's word, whatever is in it
        if written or (step not in ("[key]", "PoolShape") and "[" not in str(step)):
            yield step


def _words_for(path: Path, entry: Mapping[str, Any]) -> tuple[str, str]:
    """Say what is wrong, and what to do."""
    kind, value, context = entry["type"], entry["input"], entry.get("ctx", {})
    key = str(path[-1]) if path else ""
    named = next((step for step in reversed(path) if isinstance(step, str)), "")
    at = f"`{named}`: " if named else ""
    if kind == "extra_forbidden":
        known = _known_keys(path[:-1])
        near = [entry["meant"]] if "meant" in entry else get_close_matches(key, known, 1)
        remedy = f"Did you mean `{near[0]}`?" if near else f"Known here: {', '.join(known)}."
        return f"unknown key `{key}`", remedy
    if kind == "missing":
        return f"`{key}` is missing", VERSION_HINT if key == "lattice" else ""
    if "dial" in path and kind != "value_error":
        return f"{at}this is not how a dial-up tunnel is described", "Give `over`, `user` and `password`."
    if kind == "value_error":
        return at + str(context["error"]), ""
    if kind == "string_pattern_mismatch":
        return (
            f"{at}{spell_value(value)} cannot be used as a name here",
            "Use letters, digits, dots, dashes and underscores.",
        )
    if kind == "literal_error":
        expected = context["expected"].replace("True", "true").replace("False", "false")
        fits = "is not known" if isinstance(value, str) else "cannot stand"
        return f"{at}{spell_value(value)} {fits} here", f"Expected {expected}."
    bounds = {"greater_than_equal": f"at least {context.get('ge')}", "less_than_equal": f"at most {context.get('le')}"}
    if kind in bounds:
        return f"{at}expected a number of {bounds[kind]}, found {spell_value(value)}", ""
    expected = EXPECTED.get(kind) or entry["msg"].replace("Input should be ", "expected ", 1)
    return f"{at}{expected}, found {spell_value(value)}", ""


def _known_keys(path: Path) -> Sequence[str]:
    """Return the keys that the schema allows at a path."""
    schema = json_schema()

    def alternatives(node: dict[str, Any]) -> Iterator[dict[str, Any]]:
        if "$ref" in node:
            node = schema["$defs"][node["$ref"].rsplit("/", 1)[1]]
        yield node
        for choice in (*node.get("anyOf", ()), *node.get("oneOf", ())):
            yield from alternatives(choice)

    def members(node: dict[str, Any], step: str | int) -> Iterator[dict[str, Any]]:
        for each in alternatives(node):
            member = each.get("properties", {}).get(step, each.get("additionalProperties", each.get("items")))
            if isinstance(member, dict):
                yield member

    nodes = [schema]
    for step in path:
        nodes = [member for node in nodes for member in members(node, step)]
    return [key for node in nodes for each in alternatives(node) for key in each.get("properties", {})]
