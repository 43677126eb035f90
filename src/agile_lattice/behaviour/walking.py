"""One packet, followed through a network: what each stage of each device does to it, and which rule decided.

The order of stages is that of `intent.stages`: arrival rewriting, look-up, permits, departure rewriting.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header, matches, moved
from agile_lattice.behaviour.tables import Hop
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Answer, Device
from agile_lattice.intent.normal import external_addresses
from agile_lattice.intent.permits import Passage, passages
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import described

StageName = Literal["arrival", "way", "access", "permits", "departure"]
End = Literal["delivered", "handed on", "reaches the device", "dropped", "discarded", "no way", "in a circle"]
STOPS: frozenset[End] = frozenset({"dropped", "discarded", "no way", "in a circle"})


class Tested(msgspec.Struct, frozen=True):
    """A rule that was asked, and did not match."""

    subject: str
    place: Place = NOWHERE


class Stage(msgspec.Struct, frozen=True):
    """What one stage of a device did to the packet.

    Attributes:
        stage: Which one.
        before, after: The header as it came to the stage, and as it left it.
        decided: The rule, route or address that decided, in words; empty if nothing matched.
        place: Where that is written.
        tested: Rules that were asked before and did not match, in order.
        note: What else there is to say.
        pool: The addresses of which the header has got one.
    """

    stage: StageName
    before: Header
    after: Header
    decided: str = ""
    place: Place = NOWHERE
    tested: tuple[Tested, ...] = ()
    note: str = ""
    pool: AddressSet | None = None


class Visit(msgspec.Struct, frozen=True):
    """A packet in one device.

    Attributes:
        device, arrives: The device, and the interface that the packet came in by.
        leaves: The interface that it goes out by; empty if it does not.
        stages: What happened to it, in order.
    """

    device: str
    arrives: str
    leaves: str
    stages: tuple[Stage, ...]

    @property
    def before(self) -> Header:
        """The header as it came in."""
        return self.stages[0].before

    @property
    def after(self) -> Header:
        """The header as it went out, or as it was when it stopped."""
        return self.stages[-1].after


class Walk(msgspec.Struct, frozen=True):
    """A packet's way through a network.

    Attributes:
        visits: The devices that it passes, in order.
        end: `delivered` to a host on a link, `handed on` to a next hop that the intent does not describe,
            `reaches the device` for one of its own addresses; or why it stops.
        reason: The end in words.
        answer: What comes back to the sender, if the packet gets there; `None` if it does not.
        way_back: Why the answer does not come back by the way that the packet came; empty if it does.
    """

    visits: tuple[Visit, ...]
    end: End
    reason: str
    answer: Header | None = None
    way_back: str = ""

    @property
    def arrives(self) -> bool:
        """Whether the packet gets where it is meant to."""
        return self.end not in STOPS


def walk(topology: Topology, header: Header, device: str, arrives: str) -> Walk:
    """Follow a packet.

    Args:
        topology: The network's devices as neighbours.
        header: The packet as it comes to the first device.
        device: The first device.
        arrives: The interface of it that the packet comes in by.

    Raises:
        KeyError: If there is no such device or interface.
    """
    sent = header
    visits: list[Visit] = []
    seen: set[tuple[str, str, Header]] = set()
    while True:
        here = topology.devices[device]
        if here.interface(arrives) is None:
            raise KeyError(arrives)
        if (device, arrives, header) in seen:
            return Walk(tuple(visits), "in a circle", f"it comes to {device} again, as it was before")
        seen.add((device, arrives, header))
        passing = _Passing(topology, here, arrives)
        stopped = passing.run(header)
        visits.append(Visit(device, arrives, passing.leaves, tuple(passing.stages)))
        if stopped is not None:
            end, reason = stopped
            answer = sent.answer if end not in STOPS else None
            return Walk(tuple(visits), end, reason, answer, _way_back(topology, visits) if answer else "")
        header = visits[-1].after
        following = _following(topology, device, passing.hop, header)
        if following is None:
            end, reason = _outside(passing.hop, passing.leaves, header)
            return Walk(tuple(visits), end, reason, sent.answer, _way_back(topology, visits))
        device, arrives = following


def _following(topology: Topology, device: str, hop: Hop | None, header: Header) -> tuple[str, str] | None:
    """Return the device that comes next, and the interface that the packet comes to it by."""
    target = hop.next_hop if hop is not None and hop.next_hop is not None else header.destination
    for port in topology.holders.get(target, ()):
        if port.device.name != device:
            return port.device.name, port.interface.name
    return None


def _outside(hop: Hop | None, leaves: str, header: Header) -> tuple[End, str]:
    if hop is not None and hop.next_hop is not None:
        return "handed on", f"it is given to {hop.next_hop}, by {leaves}"
    return "delivered", f"it reaches {header.destination}, on the link of {leaves}"


def _way_back(topology: Topology, visits: Sequence[Visit]) -> str:
    """Tell why the answer does not come back by the way of the packet; empty if it does."""
    last = visits[-1]
    device = topology.devices[last.device]
    back = last.after.source
    own = {each.address for one in device.interfaces for each in one.addresses}
    external = external_addresses(device.translations)
    if back in own or any(first <= back.value <= end for first, end in external if back.family == 4):
        return ""
    hop = topology.table(last.device, back.family).look_up(back.value)
    if hop is None or hop.means == "discard":
        return f"{last.device} has no way back to {back}"
    if hop.interface != last.arrives:
        return f"{last.device} sends the answer out by {hop.interface}, and the packet came in by {last.arrives}"
    return ""


class _Passing:
    """A packet on its way through one device."""

    def __init__(self, topology: Topology, device: Device, arrives: str) -> None:
        self.topology, self.device, self.arrives = topology, device, arrives
        self.leaves = ""
        self.hop: Hop | None = None
        self.stages: list[Stage] = []

    def run(self, header: Header) -> tuple[End, str] | None:
        """Take the packet through all stages; return why it ends here, or `None` if it leaves."""
        header = self.rewrite("arrival", header)
        hop = self.hop = self.look_up(header)
        if hop is None:
            return "no way", f"{self.device.name} has no route to {header.destination}"
        if hop.means == "discard":
            return "discarded", f"{self.device.name} discards what goes to {hop.prefix}"
        if hop.means == "own":
            return self.own(header)
        self.leaves = hop.interface
        settings = self.device.settings
        if (settings.forwarding4 if header.destination.family == 4 else settings.forwarding6) is False:
            return "dropped", f"{self.device.name} does not forward packets"
        stopped = self.permit(header)
        if stopped is None:
            self.rewrite("departure", header)
        return stopped

    def rewrite(self, stage: Literal["arrival", "departure"], header: Header) -> Header:
        """Let the first rule that matches rewrite the header."""
        tested: list[Tested] = []
        for one, rule in self.topology.rules(self.device.name, stage):
            if not matches(rule, header, self.arrives, self.leaves):
                tested.append(Tested(described(one), rule.place))
                continue
            after, note = self.rewritten(rule, header)
            pool = rule.to if rule.verdict == "rewrite" else None
            self.stages.append(Stage(stage, header, after, described(one), rule.place, tuple(tested), note, pool))
            return after
        self.stages.append(Stage(stage, header, header, tested=tuple(tested)))
        return header

    def rewritten(self, rule: Rule, header: Header) -> tuple[Header, str]:
        """Return the header that a rule makes of another, and what else there is to say."""
        if rule.verdict == "keep":
            return header, "it stays as it is"
        field = "destination" if rule.stage == "arrival" else "source"
        address = getattr(header, field)
        matched = rule.destination if rule.stage == "arrival" else rule.source
        note = ""
        if rule.verdict == "egress":
            own = next(self.own_addresses(self.leaves, header.source.family), None)
            if own is None:
                return header, f"{self.leaves} has no address that it could take"
            address = own
        elif rule.verdict == "shift" and rule.to is not None:
            address = moved(address, matched, rule.to)
        elif rule.to is not None:
            if not rule.to.is_single:
                note = f"one of {rule.to}, ports {rule.port_use}"
            address = type(address)(rule.to.family, rule.to.spans[0][0])
        after = replace(header, **{field: address})
        return (after if rule.to_port is None else replace(after, port=rule.to_port)), note

    def own_addresses(self, name: str, family: int) -> Iterator[object]:
        """Yield the addresses of an interface that packets can leave with."""
        one = self.device.interface(name)
        assert isinstance(one, Interface)
        for each in one.addresses:
            if each.family == family and not each.address.is_link_local:
                yield each.address

    def look_up(self, header: Header) -> Hop | None:
        """Look the destination up."""
        arrival = self.device.interface(self.arrives)
        instance = arrival.instance if arrival is not None else ""
        table = self.topology.table(self.device.name, header.destination.family, instance)
        hop = table.look_up(header.destination.value)
        if hop is None or hop.means != "own":
            answered = self.answer_for(header.destination)
            if answered is not None:
                # The device answers for it, so it is the device that gets it.
                words = f"{header.destination}, which the device answers for on {answered.interface}"
                self.stages.append(Stage("way", header, header, words, answered.place))
                return Hop(Prefix.host(header.destination), "own")
        place, words = NOWHERE, "no route"
        if hop is not None:
            place = hop.route.place if hop.route is not None else self.place_of(hop)
            means = {"own": "an address of the device", "connected": "connected", "discard": "discarded"}
            words = f"{hop.prefix.shortest}, {means.get(hop.means, f'via {hop.next_hop or hop.interface}')}"
        note = f"out by {hop.interface}" if hop is not None and hop.interface else ""
        self.stages.append(Stage("way", header, header, words, place, note=note))
        return hop

    def answer_for(self, address: Address) -> Answer | None:
        """Return what the device answers for that holds an address; `None` if nothing does."""
        answers = self.topology.answers(self.device.name)
        return next((each for each in answers if address in each.addresses), None)

    def place_of(self, hop: Hop) -> Place:
        """Return where the address is written that an entry follows from."""
        for one in self.device.interfaces:
            for index, each in enumerate(one.addresses):
                if hop.prefix in (each.network, type(each).host(each.address)):
                    return one.place_of(index)
        return NOWHERE

    def own(self, header: Header) -> tuple[End, str]:
        """Let what is meant for the device itself in, if it may."""
        rules = passages(self.device.access)
        tested: list[Tested] = []
        for rule in rules:
            if matches(rule, header, self.arrives):
                stage = Stage("access", header, header, _named("management", rule), rule.place, tuple(tested))
                self.stages.append(stage)
                return "reaches the device", f"it is for {self.device.name} itself"
            tested.append(Tested(_named("management", rule), rule.place))
        if rules:
            self.stages.append(Stage("access", header, header, tested=tuple(tested)))
            return "dropped", f"nothing lets it into {self.device.name} itself"
        return "reaches the device", f"it is for {self.device.name} itself"

    def permit(self, header: Header) -> tuple[End, str] | None:
        """Let the first permit that matches decide; without any permit everything passes."""
        rules = passages(self.device.permits)
        tested: list[Tested] = []
        for rule in rules:
            if matches(rule, header, self.arrives, self.leaves):
                subject = _named("permit", rule)
                self.stages.append(Stage("permits", header, header, subject, rule.place, tuple(tested)))
                return None if rule.verdict == "pass" else ("dropped", f"{subject} on {self.device.name} stops it")
            tested.append(Tested(_named("permit", rule), rule.place))
        if rules:
            self.stages.append(Stage("permits", header, header, tested=tuple(tested)))
            return "dropped", f"no permit on {self.device.name} lets it pass"
        return None


def _named(kind: str, rule: Passage) -> str:
    return f"{kind} {rule.name}".rstrip()
