"""Write docs/checks.md from the rulebook.

.venv/bin/python scripts/write_checks.py
"""

from __future__ import annotations

from itertools import groupby
from pathlib import Path

from agile_lattice.checks import CHECKS

TARGET = Path(__file__).parent.parent / "docs" / "checks.md"
HEAD = """\
# The checks

What `lattice check` finds: {count} checks. An *error* will not work, a *warning* is rarely meant, a *note* is worth a
look and does not change the exit code; where a check lacks a fact it says *unknown*, not "fine".
`lattice check --explain SLUG` prints one of these. A finding can be accepted in the intent, with a reason.

The examples are bodies of a device, or whole intents without their first line. This page is written
from the checks themselves.
"""


def checks_page() -> str:
    """Return the page."""
    parts = [HEAD.format(count=len(CHECKS))]
    for theme, members in groupby(CHECKS.values(), key=lambda each: each.theme):
        parts.append(f"\n## {theme.capitalize()}\n")
        for one in members:
            parts.append(f"\n### {one.slug}\n\n*{one.severity}.* {one.why}\n")
            for title, example in (("Wrong", one.wrong), ("Right", one.right)):
                parts.append(f"\n{title}:\n\n```yaml\n{example.rstrip()}\n```\n")
    return "".join(parts)


if __name__ == "__main__":
    TARGET.write_text(checks_page(), encoding="utf-8")
