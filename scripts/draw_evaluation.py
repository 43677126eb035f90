"""Draw the order of evaluation for docs/evaluation.md.

.venv/bin/python scripts/draw_evaluation.py
"""

from __future__ import annotations

from pathlib import Path

import matplotlib
from matplotlib.figure import Figure
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

TARGET = Path(__file__).parent.parent / "docs" / "evaluation.svg"
INK, FAINT, PAPER, ACCENT, WARM = "#22303c", "#566370", "#ffffff", "#0b5784", "#a1420a"

# What happens, what decides, and where a packet can end.
STAGES = [
    ("destination NAT", "destination", "publish, static,\nexempt: the first\nthat matches", ""),
    ("way out", "route", "longest prefix,\nthen distance,\nthen metric", "for the device itself,\nno way, discarded"),
    ("permits", "pass or drop", "the first that\nmatches; none:\ndropped", "dropped"),
    ("source NAT", "source", "exempt, static,\nsource-becomes: the\nfirst that matches", ""),
]
WIDTH, GAP = 2.05, 0.62


def draw() -> Figure:
    """Return the drawing."""
    figure = Figure(figsize=(11.4, 3.1), facecolor=PAPER)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set(xlim=(0, 11.4), ylim=(3.1, 0))
    axes.axis("off")
    for at, (name, what, rule, end) in enumerate(STAGES):
        x = 0.75 + at * (WIDTH + GAP)
        look = FancyBboxPatch(
            (x, 0.55), WIDTH, 1.45, boxstyle="round,pad=0,rounding_size=0.08", fc=PAPER, ec=INK, lw=1.4
        )
        axes.add_patch(look)
        axes.text(x + 0.12, 0.78, name, fontsize=10.5, fontweight="bold", color=INK, va="center")
        axes.text(x + 0.12, 1.03, what, fontsize=9, color=ACCENT, va="center", fontweight="bold")
        axes.text(x + 0.12, 1.5, rule, fontsize=8.5, color=FAINT, va="center", linespacing=1.35)
        _arrow(axes, (x - GAP + 0.06, 1.28), (x - 0.06, 1.28), INK)
        if end:
            _arrow(axes, (x + WIDTH / 2, 2.04), (x + WIDTH / 2, 2.42), WARM)
            axes.text(x + WIDTH / 2, 2.66, end, fontsize=8.5, color=WARM, ha="center", va="center", linespacing=1.3)
    last = 0.75 + len(STAGES) * (WIDTH + GAP) - GAP
    _arrow(axes, (last + 0.06, 1.28), (last + GAP - 0.06, 1.28), INK)
    axes.text(0.4, 1.0, "in", fontsize=10, color=INK, ha="center")
    axes.text(last + 0.33, 1.0, "out", fontsize=10, color=INK, ha="center")
    headers = [
        (0.75, "left", "original source, external destination"),
        (0.75 + WIDTH + GAP, "left", "original source, real destination: what permits see"),
        (last - 0.02, "right", "new source, real destination"),
    ]
    for x, side, words in headers:
        axes.text(x, 0.28, words, fontsize=8.5, color=FAINT, va="center", ha=side)
    return figure


def _arrow(axes: object, start: tuple[float, float], end: tuple[float, float], colour: str) -> None:
    arrow = FancyArrowPatch(start, end, arrowstyle="-|>", mutation_scale=13, color=colour, lw=1.5, shrinkA=0, shrinkB=0)
    axes.add_patch(arrow)  # type: ignore[attr-defined]


if __name__ == "__main__":
    with matplotlib.rc_context({"svg.hashsalt": "lattice"}):
        draw().savefig(TARGET, metadata={"Date": None})
