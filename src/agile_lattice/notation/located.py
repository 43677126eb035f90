"""YAML and JSON text as plain data, each value with its line.

JSON is read as the YAML that it is. Scalars follow the YAML 1.2 core schema: `no`
and `12:30` are text, not a boolean and a number. Duplicate keys are an error.
"""

from __future__ import annotations

import re
from pathlib import Path

import yaml

from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail

Data = None | bool | int | float | str | list["Data"] | dict[str, "Data"]

MAX_BYTES = 16 * 2**20
# Aliases repeat values; a text may hold so many more than it could without them.
REPEATED = 100_000
_INTEGER = re.compile(r"[-+]?[0-9]+")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")
_WORDS: dict[str, Data] = {"true": True, "false": False, "null": None, "~": None, "": None}


def read_text(path: Path, limit: int = MAX_BYTES) -> str:
    """Read a file as UTF-8 text.

    Raises:
        NotationError: If it cannot be read, is too large, or is not text.
    """
    place = Place(str(path))
    try:
        if path.stat().st_size > limit:
            raise fail(
                place,
                f"the file has {path.stat().st_size / 2**20:.0f} MB; at most {limit // 2**20} MB are read",
                "Split it into several files in one folder, or check that it is the right file.",
            )
        text = path.read_bytes().decode("utf-8-sig")
    except OSError as error:
        raise fail(place, f"cannot read the file: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise fail(place, f"this is not text: byte {error.start} is not UTF-8", "Give a text file.") from None
    if "\0" in text:
        line = text.count("\n", 0, text.index("\0")) + 1
        raise fail(Place(str(path), line), "this is not text: it holds a zero byte", "Give a text file.")
    return text


def parse(text: str, file: str) -> tuple[Data, Place]:
    """Read YAML or JSON.

    Args:
        text: The whole text.
        file: The name that places carry.

    Returns:
        The data, and its place with the places of all parts.

    Raises:
        NotationError: With the line, if the text is malformed or has a duplicate key.
    """
    try:
        root = yaml.compose(text, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line = mark.line + 1 if mark else 0
        what = " ".join(part for part in (error.context, error.problem) if part)
        raise fail(
            Place(file, line), f"not well-formed YAML: {what}", "Look at indentation, quotes and brackets."
        ) from None
    except yaml.YAMLError as error:
        raise fail(Place(file), f"not well-formed YAML: {error}") from None
    if root is None:
        what = "holds nothing but comments" if text.strip() else "is empty"
        raise fail(Place(file), f"the file {what}", "Check that it was written completely.")
    return _Reader(file, len(text) // 2 + REPEATED).value(root)


class _Loader(yaml.CSafeLoader):
    """Leaves it to `_Reader` to tell numbers from text: guessing tags takes a third of the time."""

    def resolve(self, kind: type[yaml.Node], value: str | None, implicit: tuple[bool, bool] | bool) -> str:
        return ""

    def descend_resolver(self, current_node: yaml.Node | None, current_index: object) -> None:
        pass

    def ascend_resolver(self) -> None:
        pass


class _Reader:
    def __init__(self, file: str, most: int) -> None:
        self.file, self.most = file, most
        self.count = 0
        self.open: set[int] = set()

    def value(self, node: yaml.Node) -> tuple[Data, Place]:
        data: Data
        line = node.start_mark.line + 1
        self.count += 1
        if self.count > self.most or id(node) in self.open:
            raise fail(Place(self.file, line), "aliases repeat this endlessly, or far too often")
        if isinstance(node, yaml.ScalarNode):
            text = str(node.value)
            start, end = node.start_mark, node.end_mark
            width = end.column - start.column if start.line == end.line else 0
            # What stands in quotes, or in a block, is text.
            data = text if node.style else as_scalar(text)
            return data, Place(self.file, line, None, start.column + 1 if width else 0, width)
        self.open.add(id(node))
        parts: dict[str | int, Place] = {}
        if isinstance(node, yaml.SequenceNode):
            items: list[Data] = []
            for index, child in enumerate(node.value):
                item, parts[index] = self.value(child)
                items.append(item)
            data = items
        else:
            data = self.mapping(node, parts)
        self.open.discard(id(node))
        return data, Place(self.file, line, parts)

    def mapping(self, node: yaml.Node, parts: dict[str | int, Place]) -> dict[str, Data]:
        data: dict[str, Data] = {}
        for key_node, child in node.value:
            place = Place(self.file, key_node.start_mark.line + 1)
            if not isinstance(key_node, yaml.ScalarNode):
                raise fail(place, "a key must be a single word")
            key = str(key_node.value)
            if key in data:
                raise fail(place, f"duplicate key {key!r}; first in line {parts[key].line}", "Keep one.")
            data[key], at = self.value(child)
            beside = at.line == place.line
            parts[key] = at if beside else Place(self.file, place.line, at.parts)
        return data


def as_scalar(text: str) -> Data:
    """Return what text without quotes stands for."""
    if text.lower() in _WORDS:
        return _WORDS[text.lower()]
    if _INTEGER.fullmatch(text) and len(text) < 20:
        return int(text)
    return float(text) if _FLOAT.fullmatch(text) else text
