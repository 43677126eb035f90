"""Surfaces of documents: JSON and YAML.

Every member of an object is a statement `key value`; members that are objects are blocks. A list is
a block of entries: an object in it is a block called `-`, a bare value a statement. With `lists`
the members so called are lists of which every item is a statement `key ...` of its own, as XML has it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from itertools import repeat
from typing import Any, ClassVar

import msgspec
import yaml

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.statements import ENTRY, Edit, Statement, Surface
from agile_lattice.intent.places import Place

TOO_MANY_DIGITS = "a number in it has more digits than any number of a configuration"
MOST_NODES = 100_000  # of a YAML document, besides one for each of its characters
_INTEGER = re.compile(r"0|-?[1-9][0-9]{0,18}")
_PLAIN = {"true": True, "false": False, "null": None}
_BREAKS_AND_STRINGS = re.compile(r'\n|"(?:[^"\\]|\\.)*+"(?:\s*+:)?')  # what follows a name is a colon


class Json(Surface, frozen=True, tag="json"):
    """JSON: a list of objects, or one object.

    Attributes:
        lists: Names of members that are lists, however many items there are.
        texts: Names of members whose values are text even if they look like a number.
    """

    lists: tuple[str, ...] = ()
    texts: tuple[str, ...] = ()
    whole_lines: ClassVar[bool] = False
    parted: ClassVar[bool] = True

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        if text.lstrip()[:1] not in ("{", "["):
            raise CaptureError(Place(file, 1), "this is not JSON: neither an object nor a list", other=True)
        try:
            data = json.loads(text, object_pairs_hook=_without_repetition)
            reader = _JsonReader(text, self.lists)
            return (
                reader.members(data) if isinstance(data, dict) else [reader.item(each) for each in data if each != {}]
            )
        except json.JSONDecodeError as error:
            raise CaptureError(
                Place(file, error.lineno), f"not well-formed JSON: {error.msg}", "It may be cut off: capture it again."
            ) from None
        except RecursionError:
            raise CaptureError(Place(file, 1), "the document nests too deeply") from None
        except _RepeatedKeyError as error:
            raise CaptureError(
                Place(file), f"the name {str(error)!r} stands twice in one object, and which of the two counts is open",
                "Names in an object are unique (RFC 8259, section 4): capture it again.",
            ) from None  # fmt: skip
        except ValueError:
            raise CaptureError(Place(file, 1), TOO_MANY_DIGITS) from None

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        return _json(plain(statements, frozenset(self.lists), frozenset(self.texts)))

    def edited(self, text: str, edits: Sequence[Edit]) -> str:
        """Return a text with the edits of its statements; what stays keeps its values as they are."""
        return _json(self._edited(json.loads(text), edits))

    def _edited(self, data: Any, edits: Sequence[Edit]) -> Any:
        """Walk along data and the edits of its statements: they stand in the same order."""
        lists, texts = frozenset(self.lists), frozenset(self.texts)
        if isinstance(data, list):
            there = iter([each for each in data if each != {}])
            items = []
            for each in edits:
                value = next(there) if each.before is not None else None
                if each.after is not None:
                    new = each.before is not each.after
                    items.append(plain([each.after], lists, texts)[0] if new else self._inside(value, each))
            return items
        there = iter([(key, one) for key, value in data.items() for one in _items(key, value, lists)])
        found: dict[str, Any] = {}
        for each in edits:
            key, value = next(there) if each.before is not None else ("", None)
            if each.after is None:
                continue
            if each.before is not each.after:
                [(key, value)] = plain([each.after], lists, texts).items()
                value = value[0] if key in lists else value
            if key in lists:
                found.setdefault(key, []).append(self._inside(value, each))
            else:
                found[key] = self._inside(value, each)
        return found

    def _inside(self, value: Any, edit: Edit) -> Any:
        return value if edit.inside is None else self._edited(value, edit.inside)


def _json(data: Any) -> str:
    return msgspec.json.format(msgspec.json.encode(data), indent=2).decode() + "\n"


def _items(key: str, value: Any, lists: frozenset[str]) -> list[Any]:
    """Return the values of a member that are statements of their own."""
    return value if key in lists and isinstance(value, list) else [value]


class Yaml(Surface, frozen=True, tag="yaml"):
    """YAML: one mapping.

    Attributes:
        texts: Names of members whose values are text even if they look like a number.
    """

    texts: tuple[str, ...] = ()
    line_ends: tuple[str, ...] = ("\n", "\r", "\x85", "\u2028", "\u2029")  # YAML 1.1, section 5.4

    @property
    def marks(self) -> str:
        """Characters that make the rest of a line a comment."""
        return "#"

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return "  "

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        try:
            root = yaml.compose(text, Loader=_YamlLoader)
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            raise CaptureError(
                Place(file, mark.line + 1 if mark else 1), f"not well-formed YAML: {error.problem}",
                "It may be cut off: capture it again.",
            ) from None  # fmt: skip
        except yaml.YAMLError as error:
            raise CaptureError(Place(file, 1), f"not well-formed YAML: {error}") from None
        if not isinstance(root, yaml.MappingNode):
            raise CaptureError(Place(file, 1), "this is not a YAML mapping", other=True)
        try:
            if _expanded(root, {}) > MOST_NODES + len(text):
                raise CaptureError(Place(file, 1), "its aliases repeat so much that it would be too long to read")
            return _yaml_members(root)
        except RecursionError:
            raise CaptureError(Place(file, 1), "the document nests too deeply") from None

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        data = plain(statements, frozenset(), frozenset(self.texts))
        return yaml.dump(data, Dumper=_YamlDumper, sort_keys=False, width=200, allow_unicode=True) if data else ""


def _expanded(node: yaml.Node, known: dict[int, int]) -> int:
    """Count the nodes of a document with its aliases written out; one that holds itself is without end."""
    key = id(node)
    if key not in known:
        known[key] = MOST_NODES * MOST_NODES  # until it is known: what it holds may not hold it again
        inside = node.value if isinstance(node, yaml.CollectionNode) else ()
        members = [each for pair in inside for each in (pair if isinstance(pair, tuple) else (pair,))]
        known[key] = 1 + sum(_expanded(each, known) for each in members)
    return known[key]


class _YamlLoader(yaml.CSafeLoader):
    def resolve(self, kind: type[yaml.Node], value: Any, implicit: Any) -> str:
        return "plain"  # nobody asks what a word stands for: phrases say that


class _YamlDumper(yaml.CSafeDumper):
    def ignore_aliases(self, data: Any) -> bool:
        return True


def plain(statements: Sequence[Statement], lists: frozenset[str], texts: frozenset[str]) -> Any:
    """Return statements as plain data, to be written as a document."""
    if statements and all(_is_entry(each) for each in statements):
        return [
            plain(each.children, lists, texts) if each.children is not None else _value(each.text, False)
            for each in statements
        ]
    data: dict[str, Any] = {}
    repeated: set[str] = set()
    for each in statements:
        key, _, text = each.text.partition(" ")
        value = plain(each.children, lists, texts) if each.children is not None else _value(text, key in texts)
        if key in data and key not in lists and key not in repeated:
            repeated.add(key)  # a list of which nobody said that it is one: no entry is lost
            data[key] = [data[key]]
        if key in lists or key in repeated:
            data.setdefault(key, []).append(value)
        else:
            data[key] = value
    return data


def _is_entry(statement: Statement) -> bool:
    return statement.text == ENTRY if statement.children is not None else " " not in statement.text


def _value(text: str, as_text: bool) -> Any:
    if as_text:
        return text
    if text[:1] == '"' and text[-1:] == '"' and len(text) > 1:
        try:
            return json.loads(text)
        except ValueError:
            return text  # quotes of its own
    if text in _PLAIN:
        return _PLAIN[text]
    return int(text) if _INTEGER.fullmatch(text) else text


class _RepeatedKeyError(ValueError):
    """An object has a name twice."""


def _without_repetition(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        raise _RepeatedKeyError(next(name for name in names if names.count(name) > 1))
    return found


class _JsonReader:
    """Makes statements of decoded JSON: names stand in its text in the order in which they were decoded."""

    def __init__(self, text: str, lists: Sequence[str]) -> None:
        self.lists = frozenset(lists)
        self.lines = (
            _lines_of_names(text) if "\n" in text.strip() else repeat(1 + text[: -len(text.lstrip())].count("\n"))
        )
        self.line = 1

    def item(self, value: Any) -> Statement:
        """Make a statement of a list's item: objects and lists become entries."""
        if isinstance(value, dict):
            before, members = self.line, self.members(value)
            return Statement(ENTRY, members[0].line if members else before, members)
        if isinstance(value, list):
            return Statement(ENTRY, self.line, [self.item(each) for each in value])
        return Statement(scalar(value), self.line)

    def members(self, value: dict[str, Any]) -> list[Statement]:
        """Make statements of the members of an object."""
        found: list[Statement] = []
        for key, each in value.items():
            line = self.line = next(self.lines)
            if type(each) is str and each.isprintable():  # this is hot: most members are plain
                found.append(Statement(f"{key} {each}", line))
            elif key in self.lists and isinstance(each, list):
                found += [self.member(key, one, 0 if number else line) for number, one in enumerate(each)]
            else:
                found.append(self.member(key, each, line))
        return found

    def member(self, key: str, value: Any, line: int) -> Statement:
        """Make a statement of one member; without a line of its own it stands where the first inside it does."""
        if isinstance(value, dict):
            before, inside = self.line, self.members(value)
            return Statement(key, line or (inside[0].line if inside else before), inside)
        if isinstance(value, list):
            return Statement(key, line or self.line, [self.item(each) for each in value])
        return Statement(f"{key} {scalar(value)}", line or self.line)


