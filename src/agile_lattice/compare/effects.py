"""What a difference means to packets: shown by one treated differently, proven to mean nothing, or not known."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import get_args

from msgspec.structs import replace

from agile_lattice.behaviour.tables import Table
from agile_lattice.compare.applying import closed
from agile_lattice.compare.differences import Difference, Gap
from agile_lattice.compare.replies import reply_dropped
from agile_lattice.compare.search_space import can_be_proven, lets_all_through, questions_of
from agile_lattice.compare.witnesses import Sides, Walks
from agile_lattice.dialects.reading.absent import Absent
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.translations import Translation

RULES = (Route, Permit, Access, *get_args(Translation))
PROVEN = "proven for every packet"
BESIDE = "not decided: packets it could affect are treated differently, possibly for another reason"
WHILE_UP = f"{PROVEN}, while all interfaces are up"


def judged(sides: Sides, gaps: Iterable[Gap]) -> Iterator[Gap]:
    """Yield the differences, each with what is known of its effect; what no packet feels only if the intent says it.

    Args:
        sides: The device as it should be and as it is.
        gaps: All that differs.
    """
    for gap in gaps:
        one = _judged(sides, gap)
        # The order of addresses is no news where so much is unknown that nobody can tell what it does.
        silent = one.effect == "no-effect" or (
            one.change == "moved" and one.effect == "may-change-traffic" and sides.unknown.doubts
        )
        if not (gap.implied and silent):
            yield replace(gap, difference=one)


def _judged(sides: Sides, gap: Gap) -> Difference:
    one = gap.difference
    if one.effect == "description-only" or (one.effect == "no-effect" and not sides.unknown.doubts):
        return one
    if isinstance(gap.found, Absent):
        witness = reply_dropped(sides, gap.found)
        return replace(one, effect="changes-traffic", witness=witness) if witness is not None else one
    found = sides.ask(questions_of(sides, gap), lambda walks: _has_to_do_with(sides, gap, walks))
    if found.witness is not None:
        return replace(one, effect="changes-traffic", witness=found.witness)
    if found.unknown:
        return replace(one, effect="may-change-traffic", note=_joined(one.note, f"not decided: {found.unknown}"))
    if found.beside is not None and isinstance(gap.wanted or gap.found, Route) and not _leads_nowhere_else(sides, gap):
        return replace(one, effect="changes-traffic", witness=found.beside)
    if found.beside is not None and not isinstance(gap.wanted or gap.found, Route):
        return replace(one, effect="may-change-traffic", note=_joined(one.note, BESIDE))
    if one.effect == "may-change-traffic" and can_be_proven(sides, gap):
        return replace(one, effect="no-effect", note=WHILE_UP if one.section == "routes" else PROVEN)
    return one


def _has_to_do_with(sides: Sides, gap: Gap, walks: Walks) -> bool:
    """Tell whether what differs decides about a packet, on the side that has it; only rules and routes are asked."""
    if lets_all_through(sides, gap):
        # Access is asked about what is for the device itself, and has to be what decides.
        last = [found.visits[-1].stages[-1:] for found in walks if found is not None and found.visits]
        return gap.difference.section != "access" or any(each.stage == "access" for stages in last for each in stages)
    for one, found in zip((gap.wanted, gap.found), walks, strict=True):
        if one is None or found is None:
            continue
        if not isinstance(one, RULES):
            return gap.difference.change == "moved" or _changes(sides, gap, walks)
        if not one.place.line:
            return True
        if any(stage.place.is_line_of(one.place) for visit in found.visits for stage in visit.stages):
            return True
    return False


def _changes(sides: Sides, gap: Gap, walks: Walks) -> bool:
    """Tell whether a difference, were it the only one, would change what becomes of a packet, on either side."""
    found = next(each for each in walks if each is not None)
    arrives, header = found.visits[0].arrives, found.visits[0].before
    intent, there = sides.devices
    turned = replace(gap, wanted=gap.found, found=gap.wanted)
    pairs = (there, closed(intent, there, [gap])), (intent, closed(there, intent, [turned]))
    return any(Sides(one, other).treat_apart(arrives, header) for one, other in pairs)


def _leads_nowhere_else(sides: Sides, gap: Gap) -> bool:
    """Tell whether a route by itself changes nothing: on the device, were it mended, nor in the intent, were it so.

    One direction is not enough: of two routes that stand for one another, each alone could go.
    """
    intent, there = sides.devices
    route = gap.wanted if gap.wanted is not None else gap.found
    turned = replace(gap, wanted=gap.found, found=gap.wanted)
    pairs = (there, closed(intent, there, [gap])), (intent, closed(there, intent, [turned]))
    return not any(
        Table(one, route.to.family, route.instance).partings(Table(other, route.to.family, route.instance))
        for one, other in pairs
    )


def _joined(*notes: str) -> str:
    return "; ".join(each for each in notes if each)
