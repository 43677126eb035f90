"""Devices by sections as a picture: what is as the intent says, what differs, and how much that matters.

Of many devices those that look the same have one row, and the rarest rows are one: it can be read, however many there
are.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from agile_lattice.compare.differences import Comparison, Effect
from agile_lattice.intent.model import SECTIONS

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH, HEIGHT, LEFT, ABOVE = 1.05, 0.26, 2.2, 1.0  # inches
INK, FAINT, PAPER = "#22303c", "#6b7885", "#ffffff"
NOT_UNDERSTOOD = "not understood"
SAME, UNSEEN = "#dbe7f0", "#ffffff"
MOST_ROWS, LONGEST = 60, 26  # rows of a picture, and characters in front of one
Cell = tuple[str, str, str]
Cells = tuple[Cell, ...]
# From the heaviest to the lightest; told apart by lightness, and by the count in the cell.
COLOURS: dict[Effect, str] = {
    "changes-traffic": "#a8480a", "may-change-traffic": "#d9730d",
    "description-only": "#f7d9a8", "no-effect": "#a9c8de",
}  # fmt: skip
WORDS = {
    "as the intent says": SAME, "changes traffic": COLOURS["changes-traffic"],
    "may change traffic": COLOURS["may-change-traffic"],
    "description only": COLOURS["description-only"], "no effect": COLOURS["no-effect"], "not compared": UNSEEN,
}  # fmt: skip


def sections_figure(comparisons: Sequence[Comparison]) -> Figure:
    """Return a figure of devices by sections, as large as it needs."""
    from matplotlib.figure import Figure

    columns = _columns(comparisons)
    width = max(LEFT + WIDTH * len(columns) + 0.3, 8.5)
    height = ABOVE + HEIGHT * len(_rows(comparisons, columns)) + 0.3
    figure = Figure(figsize=(width, height), facecolor="white")
    axes = figure.add_axes((0, 0, 1, 1))
    draw_sections(axes, comparisons)
    axes.set(xlim=(-LEFT, width - LEFT))
    return figure


def draw_sections(axes: Axes, comparisons: Sequence[Comparison]) -> None:
    """Draw devices by sections, in inches: in each cell the number of differences, coloured by the heaviest."""
    from matplotlib.patches import Rectangle

    columns = _columns(comparisons)
    for at, name in enumerate(columns):
        axes.text(WIDTH * (at + 0.46), -0.12, name, fontsize=8, color=INK, ha="center", va="center")
    for at, (words, colour) in enumerate(WORDS.items()):
        x = -LEFT + 0.3 + 1.37 * at
        axes.add_patch(Rectangle((x, -0.75), 0.16, 0.16, facecolor=colour, edgecolor=FAINT, lw=0.4))
        axes.text(x + 0.22, -0.67, words, fontsize=7.5, color=INK, va="center")
    rows = _rows(comparisons, columns)
    for row, (name, cells) in enumerate(rows):
        axes.text(-0.12, HEIGHT * (row + 0.46), name, fontsize=8, color=INK, ha="right", va="center")
        for at, (colour, words, ink) in enumerate(cells):
            corner = (WIDTH * at, HEIGHT * row)
            axes.add_patch(Rectangle(corner, WIDTH * 0.95, HEIGHT * 0.9, facecolor=colour, edgecolor=FAINT, lw=0.3))
            axes.text(corner[0] + WIDTH * 0.475, corner[1] + HEIGHT * 0.46, words, fontsize=8, color=ink,
                      ha="center", va="center")  # fmt: skip
    axes.set(xlim=(-LEFT, WIDTH * len(columns) + 0.3), ylim=(HEIGHT * len(rows) + 0.3, -ABOVE), aspect="equal")
    axes.axis("off")


def _rows(comparisons: Sequence[Comparison], columns: Sequence[str]) -> list[tuple[str, Cells]]:
    """Return the rows: of few devices one for each; of many one for all that look the same, the heaviest first."""
    looks = [(one.device, tuple(_cell(one, column) for column in columns)) for one in comparisons]
    if len(looks) <= MOST_ROWS:
        return [(_short(name), cells) for name, cells in looks]
    alike: dict[Cells, list[str]] = {}
    for name, cells in looks:
        alike.setdefault(cells, []).append(name)
    order = sorted(alike.items(), key=lambda each: (min(map(_rank, each[0])), -len(each[1])))
    rows = [(_several(names), cells) for cells, names in order]
    if len(rows) <= MOST_ROWS:
        return rows
    shown, rest = order[: MOST_ROWS - 1], order[MOST_ROWS - 1 :]
    heaviest = tuple(min((cells[at] for cells, _ in rest), key=_rank) for at in range(len(columns)))
    others = tuple((colour, "", ink) for colour, _, ink in heaviest)  # they do not have the same number
    return [*rows[: len(shown)], (f"{sum(len(names) for _, names in rest)} others", others)]


def _rank(cell: Cell) -> int:
    """Return how heavy a cell is, 0 for the heaviest."""
    return [*COLOURS.values(), UNSEEN, SAME].index(cell[0])


def _several(names: Sequence[str]) -> str:
    more = f" and {len(names) - 1} more" if len(names) > 1 else ""
    return _short(names[0], more)


def _short(name: str, more: str = "") -> str:
    room = LONGEST - len(more)
    return (name if len(name) <= room else f"{name[: room - 1]}…") + more


def _columns(comparisons: Sequence[Comparison]) -> list[str]:
    """Return the sections that some device has, or was not compared in; and one for what was not understood."""
    found = {each.section for one in comparisons for each in one.differences}
    found |= {section for one in comparisons for section in one.unseen}
    always = {"interfaces", "routes", "translations"}
    sections = [section for section in SECTIONS if section in found | always]
    return [*sections, *([NOT_UNDERSTOOD] if any(one.leftovers for one in comparisons) else [])]


def _cell(one: Comparison, column: str) -> Cell:
    """Return the colour of a cell, what stands in it, and the colour of that."""
    if not one.captured:
        return UNSEEN, "?", FAINT
    if column == NOT_UNDERSTOOD:
        count = len(one.leftovers)
        return (COLOURS["may-change-traffic"], str(count), PAPER) if count else (SAME, "", INK)
    if column in one.unseen:
        return UNSEEN, "?", FAINT
    effects = [each.effect for each in one.differences if each.section == column]
    heaviest = next((effect for effect in COLOURS if effect in effects), None)
    if heaviest is None:
        return SAME, "", INK
    return COLOURS[heaviest], str(len(effects)), PAPER if heaviest in ("changes-traffic", "may-change-traffic") else INK
