"""Write the reference pages that come from the code: docs/commands.md, docs/keys.md, docs/output.md, docs/facts.md.

.venv/bin/python scripts/write_reference.py
"""

from __future__ import annotations

from argparse import ArgumentParser, _SubParsersAction
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from agile_lattice.cli.commands import COMMANDS, command_parser, documents
from agile_lattice.cli.schemas import json_schema
from agile_lattice.dialects.reference import facts_reference, kinds_reference
from agile_lattice.notation import shapes

DOCS = Path(__file__).parent.parent / "docs"
COMMANDS_PAGE = """\
# The commands

`lattice COMMAND --help` prints this. The exit code is 0 if there is nothing to report, 1 for findings or differences, 2
if it could not be done. This page is written from the code.
"""
KEYS = """\
# The keys of the notation

Every key that an intent can have. [The notation](intent.md) explains them, by need; this page is written from the
JSON Schema that comes with the package, `agile_lattice/notation/intent.schema.json`.
"""
FACTS_PAGE = """\
# Facts and types

What statements of a [dialect](dialects.md) can say, and how values are spelt. `lattice dialects facts` and
`lattice dialects types` print this; the page is written from the code.
"""
OUTPUT = """\
# What `--format json` prints

Each command that finds something out prints it as JSON, too. The schemas are in `docs/schemas`, and the tests hold what
is printed against them. Places are a file, a line from 1 on, and for a single value its column; a place that there is
not is `null`. This page is written from the code.

| typed | prints | schema |
|---|---|---|
"""


def pages() -> dict[str, str]:
    """Return the pages by their names."""
    return {
        "commands.md": commands_page(),
        "keys.md": keys_page(),
        "output.md": output_page(),
        "facts.md": facts_page(),
    }


def commands_page() -> str:
    """Return what every command takes."""
    parts = [COMMANDS_PAGE]
    for name in COMMANDS:
        command = command_parser(name)
        parts.append(f"\n## lattice {name}\n\n{command.description}\n")
        inner = list(_actions(command))
        if not inner:
            parts.append(_arguments(command))
        for action, parser in inner:
            parts.append(f"\n### lattice {name} {action}\n\n{parser.description}\n{_arguments(parser)}")
        example = (command.epilog or "").partition("\n  ")[2]
        if example:
            parts.append(f"\nFor example: `{example}`\n")
    return "".join(parts)


def _actions(parser: ArgumentParser) -> Iterator[tuple[str, ArgumentParser]]:
    for each in parser._actions:
        if isinstance(each, _SubParsersAction):
            yield from each.choices.items()


def _arguments(parser: ArgumentParser) -> str:
    rows = []
    for each in parser._actions:
        if "--help" in each.option_strings or isinstance(each, _SubParsersAction):
            continue
        value = each.metavar or ("{" + ",".join(map(str, each.choices)) + "}" if each.choices else "")
        value = "" if each.nargs == 0 else str(value)
        words = f"{each.option_strings[0]} {value}".strip() if each.option_strings else value
        if not each.option_strings and each.nargs in ("?", "*"):
            words = f"[{words}]"
        if each.nargs in ("+", "*"):
            words += " ..."
        rows.append(f"| `{_cell(words)}` | {_cell(each.help or '')} |\n")
    return "\n| argument | what it is |\n|---|---|\n" + "".join(rows) if rows else ""


def keys_page() -> str:
    """Return every key of the notation."""
    schema = shapes.json_schema()
    parts = [KEYS]
    parts.append(_keys("The file", schema, set(schema.get("required", []))))
    for name, shape in sorted(schema["$defs"].items()):
        if "properties" in shape:
            parts.append(_keys(_title(name), shape, set(shape.get("required", []))))
    return "".join(parts)


def _keys(title: str, shape: dict[str, Any], required: set[str]) -> str:
    said = shape.get("description", "").partition("\n\n")[0].replace("\n", " ")
    rows = []
    for key, one in shape["properties"].items():
        more = _cell(one.get("description", ""))
        name = f"`{key}`{' (required)' if key in required else ''}"
        rows.append(f"| {name} | {_type(one)}{f': {more}' if more else ''} |\n")
    return f"\n## {title}\n\n{said}\n\n| key | value |\n|---|---|\n" + "".join(rows)


def _title(name: str) -> str:
    """Return the name of a shape in words: `HostShape` is `host`."""
    words = "".join(f" {each.lower()}" if each.isupper() else each for each in name.removesuffix("Shape"))
    return words.strip().capitalize()


def _type(one: dict[str, Any]) -> str:
    """Return what kind of value a key has, in words."""
    if "$ref" in one:
        name = one["$ref"].rpartition("/")[2]
        return f"[{_title(name).lower()}](#{_title(name).lower().replace(' ', '-')})"
    if "const" in one:
        return f"`{one['const']}`"
    if "enum" in one:
        return " or ".join(f"`{each}`" for each in one["enum"])
    if "anyOf" in one or "oneOf" in one:
        kinds = [_type(each) for each in one.get("anyOf", one.get("oneOf", [])) if each.get("type") != "null"]
        return " or ".join(dict.fromkeys(kinds))
    match one.get("type"):
        case "array":
            return f"list of {_type(one.get('items', {}))}"
        case "object":
            inside = one.get("additionalProperties")
            return f"by name: {_type(inside)}" if isinstance(inside, dict) else "mapping"
        case "string":
            return "text"
        case str() as kind:
            return kind
        case _:
            return "any"


def facts_page() -> str:
    """Return what statements can say, and the types that every dialect has."""
    parts = [FACTS_PAGE]
    for fact in facts_reference():
        of = f" It belongs to the section `{fact.section}`." if fact.section else ""
        parts.append(f"\n## {fact.name}\n\n{fact.meaning}{of}\n\n")
        parts.append("| field | holds | default | meaning |\n|---|---|---|---|\n")
        for field in fact.fields:
            default = field.default or "required"
            parts.append(f"| `{field.name}` | {_cell(field.holds)} | {default} | {_cell(field.meaning)} |\n")
    parts.append("\n## Types\n\n| type | reads | such as |\n|---|---|---|\n")
    parts += [f"| `{each.name}` | {each.reads} | {_cell(each.example)} |\n" for each in kinds_reference()]
    return "".join(parts)


def output_page() -> str:
    """Return what `--format json` prints."""
    parts = [OUTPUT]
    for document, printed in documents().items():
        schema = json_schema(document, printed)
        file = f"{document.replace(' ', '-').replace('--', '')}.schema.json"
        parts.append(f"| `lattice {document} --format json` | {_cell(_printed(schema))} | [{file}](schemas/{file}) |\n")
    return "".join(parts)


def _printed(schema: dict[str, Any]) -> str:
    listed = schema.get("type") == "array"
    one = schema["items"] if listed else schema
    shape = schema["$defs"].get(one.get("$ref", "").rpartition("/")[2], one)
    said = shape.get("description", "").partition("\n")[0]
    if not said:
        said = "Text." if listed else "For each thing that an intent can hold, and each dialect, nothing or why not."
    return f"A list; each is: {said}" if listed else said


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")


if __name__ == "__main__":
    for name, text in pages().items():
        (DOCS / name).write_text(text, encoding="utf-8")
