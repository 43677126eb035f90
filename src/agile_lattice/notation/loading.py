"""Intent files, one or a folder of them, as a `Network`.

`load` is the way in. Each file is parsed (`located`), held against its shape (`shapes`)
and, all of them together, resolved (`resolving`). Nothing is loaded by halves: all
faults of a step are reported together, and then the load ends.
"""

from __future__ import annotations

from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import Fault, NotationError, fail
from agile_lattice.notation.located import parse, read_text
from agile_lattice.notation.resolving import Source, resolve
from agile_lattice.notation.shapes import IntentShape, json_schema

SUFFIXES = (".yaml", ".yml", ".json")
VERSION_HINT = "An intent file begins with `lattice: 1`."


def load(path: str | Path) -> Network:
    """Read an intent.

    Args:
        path: A YAML or JSON file, or a folder whose `*.yaml`, `*.yml` and `*.json` files make up one intent.

    Returns:
        The network; every value in it knows its file and line.

    Raises:
        NotationError: With everything that is wrong, each with its place.
    """
    sources = []
    faults: list[Fault] = []
    for file in _files(Path(path)):
        try:
            sources.append(_shaped(read_text(file), str(file)))
        except NotationError as error:
            faults += error.faults
    if faults:
        raise NotationError(faults)
    return resolve(sources)


def loads(text: str, file: str = "intent.yaml") -> Network:
    """Read an intent from text; `file` is the name that places carry. Raises as `load` does."""
    return resolve([_shaped(text, file)])


def _files(path: Path) -> list[Path]:
    if not path.is_dir():
        return [path]
    files = sorted(file for file in path.iterdir() if file.suffix in SUFFIXES and file.is_file())
    if not files:
        raise fail(Place(str(path)), "the folder holds no intent file", "Intent files end in .yaml, .yml or .json.")
    return files


def _shaped(text: str, file: str) -> Source:
    data, place = parse(text, file)
    if not isinstance(data, dict):
        raise fail(place, "this is not an intent: expected keys such as `devices:`", VERSION_HINT)
    try:
        return Source(IntentShape.model_validate(data), place)
    except ValidationError as error:
        raise NotationError(sorted(_faults(error, place), key=lambda fault: fault.place.line)) from None


def _faults(error: ValidationError, root: Place) -> Iterator[Fault]:
    told: set[tuple[str | int, ...]] = set()
    for entry in error.errors(include_url=False):
        path = tuple(step for step in entry["loc"] if step not in ("[key]", "PoolShape") and "[" not in str(step))
        if path in told:
            continue
        told.add(path)
        place = root.at(*path)
        if "dial" in path:
            place = Place(place.file, place.line)  # somebody may have written a password there: it is not to be shown
        key = str(path[-1]) if path else ""
        context = entry.get("ctx", {})
        words = _words_for(entry["type"], entry["msg"], context, key, path, entry["input"])
        yield Fault(place, *words, getattr(context.get("error"), "slug", ""))


def _words_for(
    kind: str, message: str, context: dict[str, Any], key: str, path: tuple[str | int, ...], value: object
) -> tuple[str, str]:
    """Say in the user's words what the validator found: what is wrong, and what to do."""
    at = "key `" + ".".join(str(step) for step in path) + "`: " if path else ""
    if kind == "extra_forbidden":
        known = _known_keys(path[:-1])
        near = get_close_matches(key, known, 1)
        remedy = f"Did you mean `{near[0]}`?" if near else f"Known here: {', '.join(known)}."
        return f"unknown key `{key}`", remedy
    if kind == "missing":
        return f"`{key}` is missing", VERSION_HINT if key == "lattice" else ""
    if "dial" in path and kind not in ("extra_forbidden", "missing", "value_error"):
        return f"{at}this is not how a dial-up tunnel is described", "Give `over`, `user` and `password`."
    if kind == "value_error":
        return at + str(context["error"]), ""
    if kind == "string_pattern_mismatch":
        return (
            f"{at}{value!r} cannot be used as a name here",
            "Use letters, digits, dots, dashes and underscores.",
        )
    if kind == "literal_error":
        return f"{at}{value!r} is not known here", f"Expected {context['expected']}."
    expected = message.replace("Input should be ", "expected ", 1).replace("dictionary", "mapping of keys")
    return f"{at}{expected}, found {value!r:.60}", ""


def _known_keys(path: tuple[str | int, ...]) -> list[str]:
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
