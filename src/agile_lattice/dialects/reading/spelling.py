"""Statements in one spelling: of several that mean the same, phrases have to know one only.

Both are written in a form, as regular expressions. What stands between quotes is a name, and stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

from agile_lattice.dialects.expressions import ungrouped
from agile_lattice.dialects.surfaces import Statement, rewritten

QUOTED = re.compile(r'("[^"]*")')
MOST_TURNS = 8  # actions behind which one statement goes on


class Spelled(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    r"""Another spelling of what phrases know.

    Attributes:
        says: The spelling, as a regular expression.
        means: What phrases know, with the groups of the expression as in `re.sub`: `\1`.
    """

    says: str
    means: str


class InTurn(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An action behind which a statement may go on: what it asks for there, it asks for when that is done.

    Such a statement stands for two, both with the tests before the action: one that ends with it, one with the rest.

    Attributes:
        action: The action, as a regular expression.
        asks: What tests before it must not ask for, since the action changes it: with groups of the action.
        ends: What may follow, once or more often, without being a statement of its own, as a regular expression.
    """

    action: str
    asks: str
    ends: str


def respelled(statements: Sequence[Statement], how: Sequence[Spelled]) -> list[Statement]:
    """Return statements as phrases know them; those that need no change are the same objects."""
    ways = [(re.compile(each.says), each.means) for each in how]
    any_of = re.compile("|".join(f"(?:{ungrouped(each.says)})" for each in how))

    def put(text: str) -> str:
        for says, means in ways:
            text = says.sub(means, text)
        return text

    def one(statement: Statement) -> list[Statement] | None:
        if not any_of.search(statement.text):
            return None
        pieces = QUOTED.split(statement.text)
        text = "".join(each if each.startswith('"') else put(each) for each in pieces)
        return [Statement(text, statement.line)]

    return list(rewritten(statements, one))


def in_turn(statements: Sequence[Statement], how: InTurn) -> list[Statement]:
    """Return statements of which none asks for anything behind an action that goes on."""
    action, ends = re.compile(rf"(?<!\S)(?:{how.action})(?!\S)"), re.compile(rf"(?:{how.ends})(?: |$)")

    def goes_on(rest: str) -> bool:
        while found := ends.match(rest):
            rest = rest[found.end() :]
        return bool(rest)

    def parts(statement: Statement) -> list[Statement] | None:
        done: list[str] = []
        text = statement.text
        found = action.search(text)
        while found is not None and goes_on(rest := text[found.end() :].strip()):
            before = text[: found.start()]
            if len(done) == MOST_TURNS or re.search(found.expand(how.asks), before):
                break
            done.append(text[: found.end()])
            text = f"{before}{rest}"
            found = action.search(text, len(before))
        return [Statement(each, statement.line) for each in (*done, text)] if done else None

    return list(rewritten(statements, parts))
