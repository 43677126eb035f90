"""The design checks: every one registers here, with the reason for it and two examples.

A check is a function from a design to what it found. Its wrong example makes it speak, its
right example does not; the tests, the documentation and `lattice check --explain` use both.
What is wrong with single values is found while an intent is loaded; those checks are in the
list too, without a function.
"""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Collection, Iterable, Iterator
from typing import Literal

import msgspec

from agile_lattice.checks.design import Design
from agile_lattice.intent.model import Accepted, Network
from agile_lattice.intent.places import Place

Severity = Literal["error", "warning", "note", "unknown"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note", "unknown")


class Found(msgspec.Struct, frozen=True):
    """What a check saw.

    Attributes:
        place: Where.
        subject: The object, in words.
        what: What is wrong with it.
        remedy: What to do.
        unknown: Whether it could not be told, for want of a fact; `what` says which.
    """

    place: Place
    subject: str
    what: str
    remedy: str
    unknown: bool = False


Finder = Callable[[Design], Iterable[Found]]


class Check(msgspec.Struct, frozen=True):
    """One check.

    Attributes:
        slug: Its name.
        severity: `error` if something will not work, `warning` if it is rarely meant, `note` if it is worth a look.
        why: Why it matters, in a sentence.
        wrong, right: Examples: the body of a device, or a whole intent without its first line.
        find: The check itself; `None` if it is made while an intent is loaded.
        theme: What it is about.
        across: Whether it looks across devices: what any other one finds follows from a device alone, and from what
            is said for all.
    """

    slug: str
    severity: Severity
    why: str
    wrong: str
    right: str
    find: Finder | None
    theme: str
    across: bool = False


class Finding(msgspec.Struct, frozen=True):
    """What a check found: see `Found`; with the check's slug and severity.

    Attributes:
        accepted: Why somebody accepts it; empty if nobody does.
    """

    slug: str
    severity: Severity
    place: Place
    subject: str
    what: str
    remedy: str
    accepted: str = ""


CHECKS: dict[str, Check] = {}


def check(
    slug: str, severity: Severity, why: str, wrong: str, right: str, across: bool = False
) -> Callable[[Finder], Finder]:
    """Register a check; the arguments are the attributes of `Check`."""

    def enter(find: Finder) -> Finder:
        CHECKS[slug] = Check(slug, severity, why, wrong, right, find, find.__module__.rpartition(".")[2], across)
        return find

    return enter


def check_while_loading(slug: str, why: str, wrong: str, right: str) -> None:
    """Enter a check that is made while an intent is loaded; always an error."""
    CHECKS[slug] = Check(slug, "error", why, wrong, right, None, "values")


def example_intent(example: str) -> str:
    """Return a check's example as a whole intent file."""
    if "devices:" in example:
        return f"lattice: 1\n{example}"
    return "lattice: 1\ndevices:\n  quay:\n    speaks: [iproute2, nftables]\n" + textwrap.indent(example, "    ")


def findings(network: Network) -> list[Finding]:
    """Check a network against all design rules.

    Returns:
        The findings in order of file and line; those that the intent accepts say so.
    """
    design = Design(network)
    return findings_of(network, [*found(design, across=False), *found(design, across=True)])


def found(design: Design, across: bool) -> Iterator[tuple[str, Found]]:
    """Yield what the checks see that look across devices, or what the others see; each with the slug of its check."""
    for each in CHECKS.values():
        if each.find is not None and each.across == across:
            for one in each.find(design):
                yield each.slug, one


def findings_of(network: Network, found: Iterable[tuple[str, Found]]) -> list[Finding]:
    """Return what checks saw as findings, in order; of the network only what it accepts is looked at."""
    used: set[int] = set()
    seen = [(CHECKS[slug], one) for slug, one in found]
    several = _of_several(seen)
    result = [_finding(check, one, network, used, several) for check, one in seen]
    result += _unused_acceptances(network, used, result, several)
    return sorted(result, key=lambda one: (one.place.file, one.place.line, one.slug))


def _of_several(seen: Iterable[tuple[Check, Found]]) -> set[tuple[str, str]]:
    """Return the checks and subjects of which two objects have the same: what accepts one would accept the other."""
    first: dict[tuple[str, str, str], Place] = {}
    found = set()
    for check, one in seen:
        before = first.setdefault((check.slug, one.subject, one.what), one.place)
        if (before.file, before.line) != (one.place.file, one.place.line):
            found.add((check.slug, one.subject))
    return found


def _finding(
    check: Check, found: Found, network: Network, used: set[int], several: Collection[tuple[str, str]]
) -> Finding:
    accepted = ""
    for index, one in enumerate(network.accepted):
        if one.finding == check.slug and found.subject == one.on and (check.slug, one.on) not in several:
            used.add(index)
            accepted = one.reason
    severity: Severity = "unknown" if found.unknown else check.severity
    return Finding(check.slug, severity, found.place, found.subject, found.what, found.remedy, accepted)


def _unused_acceptances(
    network: Network, used: set[int], found: list[Finding], several: Collection[tuple[str, str]]
) -> Iterator[Finding]:
    rule = CHECKS["acceptance-unused"]
    for index, one in enumerate(network.accepted):
        if index not in used:
            why = _why_unused(one, found, several)
            yield Finding(rule.slug, rule.severity, one.place, f"accepted {one.finding}", *why)


def _why_unused(one: Accepted, found: list[Finding], several: Collection[tuple[str, str]]) -> tuple[str, str]:
    if (one.finding, one.on) in several:
        return f"several objects are {one.on!r}, and each is accepted by itself", "Give them names, to tell them apart."
    if one.finding not in CHECKS:
        return f"there is no check {one.finding}", "Write the slug as `lattice check` prints it."
    near = [each.subject for each in found if each.slug == one.finding and each.subject.startswith(one.on)]
    if near:
        return f"nothing of the kind is found on just {one.on!r}", f"Write `on: {near[0]}`: each is accepted by itself."
    return f"nothing of the kind is found on {one.on!r}", "Take the acceptance out: what it was for is gone."


CHECKS["acceptance-unused"] = Check(
    "acceptance-unused",
    "warning",
    "An acceptance that nothing needs any more would hide the next finding of its kind.",
    wrong="devices: {quay: {speaks: frr}}\naccepted: [{finding: clear-text, on: quay, reason: timetables are public}]",
    right="devices: {quay: {speaks: [frr]}}\naccepted: []",
    find=None,
    theme="acceptances",
)
