"""What a device does with whole sets of packets, exactly: the pipeline of `passing`, for boxes in place of packets.

A box of packets, as they come in, is cut into parts that are each treated alike: where they go, and what becomes of
their header. No packet is left out, and none is in two parts.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Sequence
from functools import cached_property

import msgspec

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.images import after, before, packets_apart, pulled_back, with_spans
from agile_lattice.behaviour.links import cut_off, wire
from agile_lattice.behaviour.matching import ARRIVES, DESTINATION, LEAVES, SOURCE, Space
from agile_lattice.behaviour.program_stage import Followed, ProgramStage
from agile_lattice.behaviour.rule_list import Budget, Decided, RuleList
from agile_lattice.behaviour.stage_lists import KEEP, Listed
from agile_lattice.behaviour.tables import Hop, Table, is_way_back, to_routers
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN, Unknown
from agile_lattice.packets.actions import Action
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Marked, Span, Spans, meet, merged, minus


class Treatment(msgspec.Struct, frozen=True):
    """What becomes of all packets of a box.

    Attributes:
        end: Where they go, as a value that is equal if it is the same place; `None` if they get nowhere.
        action: What becomes of their header.
        unknown: Why it is not known what becomes of them; empty if it is.
        if_so: What has to be so for that, which nobody knows; others of these packets may fare otherwise.
        by: What decided last, in words.
    """

    end: Hashable
    action: Action = KEEP
    unknown: str = ""
    if_so: str = ""
    by: str = ""


STOPPED = Treatment(None)
Part = tuple[Box, Treatment]


def _stopped(one: Decided) -> Treatment:
    """Return what becomes of packets that a stage does not let on, or of which that is not known."""
    if one.unsure:
        return Treatment(None, KEEP, one.unsure)
    return Treatment(None, if_so=_open(one.action), by=f"{one.line}")


def _open(action: Action) -> str:
    """Return what has to be so for what has been done to packets."""
    return action.if_so if isinstance(action, Followed) else ""


class _PastIt:
    """What goes over a link without the device.

    Args:
        ways: Sources, `None` for any, and destinations, which have no address in common.

    Attributes:
        index: The numbers of the ways, by their destinations.
        all: All destinations.
    """

    def __init__(self, ways: Sequence[tuple[Spans | None, Spans]]) -> None:
        self.ways = ways
        self.index = Marked((span, at) for at, (_, to) in enumerate(ways) for span in to)
        self.all = merged(span for _, to in ways for span in to)


class Treating:
    """A device as a function of sets of packets of one family.

    Args:
        topology: Holds the device.
        name: The device's name.
        space: Numbers of interfaces; it may know some that the device does not have.
        unknown: What of the device is not known.
    """

    def __init__(self, topology: Topology, name: str, space: Space, unknown: Unknown = NOTHING_UNKNOWN) -> None:
        self.topology, self.space, self.unknown = topology, space, unknown
        self.device = topology.devices[name]
        self._lists: dict[Listed, RuleList | ProgramStage] = {}
        self._past: dict[str, _PastIt] = {}

    def parts(self, box: Box, budget: Budget) -> Iterator[Part]:
        """Cut packets as they arrive, for any egress, into parts that are treated alike.

        Raises:
            Undecided: If the budget does not last.
        """
        for first, last in box[ARRIVES]:
            for number in range(first, last + 1):
                yield from self._received(number, (((number, number),), *box[1:]), budget)

    def _received(self, number: int, box: Box, budget: Budget) -> Iterator[Part]:
        name = self.space.names[number]
        if reason := self.unknown.of("interfaces"):
            yield box, Treatment(None, KEEP, reason)
            return
        if cut_off(self.device, name):
            yield box, STOPPED
            return
        reason = self.unknown.of("routes")  # it may say that the device answers for what goes past it
        for each, past in self._parted(name, box):
            if past:
                yield each, Treatment(None, KEEP, reason) if reason else STOPPED
                continue
            for one in self._list("arrival").decided(each, KEEP, budget):
                if one.unsure or not one.passes:
                    yield one.box, _stopped(one)
                else:
                    yield from self._looked_up(name, one.box, one.action, budget)

    def refuses(self, name: str, header: Header) -> str:
        """Tell why a packet does not arrive on an interface; empty if it does."""
        if reason := cut_off(self.device, name):
            return reason
        source, here = (((each.value, each.value),) for each in (header.source, header.destination))
        for sources, subnet in self._past_it(name).ways:
            if meet(subnet, here) and (sources is None or meet(sources, source)):
                return f"nobody on {name} answers for {header.destination}"
        return ""

    def before_arrival(self, box: Box, budget: Budget) -> Iterator[Box]:
        """Yield boxes that hold all packets as they arrive that are in a box after destination NAT."""
        yield box
        arrival = self._list("arrival")
        for entry in arrival.leading_to(box[DESTINATION]):
            budget.spend(1)
            pulled = pulled_back(box, entry.action, entry.box)
            if pulled is not None:
                yield pulled

    @property
    def rewrites_destinations(self) -> bool:
        """Whether the destination of some packet may become another one."""
        return any(True for _ in self._list("arrival").leading_to(self.space.any_address))

    def leading_to(self, name: str) -> Iterator[Span]:
        """Yield the destinations of which some packets leave by an interface."""
        port = self.device.interface(name)
        table = self.topology.table(self.device.name, self.space.family, port.instance if port is not None else "")
        for first, last, hop in table.within(*self.space.any_address[0]):
            if hop is not None and any(way.interface == name for way in hop.way.each):
                yield first, last

    def _looked_up(self, name: str, box: Box, action: Action, budget: Budget) -> Iterator[Part]:
        port = self.device.interface(name)
        table = self.topology.table(self.device.name, self.space.family, port.instance if port is not None else "")
        reason = self.unknown.of("routes")
        if reason and self.device.filters_by and self.space.family == 4:
            yield box, Treatment(None, KEEP, reason)  # whether there is a way back is not known
            return
        for part, allowed in self._by_source(name, table, box):
            if not allowed:
                yield part, STOPPED
                continue
            for spans, hop in _looked_up(table, after(part, action, DESTINATION)):
                for inside, answered in self._by_answers(spans):
                    budget.spend(1)
                    here = before(part, action, DESTINATION, inside)
                    if here is not None:
                        yield from self._sent(name, here, action, None if answered else hop, answered, budget)

    def _by_source(self, name: str, table: Table, box: Box) -> Iterator[tuple[Box, bool]]:
        """Cut packets into those that the reverse path filter lets in, and the others (RFC 3704)."""
        mode = self.device.filters_by
        if mode is None or self.space.family == 6:
            yield box, True
            return
        good = merged(
            span
            for spans, hop in _looked_up(table, box[SOURCE])
            if hop is not None and is_way_back(hop, name if mode == "strict" else "")
            for span in spans
        )
        for spans, allowed in ((good, True), (minus(box[SOURCE], good), False)):
            if spans:
                yield with_spans(box, SOURCE, spans), allowed

    def _by_answers(self, spans: Spans) -> Iterator[tuple[Spans, bool]]:
        """Cut destinations into those that the device answers for, besides its own, and the others."""
        answered = meet(spans, self._answers)
        if answered:
            yield answered, True
        if rest := minus(spans, self._answers):
            yield rest, False

    def _sent(
        self, name: str, box: Box, action: Action, hop: Hop | None, answered: bool, budget: Budget
    ) -> Iterator[Part]:
        if answered or (hop is not None and hop.means == "own"):
            yield from self._to_itself(name, box, action, budget)
            return
        if reason := self.unknown.of("routes"):
            yield box, Treatment(None, KEEP, reason)
            return
        forwards = self.device.forwards(self.space.family)
        if hop is None or hop.means == "discard" or not forwards or cut_off(self.device, hop.interface):
            yield box, STOPPED
            return
        leaves = self.space.numbers[hop.interface]
        ways = frozenset((wire(self.device, one.interface), one.next_hop) for one in hop.way.each)
        end = wire(self.device, name), ways
        out = with_spans(box, LEAVES, ((leaves, leaves),))
        for one in self._list("permits").decided(out, action, budget):
            if one.unsure or not one.passes:
                yield one.box, _stopped(one)
                continue
            for last in self._list("departure").decided(one.box, one.action, budget):
                if last.unsure or not last.passes:
                    yield last.box, _stopped(last)
                else:
                    yield last.box, Treatment(end, last.action, if_so=_open(last.action), by=f"{one.line}")

    def _to_itself(self, name: str, box: Box, action: Action, budget: Budget) -> Iterator[Part]:
        for one in self._list("access").decided(box, action, budget):
            if one.unsure or not one.passes:
                yield one.box, _stopped(one)
            else:
                end = "itself", wire(self.device, name)
                yield one.box, Treatment(end, one.action, if_so=_open(one.action), by=f"{one.line}")

    def _list(self, part: Listed) -> RuleList | ProgramStage:
        if part not in self._lists:
            rules = self.topology.following(self.device.name, self.space.family)
            self._lists[part] = (
                RuleList(self.device, part, self.space, self.unknown, self.topology.equal)
                if rules is None
                else ProgramStage(rules, part, self.space)
            )
        return self._lists[part]

    @cached_property
    def own(self) -> Spans:
        """The device's own addresses."""
        up = (one for one in self.device.interfaces if one.enabled)
        return merged((a.value, a.value) for one in up for a in one.addresses if a.family == self.space.family)

    @cached_property
    def held(self) -> Spans:
        """All addresses that nobody else has: its own, those that it answers for, and those for all of a subnet."""
        subnets = (own for one in self.device.interfaces for own in one.addresses if own.family == self.space.family)
        shared = [each for own in subnets if (each := to_routers(own)) is not None]
        return merged((*self.own, *self._answers, *((each.value, each.value) for each in shared)))

    @cached_property
    def _answers(self) -> Spans:
        answers = self.topology.answers(self.device.name)
        spans = merged(span for a in answers if a.addresses.family == self.space.family for span in a.addresses.spans)
        return minus(spans, self.own)

    def _parted(self, name: str, box: Box) -> Iterator[tuple[Box, bool]]:
        """Cut what comes in on an interface into what goes over its link without the device, and the rest.

        What is for another host on the link goes to that host, unless the device answers for it.
        """
        past = self._past_it(name)
        destinations, sources = box[DESTINATION], box[SOURCE]
        if elsewhere := minus(destinations, past.all):  # the most ordinary packets come first
            yield with_spans(box, DESTINATION, elsewhere), False
        for at in dict.fromkeys(at for span in destinations for at in past.index.meeting(span)):
            by, to = past.ways[at]
            there = with_spans(box, DESTINATION, meet(destinations, to))
            if by is None:
                yield there, True
                continue
            for spans, goes in ((meet(sources, by), True), (minus(sources, by), False)):
                if spans:
                    yield with_spans(there, SOURCE, spans), goes

    def _past_it(self, name: str) -> _PastIt:
        """Return what goes over the link of an interface without the device, worked out once.

        Hosts of one subnet reach each other by themselves, and whoever is behind a router on the link does so by that.
        Of several subnets on one link that router need not be in all: what is for another one may come to the device.
        """
        if name not in self._past:
            port, answered = self.device.interface(name), self._answered(name)
            here = port.addresses if port is not None and not port.loopback else ()
            own = (each.network for each in here if each.family == self.space.family and not each.is_host)
            subnets = _widest((each.first, each.last) for each in own)
            alone = len(subnets) == 1
            ways = [(None if alone else (each,), minus((each,), answered)) for each in subnets]
            self._past[name] = _PastIt(ways)
        return self._past[name]

    def _answered(self, name: str) -> Spans:
        answers = self.topology.answers(self.device.name)
        here = (a for a in answers if a.interface == name and a.addresses.family == self.space.family)
        return merged((*self.own, *(span for a in here for span in a.addresses.spans)))


