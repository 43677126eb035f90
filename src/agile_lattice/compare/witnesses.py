"""Packets that show a difference: tried on both sides, and told with what becomes of them.

A packet proves that a difference matters; that none was found proves nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any

from msgspec.structs import replace

from agile_lattice.behaviour.candidates import Candidate, into, is_outside, packets_of, towards
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.differences import Difference, Gap, Witness
from agile_lattice.dialects.facts import AddressFact, AnswerFact
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Dynamic, Exempt, Publish, Static, Twice
from agile_lattice.packets.boxes import Box, difference, overlap

MOST_TRIES = 40  # packets for one difference
MOST_WORK = 400_000  # rules that may be asked in all


def with_witnesses(intent: Device, there: Device, gaps: Sequence[Gap]) -> list[Difference]:
    """Return the differences, those with a packet that shows them as consequential.

    Args:
        intent: The device as it should be.
        there: The device as it is.
        gaps: What differs.
    """
    sides = [Topology(Network("", (replace(each, name=intent.name),))) for each in (intent, there)]
    rules = 1 + sum(len(each.translations) + len(each.permits) for each in (intent, there))
    budget = MOST_WORK // rules
    found = []
    for gap in gaps:
        witness = None
        if gap.difference.weight == "open" and budget > 0:
            for arrives, header in islice(_candidates(intent, there, sides[0], gap), min(MOST_TRIES, budget)):
                budget -= 1
                witness = tried(sides, intent.name, arrives, header)
                if witness is not None:
                    break
        found.append(
            gap.difference if witness is None else replace(gap.difference, weight="consequential", witness=witness)
        )
    return found


def tried(sides: Sequence[Topology], name: str, arrives: str, header: Header) -> Witness | None:
    """Let a packet through a device on both sides; return it as a witness if that makes a difference."""
    if any(each.devices[name].interface(arrives) is None for each in sides):
        return None
    intent, there = (walk(each, header, name, arrives) for each in sides)
    if _outcome(intent) == _outcome(there):
        return None
    return Witness(arrives, header, _told(intent), _told(there))


def _outcome(found: Walk) -> object:
    """Return what becomes of a packet; of a pool any address is the same."""
    if not found.arrives:
        return "stops"
    visit = found.visits[-1]
    pool = next((each.pool for each in visit.stages if each.stage == "departure"), None)
    source = visit.after.source if pool is None or pool.is_single else pool
    to = found.reason if found.end == "handed on" else ""
    return found.end, visit.leaves, source, visit.after.destination, visit.after.port, to


def _told(found: Walk) -> str:
    visit = found.visits[-1]
    if not found.arrives or visit.before == visit.after:
        return f"{found.end}: {found.reason}"
    return f"{found.end} as {visit.after}: {found.reason}"


def _candidates(intent: Device, there: Device, topology: Topology, gap: Gap) -> Iterator[Candidate]:
    """Yield packets that could show a difference, the most ordinary first."""
    wanted, found = gap.wanted, gap.found
    one: Any = wanted if wanted is not None else found
    ports = [each for each in intent.interfaces if each.enabled and not each.loopback]
    ports.sort(key=is_outside)  # from inside first: that is where people look
    if isinstance(one, Exempt | Dynamic | Static | Publish | Twice | Permit):
        yield from _of_rules(intent, there, topology, wanted, found)
    elif isinstance(one, Route):
        for each in (wanted, found):
            if each is not None:
                yield from into(each.to, ports)
    elif isinstance(one, AddressFact | AnswerFact):
        here = [port for port in ports if port.name == one.interface]
        for each in (wanted, found):
            if each is not None:
                yield from towards(each.address.address, [*here, *ports])
                yield from into(each.address, ports)
    elif isinstance(one, Interface):
        for prefix in {*wanted.addresses, *found.addresses} if wanted and found else one.addresses:
            yield from towards(prefix.address, ports)
            yield from into(prefix, ports)


def _of_rules(intent: Device, there: Device, topology: Topology, wanted: object, found: object) -> Iterator[Candidate]:
    """Yield packets of what only one of two rules matches, of both, and of each."""
    ports = [*intent.interfaces, *(each for each in there.interfaces if not intent.interface(each.name))]
    for space in (Space(ports, family) for family in (4, 6) if ports):
        ours, theirs = ([] if each is None else _boxes(space, each) for each in (wanted, found))
        regions: list[Box] = []
        for box in ours:
            for other in theirs:
                regions += [*difference(box, other), *difference(other, box)]
                common = overlap(box, other)
                regions += [common] if common is not None else []
        for box in dict.fromkeys([*regions, *ours, *theirs]):
            yield from packets_of(space, topology, intent.name, box)


def _boxes(space: Space, one: Any) -> list[Box]:
    if isinstance(one, Permit):
        boxes = space.of_permit(one)
    else:
        boxes = [space.of_rule(rule) for rule in split([one]) if space.speaks(rule)]
    return [each for each in boxes if all(each)]  # one that names an interface which is not there matches nothing
