"""Differences that are proven to be none to any packet."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from agile_lattice.behaviour.proving import Part, prove
from agile_lattice.behaviour.tables import Table
from agile_lattice.compare.closing import closed
from agile_lattice.compare.differences import Difference, Gap
from agile_lattice.intent.model import Device, Section
from agile_lattice.intent.routes import Route

# Where what a section says is felt.
FELT: dict[Section, tuple[Part, ...]] = {
    "routes": ("way",),
    "translations": ("arrival", "departure"),
    "permits": ("permits",),
    "access": ("access",),
}
MOST_WORK = 400_000  # routes that may be looked at in all, where routes are judged one by one
PROVEN = "proven: no packet can tell"
WHILE_UP = f"{PROVEN}, while all interfaces are up"


def settled(intent: Device, there: Device, gaps: Sequence[Gap], differences: Sequence[Difference]) -> list[Difference]:
    """Return differences; those that are proven to do nothing to any packet are cosmetic.

    Args:
        intent: The device as it should be.
        there: The device as it is, with what the intent says of sections that no text speaks of.
        gaps: All that differs.
        differences: The same, each with what is known of its weight.
    """
    if not any(each.weight == "open" and each.section in FELT for each in differences):
        return list(differences)
    proof = prove(intent, there)
    apart = {each.part for each in proof.partings} | {words.partition(":")[0] for words in proof.undecided}
    work = MOST_WORK
    found = []
    for gap, one in zip(gaps, differences, strict=True):
        proven = False
        if one.weight == "open" and one.section in FELT:
            proven = apart.isdisjoint(FELT[one.section])
            if not proven and one.section == "routes" and work > 0:
                work -= 2 * (len(intent.routes) + len(there.routes))
                proven = _leads_nowhere_else(intent, there, gap)
        note = WHILE_UP if one.section == "routes" else PROVEN
        found.append(replace(one, weight="cosmetic", note=note) if proven else one)
    return found


def _leads_nowhere_else(intent: Device, there: Device, gap: Gap) -> bool:
    """Tell whether a route by itself changes nothing: on the device, were it mended, nor in the intent, were it so.

    One direction is not enough: of two routes that stand for one another, each alone could go.
    """
    route = gap.wanted if gap.wanted is not None else gap.found
    assert isinstance(route, Route)
    turned = Gap(gap.difference, gap.found, gap.wanted)
    pairs = (there, closed(intent, there, [gap])), (intent, closed(there, intent, [turned]))
    return not any(
        Table(one, route.to.family, route.instance).partings(Table(other, route.to.family, route.instance))
        for one, other in pairs
    )
