"""A walk as a picture: a lane for each device, a card for each stage, the header as it changes."""

from __future__ import annotations

import textwrap
from typing import TYPE_CHECKING

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.pipeline import Stage
from agile_lattice.behaviour.walking import Visit, Walk
from agile_lattice.show.walking import NAMES, reply_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

CARD, GAP, LANE, MARGIN = 2.35, 0.3, 2.05, 0.3  # inches
CARD_HEIGHT = 1.25
INK, FAINT, CHANGED, STOPPED, PAPER, BAND = "#22303c", "#6b7885", "#0f5c8c", "#b3470b", "#ffffff", "#eef2f5"


def walk_figure(walk: Walk) -> Figure:
    """Return a figure of a walk, about 13 inches wide; a lane is some two inches high."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=_size(walk), facecolor="white")
    draw_walk(figure.add_axes((0, 0, 1, 1)), walk)
    return figure


def draw_walk(axes: Axes, walk: Walk) -> None:
    """Draw a walk, in inches."""
    width, height = _size(walk)
    axes.set(xlim=(0, width), ylim=(height, 0), aspect="equal")
    axes.axis("off")
    for number, visit in enumerate(walk.visits):
        _lane(axes, visit, number * LANE + MARGIN / 2, width, None if number < len(walk.visits) - 1 else walk)
    _closing(axes, walk, height)


def _size(walk: Walk) -> tuple[float, float]:
    most = max(len(visit.stages) for visit in walk.visits) + 2
    return 2 * MARGIN + most * CARD + (most - 1) * GAP, len(walk.visits) * LANE + _closing_height(walk)


def _closing_height(walk: Walk) -> float:
    return 0.56 + 0.22 * max(2, len(reply_words(walk)))


def _lane(axes: Axes, visit: Visit, top: float, width: float, ends: Walk | None) -> None:
    """Draw a device: its name, the packet as it comes, a card for each stage, and how it leaves."""
    from matplotlib.patches import FancyBboxPatch

    look = "round,pad=0,rounding_size=0.08"
    axes.add_patch(
        FancyBboxPatch((MARGIN / 2, top), width - MARGIN, LANE - 0.2, boxstyle=look, facecolor=BAND, edgecolor="none")
    )
    axes.text(MARGIN, top + 0.28, visit.device, fontsize=12, fontweight="bold", color=INK, va="center")
    y = top + 0.48
    x = MARGIN
    _card(axes, x, y, f"in {visit.arrives}" if visit.arrives else "sent by itself", "", visit.before, None)
    for stage in visit.stages:
        x = _arrow(axes, x, y)
        _card(axes, x, y, NAMES[stage.stage], _decided(stage), stage.after, stage)
    x = _arrow(axes, x, y)
    if ends is None or ends.end in ("delivered", "forwarded"):
        _card(axes, x, y, f"out {visit.leaves}", "" if ends is None else ends.end, visit.after, None)
    else:
        _card(axes, x, y, ends.end, ends.reason, None, None, STOPPED if not ends.arrives else INK)


def _decided(stage: Stage) -> str:
    words = stage.decided or ("no rule matches" if stage.tested else "no rules")
    place = f" ({stage.place.file.rpartition('/')[2]}:{stage.place.line})" if stage.place.line else ""
    return words + place


def _arrow(axes: Axes, x: float, y: float) -> float:
    """Draw an arrow to the next card; return where that begins."""
    start, end = x + CARD, x + CARD + GAP
    axes.annotate("", (end, y + CARD_HEIGHT / 2), (start, y + CARD_HEIGHT / 2),
                  arrowprops={"arrowstyle": "-|>", "color": FAINT, "lw": 1.4})  # fmt: skip
    return end


def _card(
    axes: Axes, x: float, y: float, title: str, words: str, header: Header | None, stage: Stage | None, ink: str = INK
) -> None:
    """Draw a card: what it is, what decided, and the header below, with what changed standing out."""
    from matplotlib.patches import FancyBboxPatch

    changed = stage is not None and stage.before != stage.after
    look = "round,pad=0,rounding_size=0.06"
    edge = CHANGED if changed else ink if ink != INK else "#c4ccd4"
    weight = 1.8 if changed else 1.0
    axes.add_patch(FancyBboxPatch((x, y), CARD, CARD_HEIGHT, boxstyle=look, facecolor=PAPER, edgecolor=edge, lw=weight))
    axes.text(x + 0.1, y + 0.2, title, fontsize=9.5, fontweight="bold", color=ink, va="center")
    lines = textwrap.wrap(words, 38)
    lines = lines if len(lines) <= 3 else [*lines[:2], f"{lines[2][:36]}…"]
    for at, line in enumerate(lines):
        axes.text(x + 0.1, y + 0.4 + 0.155 * at, line, fontsize=7.5, color=FAINT, va="center")
    if header is None:
        return
    before = stage.before if stage is not None else header
    for at, field in enumerate(("source", "destination")):
        value, was = getattr(header, field), getattr(before, field)
        port = f" {header.service}" if field == "destination" else ""
        stands_out = value != was or (bool(port) and header.service != before.service)
        axes.text(
            x + 0.1, y + 0.94 + 0.18 * at, f"{'from' if at == 0 else 'to'} {value}{port}", fontsize=8.5, va="center",
            color=CHANGED if stands_out else INK, fontweight="bold" if stands_out else "normal",
        )  # fmt: skip


def _closing(axes: Axes, walk: Walk, height: float) -> None:
    """Write how it ends, and what comes back."""
    ink, end = INK if walk.arrives else STOPPED, walk.outcome
    top = height - _closing_height(walk)
    axes.text(MARGIN, top + 0.38, end, fontsize=10.5, fontweight="bold", color=ink, va="center")
    for at, (words, alarming) in enumerate(reply_words(walk)):
        color = STOPPED if alarming else INK
        said = top + 0.66 + 0.22 * at
        axes.text(MARGIN, said, f"{words[0].upper()}{words[1:]}.", fontsize=9.5, color=color, va="center")
