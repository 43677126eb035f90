"""Findings as text: where, what, and what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from agile_lattice.checks import Finding
from agile_lattice.show.terminal import plural, source_line


def show_findings(console: Console, findings: Sequence[Finding], subject: str) -> None:
    """Print findings, one paragraph each, and a closing count.

    Args:
        console: Where to.
        findings: In the order to be shown.
        subject: What was checked, in words.
    """
    for one in findings:
        style = "strong" if one.severity == "error" else "calm"
        console.print(Text.assemble((str(one.place), "place"), "  ", (one.severity, style), "  ", (one.slug, "head")))
        console.print(Padding(f"{one.subject}: {one.what}", (0, 0, 0, 4)))
        line = source_line(one.place)
        if line:
            console.print(Padding(Text(f"| {line}", style="source"), (0, 0, 0, 4)), overflow="ellipsis", no_wrap=True)
        console.print(Padding(Text(f"> {one.remedy}", style="remedy"), (0, 0, 1, 4)))
    console.print(Text(f"{subject}: {_count(findings)}", style="head"))


def _count(findings: Sequence[Finding]) -> str:
    counts = Counter(one.severity for one in findings)
    said = [plural(counts[severity], severity) for severity in ("error", "warning") if counts[severity]]
    return ", ".join(said) or "no findings"
