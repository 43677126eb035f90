"""The text of a draft."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any

from agile_lattice.dialects.drafting.lines import Line, every, joined
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact

TOLD_BY_CONSTANTS = ("loopback", "stage", "verdict", "to")
TYPES = {
    "interface": """interface = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*', most = 15}""",
    "parent": """parent = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*', most = 15}""",
    "zone": """zone = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*'}""",
    "zones": """zones = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*', set = true}""",
    "ports-of": """ports-of = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*', set = true}""",
    "hostname": """hostname = {is = "word"}""",
    "name": """name = {is = "word"}""",
    "protocol": 'protocol = {words = {tcp = "tcp", udp = "udp", icmp = "icmp", sctp = "sctp", esp = "esp"}}',
    "service-name": """service-name = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*'}""",
    "set-name": """set-name = {is = "word", pattern = '[A-Za-z0-9][A-Za-z0-9._-]*', named = true}""",
    "description": """description = {is = "word"}""",
}


def text_of(
    name: str, file: str, syntax: str, lines: Sequence[Line], words: dict[str, dict[str, Any]], counts: Sequence[int]
) -> str:
    """Return a dialect file that has these lines.

    Args:
        name: What the dialect is called.
        file: The name of the sample.
        syntax: How the text is laid out.
        lines: The lines.
        words: Of each field, words of the device that stand for its values.
        counts: How many statements say something, and how many there are.
    """
    statements = list(_statements(lines, ""))
    used = set(re.findall(r"<(?:\w+:)?([\w-]+),?>", "\n".join(statements)))
    types = [each for kind, each in TYPES.items() if kind in used]
    for field, known in words.items():
        spelt = ", ".join(f"{_key(text)} = {str(value).lower() if isinstance(value, bool) else _key(value, True)}"
                          for text, value in known.items())  # fmt: skip
        types.append(f"{field} = {{words = {{{spelt}}}}}")
    kinds = {kind for line in every(lines) for said in line.said for kind in said.kinds}
    sections = dict.fromkeys(section for kind in FACTS if kind in kinds and (section := FACTS[kind].section))
    if any(word.field == "description" for line in every(lines) for word in line.words):
        sections["descriptions"] = None
    sides = 'sides = "zones"' if "zones" in used else '# sides = "zones"            # if rules name zones'
    carries = ", ".join(f'"{each}"' for each in sections) or '"interfaces"'
    body = "\n".join(statements)
    order = 'order = "ranks"' if "<rank:" in body else '# order = "list"             # or "ranks", "kinds"'
    groups = (
        'groups = "apart"'
        if used & {"set-name", "service-name"}
        else '# groups = "inline"          # or "apart", if addresses and services go by names'
    )
    return f'''# A first draft from {file}: {counts[0]} of {counts[1]} statements say something of the intent.
# Look at every line. What begins with ## ? is left to you: say what it is, or that it is `=> ignored`.
# Try it: lattice dialects try {name}.toml {file}
dialect = "{name}"
title = "{name}"

[semantics]                    # what the device does: see the page on dialects
{sides}
{order}
{groups}
# answers = "addresses"       # how it answers for published addresses: or "declared", "itself"
# unpermitted = "passes"      # what a device without any permit does: or "drops"

[types]
{chr(10).join(types)}

[[forms]]
name = "configuration"
file = "{re.sub(r"[^A-Za-z0-9._-]", "-", file.rpartition("/")[2])}"
carries = [{carries}]
syntax = {syntax}
statements = \'\'\'
{body}
\'\'\'
'''


def _key(value: Any, quoted: bool = False) -> str:
    text = str(value)
    return json.dumps(text) if quoted or not re.fullmatch(r"[A-Za-z0-9_-]+", text) else text


def _statements(lines: Sequence[Line], indent: str) -> Iterator[str]:
    for line in lines:
        text = joined(line.words)
        printable = "".join(each if each.isprintable() else " " for each in text).replace("'''", "'' '")
        if printable != text or not (line.said or any(each.said for each in every(line.inside))):
            yield f"{indent}## ? {printable}"  # a dialect file could not hold it otherwise
            continue
        kinds = line.said[0].kinds if line.said else ()
        constants = " ".join(_constants(line)) if kinds else ""
        result = ", ".join([f"{kinds[0]}{' ' * bool(constants)}{constants}", *kinds[1:]]) if kinds else ""
        yield f"{indent}{text}{f'  => {result}' if result else ''}"
        yield from _statements(line.inside, indent + "  ")


def _constants(line: Line) -> Iterator[str]:
    """Yield what all statements of a line say without a word for it."""
    facts: list[Fact] = [fact for said in line.said for fact in said.facts]
    said = {each.field.partition(".")[0] for each in line.words if each.field}
    said |= {name for each in line.words for name in re.findall(r"<(\w+)", each.placeholder)}
    for field in TOLD_BY_CONSTANTS:
        values = {getattr(fact, field) for fact in facts if hasattr(fact, field)}
        if len(values) != 1 or field in said or None in values or values == {False}:
            continue
        [value] = values
        if field == "to":
            if getattr(value, "length", 1) == 0:
                yield f"to=prefix{value.family}:{value}"
            continue
        yield f"{field}={str(value).lower()}"
