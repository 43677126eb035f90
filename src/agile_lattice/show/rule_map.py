"""Lists of rules as a picture: which of them take packets from which.

Each list is a triangle: a rule in each row, with its name at the end, and a cell for each that comes before it; up the
column of a cell stands the name of that one. A cell is dark where an earlier rule has a part in taking all packets of a
later one, and light where it takes some.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from agile_lattice.behaviour.shadowing import Ordered, Taking, taking
from agile_lattice.show.walking import NAMES

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

CELL, LEFT, ABOVE, NAME = 0.27, 0.3, 0.75, 2.6  # inches
MOST = 40  # rules in a triangle
INK, FAINT, ALL, SOME, NONE = "#22303c", "#6b7885", "#a8480a", "#f2b45c", "#f1f3f5"


def rules_figure(lists: Sequence[Ordered], title: str) -> Figure:
    """Return a figure of lists of rules, one triangle below the other."""
    from matplotlib.figure import Figure

    shown = [_shown(each) for each in lists]
    heights = [ABOVE + CELL * len(positions) + 0.2 for positions, _ in shown]
    width = max([6.0, *(LEFT + CELL * len(positions) + NAME for positions, _ in shown)])
    figure = Figure(figsize=(width, sum(heights) + 0.9), facecolor="white")
    figure.text(
        0.3 / width, 1 - 0.3 / figure.get_figheight(), title, fontsize=14, fontweight="bold", color=INK, va="top"
    )
    below = figure.get_figheight() - 0.6
    for each, height in zip(lists, heights, strict=True):
        below -= height
        size = (0, below / figure.get_figheight(), 1, height / figure.get_figheight())
        axes = figure.add_axes(size)
        draw_rules(axes, each)
        axes.set(xlim=(-LEFT, width - LEFT), ylim=(height - ABOVE, -ABOVE))
    return figure


def draw_rules(axes: Axes, rules: Ordered) -> None:
    """Draw which rules of a list take packets from which, in inches.

    Where there are more than fit, only rules are drawn that take from another one, or lose to one.
    """
    from matplotlib.patches import Rectangle

    positions, found = _shown(rules)
    by_pair = {(each.later, each.earlier): each for each in found}
    left_out = len(rules.members) - len(positions)
    words = f"{NAMES[rules.part]}, IPv{rules.space.family}"
    axes.text(0, -0.5, words, fontsize=10, fontweight="bold", color=INK, va="center")
    note = "dark: has a part in taking all its packets; light: takes some" if found else "none takes any from another"
    more = f"; {left_out} rules that take and lose nothing are left out" if left_out else ""
    if left_out and len(positions) == MOST:
        more = f"; the first {MOST} rules that take or lose any, of {len(rules.members)} in all"
    axes.text(0, -0.26, note + more, fontsize=7.5, color=FAINT, va="center")
    for row, later in enumerate(positions):
        axes.text(CELL * row + 0.06, CELL * (row + 0.46), _name(rules, later), fontsize=8, color=INK, va="center")
        for column, earlier in enumerate(positions[:row]):
            taken = by_pair.get((later, earlier))
            colour = NONE if taken is None else ALL if taken.all else SOME
            axes.add_patch(Rectangle((CELL * column, CELL * row), CELL * 0.92, CELL * 0.92, facecolor=colour, lw=0))
    axes.set(xlim=(-LEFT, CELL * len(positions) + NAME), ylim=(CELL * len(positions), -ABOVE), aspect="equal")
    axes.axis("off")


def _shown(rules: Ordered) -> tuple[list[int], list[Taking]]:
    """Return the positions of the rules that are drawn, and what takes from what."""
    found = taking(rules)
    if len(rules.members) <= MOST:
        return [*range(len(rules.members))], found
    involved = sorted({at for each in found for at in (each.earlier, each.later)})
    kept = involved[:MOST]
    return kept, [each for each in found if each.later in kept and each.earlier in kept]


def _name(rules: Ordered, at: int) -> str:
    one = rules.members[at]
    name = (
        one.owner.name or f"line {one.rule.place.line}" if one.rule.place.line else one.owner.name or f"rule {at + 1}"
    )
    return name if len(name) <= 30 else f"{name[:29]}…"
