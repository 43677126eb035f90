"""Changes after which whoever manages a device would not reach it, or its answers would go another way.

Whatever a change is, it is judged by what it does: the forwarding tables before and after it are laid over one another
for everybody who manages the device, and packets from them to it are followed on both.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import DESTINATION, SOURCE
from agile_lattice.behaviour.rule_list import Budget
from agile_lattice.behaviour.sending import sendable
from agile_lattice.behaviour.set_pipeline import treated_apart
from agile_lattice.behaviour.tables import Table
from agile_lattice.compare.applying import closed
from agile_lattice.compare.differences import Gap
from agile_lattice.compare.withholding import Held
from agile_lattice.compare.witnesses import FAMILIES, Sides
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import passages
from agile_lattice.packets.boxes import Box, Undecided, overlap
from agile_lattice.packets.spans import Spans, meet, merged

FORWARDING = ("interfaces", "dial-up", "routes", "settings", "answers", "bridging")
MOST_WORK = 60_000  # boxes that are looked at for one change
DIVERTS = "it would divert or cut traffic between the device and where it is managed from"


def diverting(intent: Device, there: Device, gaps: Sequence[Gap], held: Collection[int]) -> dict[int, Held]:
    """Find the differences whose closing would divert or cut what passes between a device and those who manage it.

    Args:
        intent: The device as it should be.
        there: The device as it is.
        gaps: All differences.
        held: Those that are withheld anyhow.

    Returns:
        By the index of the difference.
    """
    found: dict[int, Held] = {}
    while True:
        rest = [at for at in range(len(gaps)) if at not in held and at not in found]
        if not _diverts(intent, there, closed(intent, there, [gaps[at] for at in rest])):
            return found
        near = [at for at in rest if gaps[at].difference.section in FORWARDING]
        alone = [at for at in near if _diverts(intent, there, closed(intent, there, [gaps[at]]))]
        if not near:
            return found  # by rules of access, which are judged one by one
        found |= {at: Held.of(gaps[at].difference, DIVERTS) for at in alone or near}


def _diverts(intent: Device, there: Device, after: Device) -> bool:
    sources = _sources((intent, there))
    for family, spans in sources.items():
        if not spans:
            continue
        instances = {"", *(each.instance for each in there.interfaces)}
        for instance in instances:
            for first in (True, False):
                now, then = (Table(with_learned(each, first), family, instance) for each in (there, after))
                if any(meet(destinations.spans, spans) for _, _, destinations in now.partings(then)):
                    return True
        if _cuts(there, after, family, spans):
            return True
    return False


def _sources(devices: Iterable[Device]) -> dict[int, Spans]:
    """Return from where a device is managed, as far as that is said by addresses."""
    named = [each.source for device in devices for each in device.access if each.source and not each.deny]
    return {
        family: merged(span for each in named if each.family == family for span in each.spans) for family in FAMILIES
    }


def _cuts(there: Device, after: Device, family: int, sources: Spans) -> bool:
    """Tell whether packets from some sources to the device itself that come in now would not come in then."""
    sides = Sides(there, after)
    now, _ = pair = sides.treating(family)
    budget = Budget(MOST_WORK)
    try:
        coming = [
            part
            for box in _to_itself(sides, there, family, sources)
            for part, treatment in now.parts(box, budget)
            if treatment.end is not None
        ]
        return any(True for _ in treated_apart(pair, coming, budget))
    except Undecided:
        return True


def _to_itself(sides: Sides, there: Device, family: int, sources: Spans) -> Iterator[Box]:
    space, everything = sides.space(family), sendable(sides.treating(family)[:1])
    own = _managed_at(there, family, sources)
    if everything is None or not own:
        return
    passing = (space.of_rule(rule) for rule in passages(there.access) if rule.verdict == "pass" and space.speaks(rule))
    # Of many rules for one service that part the sources among them there is one box.
    for box in dict.fromkeys(with_spans(with_spans(each, SOURCE, sources), DESTINATION, own) for each in passing):
        common = overlap(box, everything) if all(box) else None
        if common is not None:
            yield common


def _managed_at(there: Device, family: int, sources: Spans) -> Spans:
    """Return the addresses of a device by which it may be managed: loopbacks, and those that face a source."""
    there = with_learned(there)
    table = Table(there, family)
    hops = [hop for first, last in sources for _, _, hop in table.within(first, last) if hop is not None]
    facing = {way.interface for hop in hops for way in hop.way.each}
    ports = (one for one in there.interfaces if one.enabled and (one.loopback or one.name in facing))
    return merged((own.value, own.value) for one in ports for own in one.addresses if own.family == family)
