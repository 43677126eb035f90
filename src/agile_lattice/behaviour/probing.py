"""Test plans: packets that would show every rule working, and what has to become of each.

For every rule one packet that it decides and no earlier one, and one just outside it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import DESTINATION, SOURCE
from agile_lattice.behaviour.pipeline import End, Stage, in_words
from agile_lattice.behaviour.sample_packets import Candidate, packets_of, sender, towards
from agile_lattice.behaviour.shadowing import Member, Ordered, ordered
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.intent.addresses import BITS, Address
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import named_families
from agile_lattice.intent.translations import described

MOST_TRIES = 60


class Probe(msgspec.Struct, frozen=True):
    """A packet to send, and what has to become of it.

    Attributes:
        device, rule, place: The rule that it is for.
        part: The stage that the rule is of.
        hits: Whether the rule decides about it; else it is just outside, and something else does.
        arrives, header: Where to send it in, and what it says.
        end, reason: What has to become of it, as in `walking.Walk`.
        leaves, after: Where it leaves the last device, and what it says then; empty and `None` if it does not.
        obstacle: What is in the way of it or of its reply all the same; empty if nothing is.
    """

    device: str
    rule: str
    place: Place
    part: str
    hits: bool
    arrives: str
    header: Header
    end: End
    reason: str
    leaves: str = ""
    after: Header | None = None
    obstacle: str = ""

    @property
    def outcome(self) -> str:
        """What has to become of it in a sentence, without a full stop."""
        return in_words(self.end, self.reason) + (f", but {self.obstacle}" if self.obstacle else "")


class Untested(msgspec.Struct, frozen=True):
    """A rule for which there is no packet, and why."""

    device: str
    rule: str
    place: Place
    why: str


class ProbePlan(msgspec.Struct, frozen=True):
    """What to send, and for which rules there is nothing to send."""

    probes: tuple[Probe, ...]
    untested: tuple[Untested, ...]


def plan_probes(network: Network, devices: Sequence[Device]) -> ProbePlan:
    """Work out the probes for the rules of some devices of a network, in their order."""
    topology = Topology(network)
    probes: list[Probe] = []
    untested: list[Untested] = []
    for each in ordered(devices, examples=True):
        for at, member in enumerate(each.members):
            hit = None if each.shadows[at].takers else _hit(topology, each, at)
            if hit is None and not _speaks(each.device, each.space.family) and not named_families(member.rule):
                continue  # it would be for this family too, if there were any packets of it
            if hit is None:
                why = "no packet reaches it" if each.shadows[at].takers else "no packet was found that comes to it"
                untested.append(Untested(each.device.name, _subject(member), member.rule.place, why))
                continue
            probes.append(_probe(topology, each, member, hit, True))
            miss = _miss(topology, each, member, hit)
            if miss is not None:
                probes.append(_probe(topology, each, member, miss, False))
    return ProbePlan(tuple(probes), tuple(untested))


def _speaks(device: Device, family: int) -> bool:
    return any(own.family == family for one in device.interfaces for own in one.addresses)


def _probe(topology: Topology, of: Ordered, member: Member, candidate: Candidate, hits: bool) -> Probe:
    arrives, header = candidate
    found = walk(topology, header, of.device.name, arrives)
    last = found.visits[-1]
    leaves, after = (last.leaves, last.after) if found.arrives and last.leaves else ("", None)
    subject, place = _subject(member), member.rule.place
    return Probe(
        of.device.name, subject, place, of.part, hits, arrives, header, found.end, found.reason, leaves, after,
        found.obstacle,
    )  # fmt: skip


def _subject(member: Member) -> str:
    owner = member.owner
    if isinstance(owner, Permit | Access):
        return f"{'permit' if isinstance(owner, Permit) else 'management'} {owner.name}".rstrip()
    return described(owner)


def _hit(topology: Topology, of: Ordered, at: int) -> Candidate | None:
    """Return a packet that a rule decides."""
    member, some = of.members[at], of.shadows[at].some
    boxes = [box for box in (member.box, some) if box is not None and all(box)]
    found = (each for box in boxes for each in packets_of(of.space, topology, of.device.name, box))
    near = (each for each in islice(found, MOST_TRIES) if _comes(topology, of.device, each))
    return next((each for each in near if _decides(topology, of, member, each)), None)


def _comes(topology: Topology, device: Device, candidate: Candidate) -> bool:
    """Tell whether a packet comes to a device, and is taken for what it is.

    What is for a neighbour on its sender's own link does not come; of what has a source that the device itself has,
    systems think little, and drop it.
    """
    arrives, header = candidate
    port = device.interface(arrives)
    if port is None or header.source == header.destination or _has(topology, device, header.source):
        return False
    return port.subnet_of(header.destination) is None or _has(topology, device, header.destination)


def _has(topology: Topology, device: Device, address: Address) -> bool:
    """Tell whether a device has an address, or answers for it."""
    own = any(port.device.name == device.name for port in topology.neighbours.holders.get(address, ()))
    return own or any(address in each.addresses for each in topology.answers(device.name))


def _decides(topology: Topology, of: Ordered, member: Member, candidate: Candidate) -> bool:
    stage = _stage(walk(topology, candidate[1], of.device.name, candidate[0]), of.part)
    return stage is not None and stage.decided == _subject(member) and stage.place.same_as(member.rule.place)


def _stage(found: Walk, part: str) -> Stage | None:
    return next((each for each in found.visits[0].stages if each.stage == part), None)


def _miss(topology: Topology, of: Ordered, member: Member, hit: Candidate) -> Candidate | None:
    """Return a packet much like one that a rule decides, about which it does not."""
    near = (each for each in islice(_near(of, member, hit), MOST_TRIES) if _comes(topology, of.device, each))
    return next((each for each in near if not _decides(topology, of, member, each)), None)


def _near(of: Ordered, member: Member, hit: Candidate) -> Iterator[Candidate]:
    """Yield packets that differ from another in one thing that a rule says, the smallest difference first."""
    arrives, header = hit
    rule, box = member.rule, member.box
    if rule.ports is not None and header.port is not None:
        for number in _outside(rule.ports, header.port, 65535):
            yield arrives, replace(header, port=number)
    if rule.protocol in ("tcp", "udp"):
        yield arrives, replace(header, protocol="udp" if rule.protocol == "tcp" else "tcp")
    top = (1 << BITS[of.space.family]) - 1
    for field, dimension in (("source", SOURCE), ("destination", DESTINATION)):
        for value in _outside(box[dimension], getattr(header, field).value, top):
            yield arrives, replace(header, **{field: Address(of.space.family, value)})
    ports = [each for each in of.device.interfaces if each.enabled and not each.loopback]
    for each in ports if rule.arrives is not None else ():
        if each.name != arrives:
            yield each.name, replace(header, source=sender(each, header.destination)) if rule.source is None else header
    for port in ports:  # elsewhere, if the rule says where it goes out
        for own in port.addresses:
            if own.family == of.space.family and port.name != arrives and not own.is_host:
                yield arrives, replace(header, destination=Address(own.family, min(own.first + 9, own.last)))
    yield from towards(header.destination, ports)


def _outside(spans: Sequence[tuple[int, int]], near: int, top: int) -> Iterator[int]:
    """Yield numbers just outside the span of a set that is nearest to one of them."""
    first, last = min(spans, key=lambda span: 0 if span[0] <= near <= span[1] else min(abs(near - end) for end in span))
    if last < top:
        yield last + 1
    if first > 0:
        yield first - 1
