"""Write docs/refusals.md: what each dialect refuses, and why, found by trying.

.venv/bin/python scripts/write_refusals.py
"""

from __future__ import annotations

from pathlib import Path

from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.trying import NOT_ITS_SECTION, carries, probe, probes

TARGET = Path(__file__).parent.parent / "docs" / "refusals.md"
HEAD = """\
# What a dialect refuses

What a dialect cannot express is refused with the object, the key, its line and the reason; nothing is left out in
silence. This is the list, found by writing each thing in each dialect and reading it back. What belongs to another
dialect of the same device (permits, say, where a dialect has only routes) is not in it. Written by
`scripts/write_refusals.py`.
"""


def refusals_page() -> str:
    """Return the page."""
    parts = [HEAD]
    for name in BUILT_IN.names():
        dialect = BUILT_IN.dialect(name)
        rows = [
            f"| {what} | {why} |\n"
            for section, members in probes().items()
            for what, body in members.items()
            if (why := carries(dialect, section, probe(body, name))) and why != NOT_ITS_SECTION
        ]
        parts.append(f"\n## {name}\n\n")
        parts.append("".join(["| what | reason |\n|---|---|\n", *rows]) if rows else "Nothing of what it carries.\n")
    return "".join(parts)


if __name__ == "__main__":
    TARGET.write_text(refusals_page(), encoding="utf-8")
