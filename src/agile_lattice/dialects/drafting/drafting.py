"""A dialect file put together from what the statements of a sample say."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

import msgspec

from agile_lattice.dialects.drafting.layout import laid_out
from agile_lattice.dialects.drafting.lines import Line, every, merged
from agile_lattice.dialects.drafting.matching import Matcher, Said, words_of
from agile_lattice.dialects.drafting.spelling import Names
from agile_lattice.dialects.drafting.words import ranked, shut, worded
from agile_lattice.dialects.drafting.writing import text_of
from agile_lattice.dialects.facts import Fact, StaticNatFact
from agile_lattice.dialects.lowering import facts_of
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import Device
from agile_lattice.intent.translations import Static


class Draft(msgspec.Struct, frozen=True):
    """A first draft of a dialect.

    Attributes:
        text: The dialect file.
        said: How many statements of the sample it says something of, and how many there are.
    """

    text: str
    said: tuple[int, int]


def drafted(text: str, file: str, name: str, device: Device | None) -> Draft:
    """Draft a dialect.

    Args:
        text: The sample.
        file: Its name.
        name: What the dialect is called.
        device: What the sample means; without it every statement is left to the author.

    Raises:
        CaptureError: If the sample cannot be cut into statements.
    """
    syntax, statements = laid_out(text, file)
    lines = _lines(statements, None, _matcher(device) if device is not None else Matcher({}, Names()))
    words = worded(lines)
    shut(lines, words)
    ranked(lines)
    said = sum(any(each.said for each in every([line])) for line in every(lines)), sum(1 for _ in every(lines))
    return Draft(text_of(name, file, syntax, merged(lines), words, said), said)


def _matcher(device: Device) -> Matcher:
    """Return what finds the facts of a device, by its names for them."""
    zones = defaultdict(list)
    for one in device.interfaces:
        zones[one.zone].append(one.name)
    names = Names(
        {tuple(sorted(members)): zone for zone, members in zones.items() if zone},
        {each.addresses: each.name for each in device.named if each.addresses is not None},
        {(each.service.protocol, each.service.ports): each.name for each in device.named if each.service is not None},
    )
    pairs: list[Fact] = [
        StaticNatFact(each.external, each.internal, None, each.name)
        for each in device.translations
        if isinstance(each, Static)
    ]
    return Matcher({**facts_of(device), "static-nat": pairs}, names)


def _lines(statements: Iterable[Statement], around: Said | None, matcher: Matcher) -> list[Line]:
    found: list[Line] = []
    for each in statements:
        said = matcher.find(each, around)
        words = list(said.words) if said is not None else words_of(each.text)
        inside = _lines(each.children or (), said or around, matcher)
        found.append(Line([said] if said is not None else [], words, inside, each.children is not None))
    return found
