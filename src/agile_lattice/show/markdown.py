"""A report as Markdown, for the comment of a merge request."""

from __future__ import annotations

import re
from collections.abc import Sequence

from agile_lattice.compare.differences import Difference
from agile_lattice.show.counterparts import counterpart_rows
from agile_lattice.show.differences import CHANGES, EFFECTS, missing_words, shown_differences
from agile_lattice.show.observing import failing, observed_words
from agile_lattice.show.proving import summary
from agile_lattice.show.report import Facts
from agile_lattice.show.templates import template
from agile_lattice.show.terminal import plural, visible


def comment(facts: Facts) -> str:
    """Write the comment."""
    return template("report.md").render(
        facts=facts, headline=_headline(facts), summary=summary, changes=CHANGES, effects=EFFECTS, side=_side,
        fence=_fence, cell=_cell, code=_code, shown=shown_differences, missing=missing_words, rows=counterpart_rows,
        observed_words=observed_words, failing=failing,
    )  # fmt: skip


def _headline(facts: Facts) -> str:
    """Say the most important in one line."""
    parts = [plural(len(facts.open_findings), "finding")]
    if facts.compared is not None:
        parts.append(plural(sum(len(shown_differences(each)) for each in facts.compared), "difference"))
    if facts.change is not None:
        felt = [each.device for each in facts.change.verdicts if not each.same]
        packets = (
            f"packets are treated differently on {', '.join(felt)}" if felt else "every packet is treated as before"
        )
        parts.append(packets if facts.change.verdicts else "no device was there before")
    return ", ".join(parts) + "."


def _side(one: Difference, at: int) -> str:
    place = (one.intent, one.device)[at]
    values = [f"{each.name}: {(each.intent, each.device)[at] or '-'}" for each in one.fields]
    told = [(one.witness.intent, one.witness.device)[at]] if one.witness is not None else []
    return "; ".join([*values, *told, *([str(place)] if place.line else [])]) or "-"


def _cell(words: str) -> str:
    """Write words so that nothing in them is a link, code, emphasis, HTML or the end of a cell."""
    escaped = re.sub(r"([\\`*_\[\]|~])", r"\\\1", visible(words).replace("\n", " "))
    return escaped.replace("<", "&lt;")


def _code(words: str) -> str:
    """Write words as code, in a cell of a table too, whatever is in them."""
    longest = max((len(run) for run in re.findall("`+", words)), default=0)
    marks = "`" * (longest + 1)
    blank = " " if longest else ""
    return f"{marks}{blank}{visible(words).replace(chr(10), ' ').replace('|', chr(92) + '|')}{blank}{marks}"


def _fence(lines: Sequence[str]) -> str:
    """Return a fence that no line of a text closes."""
    longest = max((len(run) for line in lines for run in re.findall("`+", line)), default=0)
    return "`" * max(3, longest + 1)
