"""A packet in one device: what each stage does to it, and which rule decides."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.asked_rules import AskedRules
from agile_lattice.behaviour.connections import begins, begins_as_stray
from agile_lattice.behaviour.flows import Header, Tested, matches, moved
from agile_lattice.behaviour.links import cut_off, proxy, source_towards
from agile_lattice.behaviour.tables import Hop, Table, Way, is_way_back, to_routers
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.model import Answer, Device
from agile_lattice.intent.permits import DISCOVERY, Passage
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Spans

StageName = Literal["arrival", "way", "access", "permits", "output", "departure"]
End = Literal[
    "delivered", "forwarded", "local", "dropped", "discarded", "no route", "loop", "not known"
]  # fmt: skip
STOPS: frozenset[End] = frozenset({"dropped", "discarded", "no route", "loop", "not known"})
_STOPPED: dict[End, str] = {"no route": "dropped", "loop": "forwarding loop"}


def in_words(end: End, reason: str) -> str:
    """Return how a packet ends in a sentence, without a full stop."""
    if end == "local":
        return reason
    if end in ("delivered", "forwarded"):
        return f"{end} {reason}"
    return f"{_STOPPED.get(end, end)}: {reason}"


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
        ports: The ports of which the header has got one.
    """

    stage: StageName
    before: Header
    after: Header
    decided: str = ""
    place: Place = NOWHERE
    tested: tuple[Tested, ...] = ()
    note: str = ""
    pool: AddressSet | None = None
    ports: Spans | None = None


class Staged:
    """What happened to a packet, stage by stage."""

    stages: Sequence[Stage]

    @property
    def before(self) -> Header:
        """The header as it came in."""
        return self.stages[0].before

    @property
    def after(self) -> Header:
        """The header as it went out, or as it was when it stopped."""
        return self.stages[-1].after