def _widest(subnets: Iterable[Span]) -> list[Span]:
    """Return the subnets that are in no other one, in order: of two subnets one holds the other, or they are apart."""
    found: list[Span] = []
    for each in sorted(set(subnets), key=lambda one: (one[0], -one[1])):
        if not found or each[0] > found[-1][1]:
            found.append(each)
    return found


def _looked_up(table: Table, spans: Spans) -> Iterator[tuple[Spans, Hop | None]]:
    """Cut addresses by the entry of a table that speaks for them, those of one way together."""
    found: dict[object, tuple[list[tuple[int, int]], Hop | None]] = {}
    for first, last in spans:
        for low, high, hop in table.within(first, last):
            found.setdefault(hop.way if hop is not None else None, ([], hop))[0].append((low, high))
    for members, hop in found.values():
        yield merged(members), hop


def where_apart(box: Box, one: Treatment, other: Treatment) -> Iterator[Box]:
    """Yield all packets of a box that two treatments do not treat alike."""
    if one.end != other.end:
        yield box
    elif one.end is not None:
        yield from packets_apart(box, one.action, other.action)


class Apart(msgspec.Struct, frozen=True):
    """Packets that two devices do not treat alike, or of which that is not known.

    Attributes:
        box: The packets.
        here, there: What becomes of them.
    """

    box: Box
    here: Treatment
    there: Treatment

    @property
    def unsure(self) -> str:
        """Why it is not known whether they are treated alike; empty if they are not."""
        return next(filter(None, (self.here.unknown, self.there.unknown, self.here.if_so, self.there.if_so)), "")


def treated_apart(sides: Sequence[Treating], boxes: Iterable[Box], budget: Budget) -> Iterator[Apart]:
    """Find packets of some boxes that two devices do not treat alike, or of which that is not known.

    Raises:
        Undecided: If the budget does not last.
    """
    one, other = sides
    for box in boxes:
        for part, here in one.parts(box, budget):
            for piece, there in other.parts(part, budget):
                if here.unknown or there.unknown:
                    yield Apart(piece, here, there)
                    continue
                yield from (Apart(apart, here, there) for apart in where_apart(piece, here, there))