def _lines_of_names(text: str) -> Iterator[int]:
    """Yield the line of every name of a member, in their order."""
    line = 1
    for each in _BREAKS_AND_STRINGS.findall(text):
        if each == "\n":
            line += 1
        elif each[-1] == ":":
            yield line
            line += each.count("\n")  # before the colon


def scalar(value: Any) -> str:
    """Return a value as the words of a statement."""
    # Text that could break a line apart, or hide what it is, stays in JSON's own spelling.
    if isinstance(value, str):
        return value if value.isprintable() else json.dumps(value)
    return str(value) if type(value) is int else json.dumps(value)


def _yaml_members(node: yaml.MappingNode) -> list[Statement]:
    found = []
    for key, value in node.value:
        line = key.start_mark.line + 1
        name = scalar(str(key.value)) if isinstance(key, yaml.ScalarNode) else "?"
        if isinstance(value, yaml.MappingNode):
            found.append(Statement(name, line, _yaml_members(value)))
        elif isinstance(value, yaml.SequenceNode):
            found.append(Statement(name, line, [_yaml_item(each) for each in value.value]))
        else:
            found.append(Statement(f"{name} {scalar(str(value.value))}", line))
    return found


def _yaml_item(node: yaml.Node) -> Statement:
    line = node.start_mark.line + 1
    if isinstance(node, yaml.MappingNode):
        return Statement(ENTRY, line, _yaml_members(node))
    if isinstance(node, yaml.SequenceNode):
        return Statement(ENTRY, line, [_yaml_item(each) for each in node.value])
    return Statement(scalar(str(node.value)), line)