class Passing(Staged):
    """A packet on its way through one device.

    Args:
        topology: Holds the device.
        device: The device.
        arrives: Where the packet comes in; empty if the device sends it itself.
        stray: Whether it is a reply to a packet that the device did not see.
    """

    def __init__(self, topology: Topology, device: Device, arrives: str, stray: bool = False) -> None:
        self.topology, self.device, self.arrives, self.stray = topology, device, arrives, stray
        self.leaves = ""
        self.hop: Hop | None = None
        self.stages: list[Stage] = []

    def run(self, header: Header) -> tuple[End, str] | None:
        """Take the packet through all stages; return why it ends here, or `None` if it leaves."""
        if self.arrives:
            if reason := cut_off(self.device, self.arrives):
                self.stages.append(Stage("way", header, header, "not received"))
                return "dropped", reason
            header = self.rewrite("arrival", header)
            spoofed = self.own_source(header) or self.reverse_path(header)
            if spoofed:
                return "dropped", spoofed
        hop = self.hop = self.look_up(header)
        if hop is None:
            return "no route", f"{self.device.name} has no route to {header.destination}"
        if hop.means == "discard":
            return "discarded", f"{self.device.name} discards packets to {hop.prefix}"
        if hop.means == "own":
            return self.own(header) if self.arrives else ("local", f"for {self.device.name} itself (local)")
        self.leaves = hop.interface
        if unknown := self.not_known(header, hop):
            return "not known", unknown
        if self.arrives and not self.device.forwards(header.destination.family):
            return "dropped", f"{self.device.name} does not forward packets"
        if reason := cut_off(self.device, self.leaves):
            return "dropped", reason
        stopped = self.permit(header) if self.arrives else None
        if stopped is None:
            self.rewrite("departure", header)
        return stopped

    def reply_stopped(self, reply: Header, restored: Header, arrives: str, leaves: str) -> tuple[End, str] | None:
        """Tell why the reply to this packet ends here; `None`, since the device knows the connection."""
        return None

    def own_source(self, header: Header) -> str:
        """Tell why a packet of IPv4 is dropped that claims to come from the device itself; empty if it does not."""
        source = header.source
        own = any(port.device.name == self.device.name for port in self.topology.neighbours.holders.get(source, ()))
        if source.family == 6 or not (own or self.answer_for(source) is not None):
            return ""
        return f"its source {source} is an address of {self.device.name}"

    def reverse_path(self, header: Header) -> str:
        """Tell why the reverse path filter drops the packet (RFC 3704); empty if it does not."""
        mode = self.device.filters_by
        if mode is None or header.source.family == 6:
            return ""
        hop = self.table(header.source.family).look_up(header.source.value)
        if hop is None or not is_way_back(hop):
            return f"reverse path filter: {self.device.name} has no route to the source {header.source}"
        if mode == "strict" and not is_way_back(hop, self.arrives):
            behind = hop.interface or self.device.name
            return f"reverse path filter: the source {header.source} is reached via {behind}, not {self.arrives}"
        return ""

    def not_known(self, header: Header, hop: Hop) -> str:
        """Tell why it is not known by which interface a packet leaves; empty if it is, or one was chosen."""
        otherwise = self.topology.otherwise if self.topology.choice is None else None
        if otherwise is None:
            return ""
        arrival = self.device.interface(self.arrives)
        table = otherwise.table(self.device.name, header.destination.family, arrival.instance if arrival else "")
        last = table.look_up(header.destination.value)
        if last is None or last.way == hop.way:
            return ""
        return (
            f"{hop.interface} learns a default route, and which one is taken depends on the system: {hop.way},"
            f" or {last.way}"
        )

    def table(self, family: int) -> Table:
        """Return the table that decides about packets that arrive on this interface."""
        arrival = self.device.interface(self.arrives)
        return self.topology.table(self.device.name, family, arrival.instance if arrival is not None else "")

    def rewrite(self, stage: Literal["arrival", "departure"], header: Header) -> Header:
        """Let the first rule that matches rewrite the header."""
        asked = self.topology.rules(self.device.name, stage, header.source.family)
        if not (begins_as_stray(header) if self.stray else begins(header)):
            self.stages.append(Stage(stage, header, header))
            return header
        at = asked.first(header, self.arrives, self.leaves)
        if at is None:
            self.stages.append(Stage(stage, header, header, tested=asked.told))
            return header
        rule = asked.rules[at]
        after, note = self.rewritten(rule, header)
        pool = rule.to if rule.verdict == "rewrite" else None
        self.stages.append(Stage(stage, header, after, asked.told[at].subject, rule.place, asked.told[:at], note, pool))
        return after

    def rewritten(self, rule: Rule, header: Header) -> tuple[Header, str]:
        """Return the header that a rule makes of another, and what else there is to say."""
        if rule.verdict == "keep":
            return header, "unchanged"
        field = "destination" if rule.stage == "arrival" else "source"
        address = getattr(header, field)
        matched = rule.destination if rule.stage == "arrival" else rule.source
        note = ""
        if rule.verdict == "egress":
            out = self.device.interface(self.leaves)
            next_hop = self.hop.next_hop if self.hop is not None else None
            own = source_towards(out, next_hop or header.destination) if out is not None else None
            if own is None:
                return header, f"{self.leaves} has no address to use"
            address = own
        elif rule.verdict == "shift" and rule.to is not None and matched is not None:
            address = moved(address, matched, rule.to)
        elif rule.to is not None:
            note = _note(rule, rule.to)
            address = type(address)(rule.to.family, rule.to.spans[0][0])
        after = replace(header, **{field: address})
        return (after if rule.to_port is None else replace(after, port=rule.to_port)), note

    def look_up(self, header: Header) -> Hop | None:
        """Look the destination up."""
        hop = self.table(header.destination.family).look_up(header.destination.value)
        if hop is None or hop.means != "own":
            answered = self.answer_for(header.destination)
            if answered is not None:
                # The device answers for it, so it is the device that gets it.
                words = f"{header.destination}, {proxy(header.destination.family)} on {answered.interface}"
                self.stages.append(Stage("way", header, header, words, answered.place))
                return Hop(Prefix.host(header.destination), Way())
        place, words = NOWHERE, "no route"
        if hop is not None:
            place = hop.route.place if hop.route is not None else self.place_of(hop)
            means = {"own": "own address", "connected": "connected", "discard": "discarded"}
            words = f"{hop.prefix.shortest}, {means.get(hop.means, f'via {hop.next_hop or hop.interface}')}"
        note = f"out {hop.interface}" if hop is not None and hop.interface else ""
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
                if hop.prefix in (each.network, Prefix.host(each.address)) or to_routers(each) == hop.prefix.address:
                    return one.place_of(index)
        return NOWHERE

    def own(self, header: Header) -> tuple[End, str]:
        """Let what is meant for the device itself in, if it may."""
        here: tuple[End, str] = "local", f"for {self.device.name} itself (local)"
        asked = self.topology.passages(self.device.name, "access")
        if asked.rules and header.source.family == 6 and matches(DISCOVERY, header, self.arrives):
            self.stages.append(Stage("access", header, header, DISCOVERY.name))
            return here
        at = asked.first(header, self.arrives)
        if at is not None:
            return self.decided("access", asked, at, header) or here
        if asked.rules:
            self.stages.append(Stage("access", header, header, tested=asked.told))
            return "dropped", f"no management rule on {self.device.name} permits it"
        return here

    def permit(self, header: Header) -> tuple[End, str] | None:
        """Let the first permit that matches decide; without any permit everything passes."""
        asked = self.topology.passages(self.device.name, "permits")
        at = asked.first(header, self.arrives, self.leaves)
        if at is not None:
            return self.decided("permits", asked, at, header)
        if asked.rules:
            self.stages.append(Stage("permits", header, header, tested=asked.told))
            return "dropped", f"no permit on {self.device.name} matches"
        return None

    def decided(self, stage: StageName, asked: AskedRules[Passage], at: int, header: Header) -> tuple[End, str] | None:
        """Let a rule decide; return why the packet ends here, if it does not let it pass."""
        rule, subject = asked.rules[at], asked.told[at].subject
        self.stages.append(Stage(stage, header, header, subject, rule.place, asked.told[:at]))
        return ("dropped", self.denied(rule, subject)) if rule.verdict == "drop" else None

    def denied(self, rule: Passage, subject: str) -> str:
        """Say which rule drops a packet."""
        by = subject if rule.name or not rule.place.line else f"the rule in {rule.place}"
        return f"denied by {by} on {self.device.name}"


def _note(rule: Rule, to: AddressSet) -> str:
    """Say what there is to say of a rewriting besides what the header shows."""
    said = []
    if not to.is_single:
        said.append(f"one of {to}, ports {rule.port_use}")
    elif rule.port_use == "kept":
        said.append("ports kept")
    if rule.rewrites_dns:
        said.append("DNS answers too")
    return ", ".join(said)
