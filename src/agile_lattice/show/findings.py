"""Findings as text: where, what, and what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding

from agile_lattice.checks.registry import SEVERITIES, Check, Finding, Severity
from agile_lattice.show.terminal import Text, plural, source_lines

STYLES: dict[Severity, str] = {"error": "strong", "warning": "device", "note": "calm", "unknown": "head"}


def show_findings(console: Console, findings: Sequence[Finding], subject: str) -> None:
    """Print findings, one paragraph each, then those that are accepted, and a closing count.

    Args:
        console: Where to.
        findings: In the order to be shown.
        subject: What was checked, in words.
    """
    for one in findings:
        if not one.accepted:
            _show(console, one)
    accepted = [one for one in findings if one.accepted]
    if accepted:
        console.print(Text("Accepted:", style="head"))
        for one in accepted:
            console.print(
                Padding(Text.assemble((str(one.place), "place"), f"  {one.slug}  {one.subject}"), (0, 0, 0, 2))
            )
            console.print(Padding(Text(f"because: {one.accepted}", style="remedy"), (0, 0, 0, 4)))
        console.print()
    console.print(Text(f"{subject}: {_count(findings)}", style="head"))


def _show(console: Console, one: Finding) -> None:
    style = STYLES[one.severity]
    console.print(Text.assemble((str(one.place), "place"), "  ", (one.severity, style), "  ", (one.slug, "head")))
    console.print(Padding(Text(f"{one.subject}: {one.what}"), (0, 0, 0, 4)))
    for line in source_lines(one.place, console.width - 8):
        console.print(Padding(Text(line, style="source"), (0, 0, 0, 4)), overflow="ellipsis", no_wrap=True)
    console.print(Padding(Text(f"> {one.remedy}", style="remedy"), (0, 0, 1, 4)))


def _count(findings: Sequence[Finding]) -> str:
    counts = Counter(one.severity for one in findings if not one.accepted)
    said = [plural(counts[severity], severity) for severity in SEVERITIES[:3] if counts[severity]]
    if counts["unknown"]:
        said.append(f"{counts['unknown']} could not be told")
    accepted = sum(bool(one.accepted) for one in findings)
    if accepted:
        said.append(f"{accepted} accepted")
    return ", ".join(said) or "no findings"


def show_check(console: Console, check: Check) -> None:
    """Print why a check is there, and its two examples."""
    console.print(
        Text.assemble((check.slug, "head"), "  ", (check.severity, STYLES[check.severity]), f"  {check.theme}")
    )
    console.print(Padding(Text(check.why), (0, 0, 1, 4)))
    for title, example in (("wrong", check.wrong), ("right", check.right)):
        console.print(Padding(Text(title, style="head"), (0, 0, 0, 4)))
        for line in example.splitlines():
            console.print(Padding(Text(line), (0, 0, 0, 6)), no_wrap=True, overflow="ignore", crop=False)
        console.print()
