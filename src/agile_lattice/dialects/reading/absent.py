"""What a list of rules should let pass before its rules are asked, as an intent means it, and does not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.dialect import Form, Which
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.families import EVERYBODY
from agile_lattice.intent.model import Section
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import NOWHERE, Place

LET = {
    "replies": "replies to permitted connections",
    "answers": "replies of the device itself",
    "itself": "what the device sends to itself",
    "neighbours": "neighbour discovery (RFC 4861)",
}
SECTIONS_OF: dict[str, Section] = {"permit": "permits", "access": "access"}


class Absent(msgspec.Struct, frozen=True):
    """Packets that a list of rules asks its rules about, though an intent means that they pass.

    Attributes:
        section: `permits` or `access`.
        lets: `replies` to what was let pass, `answers` of the device, what it sends to `itself`, or messages of its
            `neighbours`.
        place: Where the list is.
        rest: From where on they pass, if rules stand before that which may drop them; nowhere if they never do.
        rules: What becomes of them for certain, the first that matches; `None` if it is what becomes of other packets.
        family: The one address family of these packets; `None` for both.
    """

    section: Section
    lets: str
    place: Place = NOWHERE
    rest: Place = NOWHERE
    rules: tuple[Passage, ...] | None = None
    family: int | None = None


def absent_of(form: Form, family: int | None, facts: Facts, seen: Mapping[Which, Place]) -> Iterator[Absent]:
    """Find out what the lists of a text do not let pass.

    Args:
        form: The form that the text is in.
        family: The one address family that its rules are for; `None` for both.
        facts: All that it says, by kind.
        seen: Where statements stand that let something pass, by their phrase.
    """
    told = set()
    for phrase in form.block.all_phrases():
        kind, lets = phrase.lets
        rules = facts.get(kind, [])
        # A list of one rule that lets everything pass lets these pass, too.
        if not lets or (kind, lets) in told or all(map(_lets_all_pass, rules)):
            continue
        rest = seen.get(phrase.which)
        if rest is None:
            told.add((kind, lets))
            yield Absent(SECTIONS_OF[kind], lets, rules[0].place, family=family)
        elif any(each.verdict == "drop" and each.place.line < rest.line for each in rules if isinstance(each, Passage)):
            told.add((kind, lets))
            yield Absent(SECTIONS_OF[kind], lets, rules[0].place, rest, family=family)


def _lets_all_pass(rule: Fact) -> bool:
    """Tell whether a rule lets everything pass, or everything of one family."""
    return isinstance(rule, Passage) and rule.source in EVERYBODY and replace(rule, source=None) == Passage()
