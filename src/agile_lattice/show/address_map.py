"""The address plan as a picture: a strip of cells, one for each address or each run of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from agile_lattice.intent.addresses import spell_value
from agile_lattice.plan.usage import Plan, rows

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# An IPv4 block is cut into at most 256 cells; IPv6 subnets are hardly filled anywhere, so a row tells enough.
MOST_CELLS = {4: 256, 6: 32}
COLUMNS = 32
CELL = 0.375  # inches
ABOVE = 1.1  # room for a title, in cells
# Told apart by lightness as well as by hue, and by the letter in the cell.
COLOURS = {
    "network": "#8a97a6", "broadcast": "#8a97a6", "gateway": "#3b4a5c", "interface": "#0f5c8c", "host": "#4f9bc9",
    "published": "#d9730d", "static": "#a8480a", "pool": "#f2b45c", "reserved": "#b9a3d6", "spare": "#f1f3f5",
}  # fmt: skip
DARK = {"gateway", "interface", "static"}
LETTERS = {
    "network": "N", "broadcast": "B", "gateway": "G", "interface": "I", "host": "H",
    "published": "P", "static": "S", "pool": "L", "reserved": "R", "spare": "",
}  # fmt: skip


def cells(plan: Plan) -> tuple[int, list[Counter[str]]]:
    """Cut a plan into cells of equal size, at most `MOST_CELLS`.

    Returns:
        The addresses in a cell, and for each cell how many of them are used for what (the first use of an
        address counts).
    """
    size = max((1 << plan.prefix.host_bits) // MOST_CELLS[plan.prefix.family], 1)
    counted: list[Counter[str]] = [Counter() for _ in range((1 << plan.prefix.host_bits) // size)]
    reached = plan.prefix.first
    for (first, last), use in rows(plan):
        first = max(first, reached)
        while first <= last:
            cell = (first - plan.prefix.first) // size
            end = min(last, plan.prefix.first + (cell + 1) * size - 1)
            kind = use.kind if use is not None else "spare"
            if kind == "spare" and end < last:
                # Whole cells of spare addresses need no walking through.
                whole = (last - plan.prefix.first + 1) // size
                for index in range(cell + 1, whole):
                    counted[index]["spare"] += size
                counted[cell]["spare"] += end - first + 1
                first = plan.prefix.first + max(whole, cell + 1) * size
                continue
            counted[cell][kind] += end - first + 1
            first = end + 1
        reached = max(reached, last + 1)
    return size, counted


def draw_strip(axes: Axes, plan: Plan) -> None:
    """Draw a plan: one cell for each address if there are few, one for each run of addresses above."""
    from matplotlib.collections import PatchCollection
    from matplotlib.patches import Rectangle

    size, counted = cells(plan)
    drawn: list[Rectangle] = []
    for index, uses in enumerate(counted):
        row, column = divmod(index, COLUMNS)
        used = Counter({kind: count for kind, count in uses.items() if kind != "spare"})
        kind = used.most_common(1)[0][0] if used else "spare"
        share = 1.0 if size == 1 else max(0.12, used.total() / size)
        drawn.append(Rectangle((column, -row - 1), 0.94, 0.94, facecolor=COLOURS["spare"], linewidth=0))
        if used:
            drawn.append(Rectangle((column, -row - 1), 0.94, 0.94 * share, facecolor=COLOURS[kind], linewidth=0))
        if used or column == 0:
            _label(axes, plan, index, size, kind)
    axes.add_collection(PatchCollection(drawn, match_original=True))
    axes.set_xlim(-0.05, COLUMNS)
    axes.set_ylim(-_rows(plan) - 0.05, ABOVE)
    axes.set_aspect("equal")
    axes.axis("off")
    each = "" if size == 1 else f", a cell is {_number(size)} addresses"
    axes.text(0, 0.3, f"{plan.prefix}  {plan.name}   {_number(plan.left)} left{each}", fontsize=9.5)


def _label(axes: Axes, plan: Plan, index: int, size: int, kind: str) -> None:
    row, column = divmod(index, COLUMNS)
    colour = "white" if size == 1 and kind in DARK else "#10161d"
    if size == 1:
        axes.text(
            column + 0.47, -row - 0.36, LETTERS[kind], ha="center", va="center", fontsize=9, weight="bold", color=colour
        )
    if plan.prefix.family == 4:
        octets = spell_value(4, plan.prefix.first + index * size).split(".")
        number = octets[3] if size == 1 else ".".join(octets[1:3])
        axes.text(column + 0.47, -row - 0.78, number, ha="center", va="center", fontsize=6, color=colour)


def _number(count: int) -> str:
    return str(count) if count < 10**6 else f"{count:.1e}"


def _rows(plan: Plan) -> int:
    return -(-min(1 << plan.prefix.host_bits, MOST_CELLS[plan.prefix.family]) // COLUMNS)


def strip_figure(plans: Sequence[Plan]) -> Figure:
    """Return a figure with a strip for each plan, and what the letters mean."""
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch

    heights = [_rows(plan) + ABOVE + 0.2 for plan in plans]
    height = CELL * sum(heights) + 0.6
    figure = Figure(figsize=(COLUMNS * CELL + 0.8, height), facecolor="white")
    edge = 0.4 / (COLUMNS * CELL + 0.8)
    grid = figure.add_gridspec(
        len(plans), 1, height_ratios=heights, hspace=0, left=edge, right=1 - edge, top=1 - 0.1 / height,
        bottom=0.5 / height,
    )  # fmt: skip
    for index, plan in enumerate(plans):
        draw_strip(figure.add_subplot(grid[index, 0], anchor="W"), plan)
    seen = {use.kind for plan in plans for use in plan.uses} | {"spare"}
    legend = [
        Patch(facecolor=COLOURS[kind], edgecolor="#8a97a6", linewidth=0.5, label=f"{LETTERS[kind]} {kind}".strip())
        for kind in COLOURS
        if kind in seen
    ]
    figure.legend(handles=legend, loc="lower left", ncols=len(legend), frameon=False, fontsize=8.5, handlelength=1.2)
    return figure
