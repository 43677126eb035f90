"""Figures where people read them: each row of a table in `docs/performance.md` with the commit that it was measured on.

A benchmark gives a row; it takes the place of the last one with the same first cells, and is told apart if one of its
ratios got worse by a third.
"""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

PAGE = Path(__file__).resolve().parents[1] / "docs" / "performance.md"
WORSE = 4 / 3
COMMIT = "commit"


def commit() -> str:
    """Return the commit that is measured; `+` behind it where the package has changed since."""
    git = ["git", "-C", str(PAGE.parents[1])]
    head = subprocess.run([*git, "rev-parse", "--short=7", "HEAD"], check=True, capture_output=True, text=True).stdout
    changed = subprocess.run([*git, "diff", "--quiet", "HEAD", "--", "src"], check=False).returncode
    return head.strip() + "+" * bool(changed)


def number(cell: str) -> float | None:
    """Return the ratio in a cell: the number in brackets if there are any, else the number."""
    found = re.search(r"\(([\d.]+)\)", cell) or re.fullmatch(r"([\d.]+)", cell)
    return float(found[1]) if found else None


def keep(table: str, row: Mapping[str, str], ratios: Sequence[str] = ("ratio",), named_by: int = 1) -> None:
    """Put a row into a table of the page, print it, and say which of its ratios got worse by a third.

    Args:
        table: The name of the table, as in the comment `<!-- table NAME -->` in front of it.
        row: Its cells, by the names of the columns.
        ratios: The columns of which less is better; in a cell with brackets, what is in them.
        named_by: How many of the first cells say what the row is about.
    """
    row = {**row, COMMIT: commit()}
    text = PAGE.read_text()
    mark = f"<!-- table {table} -->\n\n"
    before, found, rest = text.partition(mark)
    if not found:
        raise SystemExit(f"{PAGE.name} has no table {table}: it begins with {mark.strip()!r}")
    lines = rest.split("\n\n", 1)[0].splitlines()
    behind = rest[len("\n".join(lines)) :]
    names = [each.strip() for each in lines[0].strip("| ").split("|")] if lines else [*row]
    rows = [dict(zip(names, _cells(each), strict=False)) for each in lines[2:]]
    same = [each for each in rows if list(each.values())[:named_by] == list(row.values())[:named_by]]
    print(_line(row), *(_worse(each, row, ratios) for each in same), flush=True)
    rows = [{**row} if each in same else each for each in rows] if same else [*rows, {**row}]
    head = [_line({each: each for each in row}), "|" + "---|" * len(row)]
    PAGE.write_text(
        before
        + mark
        + "\n".join([*head, *(_line({name: each.get(name, "") for name in row}) for each in rows)])
        + behind
    )


def _cells(line: str) -> list[str]:
    return [each.strip() for each in line.removeprefix("|").removesuffix("|").split("|")]


def _line(row: Mapping[str, str]) -> str:
    return f"| {' | '.join(row.values())} |"


def _worse(last: Mapping[str, str], row: Mapping[str, str], ratios: Sequence[str]) -> str:
    """Say which ratios got worse by a third since the last row."""
    found = [(name, number(last.get(name, "")), number(row[name])) for name in ratios]
    told = [f"{name} was {was:g}" for name, was, now in found if was and now and now > was * WORSE]
    return f"  <- WORSE: {', '.join(told)} at {last.get(COMMIT) or 'a commit not told'}" if told else ""
