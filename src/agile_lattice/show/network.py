"""A network as a picture: a card for each device, a bar for each link that several share or that is a public side."""

from __future__ import annotations

from typing import TYPE_CHECKING

from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.translations import Dynamic, Intercept, Publish, Static, Translation, Twice
from agile_lattice.show.layout import CARD_WIDTH, Bar, Card, placed

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

LINE, HEAD, MOST_LINES, MOST_ARROWS = 0.17, 0.42, 14, 5  # inches, and lines on a card
INK, FAINT, PAPER = "#22303c", "#6b7885", "#ffffff"
# Told apart by lightness as well as by hue, and by the word beside it.
EXPOSURES = {"public": "#d9730d", "shared": "#8a6fb0", "own": "#0f5c8c", None: "#8a97a6"}


def network_figure(network: Network) -> Figure:
    """Return a figure of a network, as large as it needs."""
    from matplotlib.figure import Figure

    heights = {each.name: HEAD + LINE * len(_lines(each)) + 0.12 for each in network.devices}
    layout = placed(network, heights)
    width, height = max(layout.width, 9.0), layout.height + 0.75
    figure = Figure(figsize=(width, height), facecolor="white")
    draw_network(figure.add_axes((0, 0, 1, 1)), network)
    return figure


def draw_network(axes: Axes, network: Network) -> None:
    """Draw a network, in inches."""
    heights = {each.name: HEAD + LINE * len(_lines(each)) + 0.12 for each in network.devices}
    layout = placed(network, heights)
    shift = max(9.0 - layout.width, 0) / 2
    axes.set(xlim=(-shift, layout.width + shift), ylim=(layout.height + 0.25, -0.5))
    axes.axis("off")
    axes.text(-shift + 0.3, -0.25, network.name, fontsize=14, fontweight="bold", color=INK, va="center")
    for bar in layout.bars:
        _draw_bar(axes, network, bar)
    for card in layout.cards:
        _draw_card(axes, network, card)


def _draw_bar(axes: Axes, network: Network, bar: Bar) -> None:
    zones = dict.fromkeys(port.interface.zone for port in bar.link.ports if port.interface.zone)
    colour = EXPOSURES[next((network.exposure(zone) for zone in zones), None)]
    for x, edge in bar.drops:
        axes.plot([x, x], [bar.y, edge], color=colour, lw=1.2, zorder=1)
    if bar.joined is not None:
        x, before = bar.joined
        axes.plot([x, x], [before, bar.y], color=colour, lw=1.2, zorder=1)
    start, end = bar.ends
    axes.plot([start, end], [bar.y, bar.y], color=colour, lw=4, solid_capstyle="round", zorder=2)
    block = next((each.name for each in network.blocks for one in bar.link.subnets if each.prefix == one.network), "")
    words = ", ".join(str(each) for each in bar.link.subnets)
    beside = ", ".join([*zones, *([f"block {block}"] if block else [])])
    label = f"{words}   {beside}" if beside else words
    paper = {"facecolor": PAPER, "edgecolor": "none", "pad": 0.6}
    middle = (start + end) / 2
    axes.text(middle, bar.y - 0.12, label, fontsize=8, color=INK, ha="center", va="center", zorder=3, bbox=paper)


def _draw_card(axes: Axes, network: Network, card: Card) -> None:
    from matplotlib.patches import FancyBboxPatch

    look = "round,pad=0,rounding_size=0.07"
    axes.add_patch(
        FancyBboxPatch(
            (card.x, card.y), CARD_WIDTH, card.height, boxstyle=look, facecolor=PAPER, edgecolor=INK, lw=1.2, zorder=4
        )
    )
    title = _cut(card.device.name, 24)
    axes.text(card.x + 0.12, card.y + 0.21, title, fontsize=10.5, fontweight="bold", color=INK, va="center", zorder=5)
    for at, (name, words, zone) in enumerate(_lines(card.device)):
        y = card.y + HEAD + LINE * (at + 0.5) - 0.02
        if zone is not None:
            axes.plot([card.x + 0.14], [y], marker="s", ms=4.5, color=EXPOSURES[network.exposure(zone)], zorder=5)
        axes.text(card.x + 0.24, y, name, fontsize=7, color=INK, va="center", zorder=5)
        indent, colour = (0.82, INK) if name or zone is not None else (0.24, FAINT)
        axes.text(card.x + indent, y, words, fontsize=7, color=colour, va="center", zorder=5)


def _lines(device: Device) -> list[tuple[str, str, str | None]]:
    """Return what a card says: each address with its interface and its zone; and what is translated, without one."""
    found: list[tuple[str, str, str | None]] = []
    for one in device.interfaces:
        for at, own in enumerate(one.addresses):
            zone = f"  {one.zone}" if one.zone and len(f"{own}{one.zone}") < 32 else ""
            found.append((_cut(one.name, 10) if at == 0 else "", f"{own}{zone}", one.zone))
    if len(found) > MOST_LINES:
        found = [*found[: MOST_LINES - 1], ("", f"and {len(found) - MOST_LINES + 1} more addresses", None)]
    return [*found, *(("", line, None) for line in _translated(device))]


def _translated(device: Device) -> list[str]:
    """Return what becomes of addresses, an arrow for each translation; exemptions change nothing, and are counted."""
    arrows = [arrow for one in device.translations if (arrow := _arrow(one))]
    exempt = len(device.translations) - len(arrows)
    if len(arrows) > MOST_ARROWS:
        arrows = [*arrows[: MOST_ARROWS - 1], f"and {len(arrows) - MOST_ARROWS + 1} more translations"]
    return [_cut(each, 38) for each in arrows] + ([f"{exempt} exempt"] if exempt else [])


def _arrow(one: Translation) -> str:
    if isinstance(one, Publish):
        services = ", ".join(map(str, one.services)) if one.services is not None else ""
        external = f"own, of the {one.external}" if isinstance(one.external, str) else one.external
        return f"{external} {services} → {one.internal}".replace("  ", " ")
    if isinstance(one, Static):
        short = one.external.is_host
        ends = (one.external.address, one.internal.address) if short else (one.external, one.internal)
        return f"{ends[0]} ↔ {ends[1]}"
    if isinstance(one, Dynamic):
        sources = one.source if one.source is not None else ", ".join(one.arrives or ()) or "all"
        return f"{sources} → {one.pool if one.pool is not None else ', '.join(one.leaves or ()) or 'the egress'}"
    if isinstance(one, Intercept):
        services = ", ".join(map(str, one.services)) if one.services is not None else "all"
        return f"{services} → itself" + (f", port {one.port}" if one.port is not None else "")
    if isinstance(one, Twice):
        return f"{one.destination} → {one.new_destination}, both ends"
    return ""


def _cut(words: str, most: int) -> str:
    return words if len(words) <= most else f"{words[: most - 1]}…"
