"""The rulebook: every design check registers here, with the reason for it and two examples.

A check is a function from a network to what it found. Its wrong example makes it speak, its
right example does not; tests and documentation use both.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Literal

import msgspec

from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place

Severity = Literal["error", "warning"]


class Found(msgspec.Struct, frozen=True):
    """What a check saw.

    Attributes:
        place: Where.
        subject: The object, in words.
        what: What is wrong with it.
        remedy: What to do.
    """

    place: Place
    subject: str
    what: str
    remedy: str


class Check(msgspec.Struct, frozen=True):
    """One check.

    Attributes:
        slug: Its name.
        why: Why it matters, in a sentence.
        wrong, right: Bodies of an intent with one device, as YAML.
        find: The check itself.
    """

    slug: str
    severity: Severity
    why: str
    wrong: str
    right: str
    find: Callable[[Network], Iterable[Found]]


class Finding(msgspec.Struct, frozen=True):
    """What a check found: see `Found`; with the check's slug and severity."""

    slug: str
    severity: Severity
    place: Place
    subject: str
    what: str
    remedy: str


RULEBOOK: dict[str, Check] = {}


def check(
    slug: str, severity: Severity, why: str, wrong: str, right: str
) -> Callable[[Callable[[Network], Iterable[Found]]], Callable[[Network], Iterable[Found]]]:
    """Enter a function into the rulebook; the arguments are the attributes of `Check`."""

    def enter(find: Callable[[Network], Iterable[Found]]) -> Callable[[Network], Iterable[Found]]:
        RULEBOOK[slug] = Check(slug, severity, why, wrong, right, find)
        return find

    return enter


def findings(network: Network) -> list[Finding]:
    """Hold a network against the whole rulebook; in order of file and line."""
    result = [
        Finding(each.slug, each.severity, found.place, found.subject, found.what, found.remedy)
        for each in RULEBOOK.values()
        for found in each.find(network)
    ]
    return sorted(result, key=lambda one: (one.place.file, one.place.line, one.slug))
