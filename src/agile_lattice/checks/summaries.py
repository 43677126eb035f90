"""Checks of summaries: routes that stand for several others."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Found, check
from agile_lattice.checks.routes import LAN
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.packets.spans import Spans, merged, minus


@check(
    "summary-too-wide",
    "warning",
    "What a summary covers beyond its members is sent along too; if the far side has no route for it, it comes back"
    " by the default route, round and round.",
    wrong=LAN + "[{to: 10.41.0.0/22, via: 10.40.10.2, summarises: [10.41.0.0/24, 10.41.1.0/24, 10.41.2.0/24]}]",
    right=LAN + "[{to: 10.41.0.0/23, via: 10.40.10.2, summarises: [10.41.0.0/24, 10.41.1.0/24]}]",
    across=True,
)
def summary_too_wide(design: Design) -> Iterator[Found]:
    """Find summaries that cover more than what they stand for, unless the far side discards the rest."""
    for device, route, subject in design.routes:
        if not route.members or route.discard:
            continue
        rest = minus(((route.to.first, route.to.last),), merged((each.first, each.last) for each in route.members))
        hop = design.topology.table(device.name, route.to.family, route.instance).look_up(route.to.first)
        neighbour = design.topology.neighbour(device.name, hop) if hop is not None else None
        if not rest or (neighbour is not None and _discarded(design, neighbour, route.to.family, rest)):
            continue
        uncovered = [str(each) for each in AddressSet(route.to.family, rest).prefixes()]
        more = f" and {len(uncovered) - 4} more" if len(uncovered) > 4 else ""
        yield Found(
            route.place.at("to"), subject,
            f"{route.to} also covers {', '.join(uncovered[:4])}{more}, which it does not stand for",
            f"Add `{{to: {route.to}, discard: true, distance: 250}}` on {neighbour or 'the far side'},"
            " or write several routes.",
        )  # fmt: skip


def _discarded(design: Design, neighbour: str, family: int, rest: Spans) -> bool:
    """Tell whether what nobody has ends where somebody along the way discards it, and does not come back."""
    ways = [design.topology.way(neighbour, Address(family, first)) for first, _ in rest]
    return all(way.end in ("discarded", "own", "delivered") for way in ways)


@check(
    "summary-misses-member",
    "error",
    "A member that the summary does not cover is not routed by it.",
    wrong=LAN + "[{to: 10.41.0.0/23, via: 10.40.10.2, summarises: [10.41.0.0/23, 10.41.2.0/24]}]",
    right=LAN + "[{to: 10.41.0.0/23, via: 10.40.10.2, summarises: [10.41.0.0/24, 10.41.1.0/24]}]",
)
def summary_misses_member(design: Design) -> Iterator[Found]:
    """Find members of a summary that lie outside it."""
    for _, route, subject in design.routes:
        outside = [each for each in route.members if not route.to.contains(each)]
        if outside:
            yield Found(
                route.place.at("summarises"), subject, f"{outside[0]} is not in {route.to}",
                "Widen the summary, or give that member a route of its own.",
            )  # fmt: skip
