"""A packet in a device whose rules are a program: every way that it may take, by what nobody knows of it."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.connections import begins_as_stray
from agile_lattice.behaviour.flows import ECHO, Header
from agile_lattice.behaviour.links import cut_off
from agile_lattice.behaviour.pipeline import STOPS, End, Passing, Stage, Staged, StageName
from agile_lattice.behaviour.program_replies import SYN_ACK, Crossing, stopped
from agile_lattice.behaviour.program_stage import first_packets
from agile_lattice.behaviour.tables import Hop
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.model import Device
from agile_lattice.intent.services import ICMP_PROTOCOLS, number_of, spell_ports
from agile_lattice.packets.boxes import WORK_LIMIT, Undecided
from agile_lattice.packets.spans import Spans
from agile_lattice.programs import model
from agile_lattice.programs.deciding import Asked, hanging_on
from agile_lattice.programs.following import Following, Part
from agile_lattice.programs.model import Constant, Hook, Moved, OneOf

STAGES: dict[Hook, StageName] = {
    "incoming": "arrival", "access": "access", "permit": "permits", "output": "output", "outgoing": "departure",
}  # fmt: skip
FIELDS = {"source": model.SOURCE, "destination": model.DESTINATION, "port": model.PORT}  # of a header


class Way(msgspec.Struct, frozen=True):
    """One way that a packet may take through a device.

    Attributes:
        part: What the program says of it.
        stages: What happened to it.
        end: Why it ends here; `None` if it leaves.
        leaves, hop: Where to, if it was looked up.
    """

    part: Part
    stages: tuple[Stage, ...]
    end: tuple[End, str] | None = None
    leaves: str = ""
    hop: Hop | None = None

    @property
    def fate(self) -> Hashable:
        """What can be seen from outside of what becomes of the packet."""
        if self.end is not None and self.end[0] in STOPS:
            return self.end[0] == "not known"
        last = self.stages[-1]
        way = self.hop.way if self.hop is not None else None
        return self.end and self.end[0], last.after, self._choices, self.leaves, way

    @property
    def _choices(self) -> tuple[Hashable, ...]:
        return tuple((each.pool, each.ports) for each in self.stages)


class Chained(Staged):
    """A packet on its way through one device whose rules are a program; as `Passing` for lists of rules.

    Args:
        topology: Holds the device.
        device: The device.
        arrives: Where the packet comes in; empty if the device sends it itself.
        rules: What decides there.
        stray: Whether it is a reply to a packet that the device did not see.
    """

    def __init__(self, topology: Topology, device: Device, arrives: str, rules: Following, stray: bool = False) -> None:
        self.topology, self.device, self.arrives, self.stray = topology, device, arrives, stray
        self.following, self.program = rules, rules.program
        self.numbers = {name: number for number, name in enumerate(self.program.sides)}
        self.leaves = ""
        self.hop: Hop | None = None
        self.stages: list[Stage] = []
        self.parts: list[Part] = []  # what became of the packet, by each way that it may take

    def run(self, header: Header) -> tuple[End, str] | None:
        """Take the packet through all stages; return why it ends here, or `None` if it leaves."""
        if self.arrives and (reason := cut_off(self.device, self.arrives)):
            self.stages.append(Stage("way", header, header, "not received"))
            return "dropped", reason
        try:
            ways = list(self._ways(header))
        except Undecided as undecided:
            self.stages.append(Stage("arrival", header, header))
            return "not known", str(undecided)
        first, self.parts = ways[0], [each.part for each in ways]
        if len({each.fate for each in ways}) == 1:
            self.stages, self.leaves, self.hop = list(first.stages), first.leaves, first.hop
            return first.end
        self.stages = _common([way.stages for way in ways]) or [Stage("arrival", header, header)]
        ends = " or ".join(dict.fromkeys(each.end[0] if each.end is not None else "passed on" for each in ways))
        return "not known", f"{ends}, depending on {', and on '.join(dict.fromkeys(self._open(ways)))}"

    def reply_stopped(self, reply: Header, restored: Header, arrives: str, leaves: str) -> tuple[End, str] | None:
        """Tell why the reply to this packet ends here, or may end; `None` if it passes."""
        came, gone = self.numbers[arrives], self.numbers[leaves]
        crossing = Crossing(reply, restored, came, gone, itself=not arrives, ends=not leaves)
        return stopped(self.following, self.parts, crossing, self.before)

    def _open(self, ways: list[Way]) -> Iterator[str]:
        """Yield what it depends on what becomes of the packet."""
        ports = {way.part.box.get(model.SOURCE_PORT): way for way in ways}
        if len({each.fate for each in ports.values()}) > 1:
            yield f"its source port ({', '.join(str(each.part.decided_by) for each in ports.values())})"
        for port in ports:
            here = [(way.part.taken, way.fate) for way in ways if way.part.box.get(model.SOURCE_PORT) == port]
            asked = Asked(self.program)
            yield from (asked.told(each) for each in hanging_on(here))
        for way in ways:
            if way.part.outcome == "not known":
                yield f"{way.part.decided_by}, which was not understood"

    def _ways(self, header: Header) -> Iterator[Way]:
        if not self.arrives:
            yield from self._sent(header)
            return
        for part in self.following.at("incoming", [self._first(header)], WORK_LIMIT):
            yield from self._came_in(part, header)

    def _sent(self, header: Header) -> Iterator[Way]:
        """Let the device send a packet itself: it is routed before any list is asked."""
        passing = Passing(self.topology, self.device, "")
        first = self._first(header)
        end = passing.run(header)
        hop = passing.hop
        if hop is None or end is not None:
            yield Way(first, tuple(passing.stages), end)
            return
        leaving = replace(first, now={**first.now, model.LEAVES: Constant(self.numbers[hop.interface])})
        for part in self.following.at("output", [leaving], WORK_LIMIT):
            after, stage = self._stage("output", part, header, header)
            if part.outcome != "accept":
                yield Way(part, (passing.stages[0], stage), self._stopped(part), hop.interface, hop)
            elif after.destination != header.destination:
                unknown = "a list of what the device sends gives it another destination, which is not followed"
                yield Way(part, (passing.stages[0], stage), ("not known", unknown), hop.interface, hop)
            else:
                yield from self._going_out(part, header, after, (passing.stages[0], stage), hop)

    def _came_in(self, part: Part, header: Header) -> Iterator[Way]:
        after, stage = self._stage("incoming", part, header, header)
        if part.outcome != "accept":
            yield Way(part, (stage,), self._stopped(part))
            return
        passing = Passing(self.topology, self.device, self.arrives, self.stray)
        passing.stages = [stage]
        if spoofed := passing.own_source(after) or passing.reverse_path(after):
            yield Way(part, tuple(passing.stages), ("dropped", spoofed))
            return
        hop = passing.look_up(after)
        stages = tuple(passing.stages)
        if hop is None:
            yield Way(part, stages, ("no route", f"{self.device.name} has no route to {after.destination}"))
        elif hop.means == "discard":
            yield Way(part, stages, ("discarded", f"{self.device.name} discards packets to {hop.prefix}"))
        elif hop.means == "own":
            yield from self._to_itself(part, header, after, stages)
        elif unknown := passing.not_known(after, hop):
            yield Way(part, stages, ("not known", unknown), hop.interface, hop)
        elif not self.device.forwards(after.destination.family):
            yield Way(part, stages, ("dropped", f"{self.device.name} does not forward packets"), hop.interface, hop)
        elif reason := cut_off(self.device, hop.interface):
            yield Way(part, stages, ("dropped", reason), hop.interface, hop)
        else:
            yield from self._through(part, header, after, stages, hop)

    def _to_itself(self, part: Part, came: Header, header: Header, stages: tuple[Stage, ...]) -> Iterator[Way]:
        for each in self.following.at("access", [part]):
            _, stage = self._stage("access", each, came, header)
            end: tuple[End, str] = ("local", f"for {self.device.name} itself (local)")
            yield Way(each, (*stages, stage), end if each.outcome == "accept" else self._stopped(each))

    def _through(self, part: Part, came: Header, header: Header, stages: tuple[Stage, ...], hop: Hop) -> Iterator[Way]:
        leaving = replace(part, now={**part.now, model.LEAVES: Constant(self.numbers[hop.interface])})
        for each in self.following.at("permit", [leaving]):
            _, stage = self._stage("permit", each, came, header)
            if each.outcome != "accept":
                yield Way(each, (*stages, stage), self._stopped(each), hop.interface, hop)
                continue
            yield from self._going_out(each, came, header, (*stages, stage), hop)

    def _going_out(
        self, part: Part, came: Header, header: Header, stages: tuple[Stage, ...], hop: Hop
    ) -> Iterator[Way]:
        for each in self.following.at("outgoing", [part]):
            _, last = self._stage("outgoing", each, came, header)
            end = None if each.outcome == "accept" else self._stopped(each)
            yield Way(each, (*stages, last), end, hop.interface, hop)

    def _stage(self, hook: Hook, part: Part, came: Header, before: Header) -> tuple[Header, Stage]:
        """Return the header behind a hook, and what there is to tell of it."""
        decided, by = part.name, part.decided_by
        if not decided and self.program.asked(hook):
            decided = "a rule" if by.line and not by.last else "the policy of its chain"
        after = _became(part, came)
        pool, ports = _choices(part, before, after)
        said = [f"one of {pool}"] if pool is not None else []
        said += [f"port one of {', '.join(map(spell_ports, ports))}"] if ports is not None else []
        note = ", ".join(said)
        return after, Stage(STAGES[hook], before, after, decided, by, note=note, pool=pool, ports=ports)

    def _stopped(self, part: Part) -> tuple[End, str]:
        if part.outcome == "not known":
            return "not known", f"{part.decided_by} was not understood"
        place = part.decided_by
        by = part.name or (
            f"the rule in {place}" if place.line and not place.last else f"the policy of its chain ({place})"
        )
        return "dropped", f"denied by {by} on {self.device.name}"

    def _first(self, header: Header) -> Part:
        """Return a packet that begins a connection, or belongs to none."""
        family = header.source.family
        port = header.port
        if port is None and header.protocol in ICMP_PROTOCOLS:
            port = ECHO[family]
        numbers = (
            self.numbers[self.arrives], None, number_of(header.protocol), header.source.value,
            header.destination.value, port,
        )  # fmt: skip
        box = tuple(
            ((number, number),) if number is not None else self.program.anything(dimension)
            for dimension, number in enumerate(numbers)
        )
        [part] = first_packets(box, family, len(self.program.sides) - 1)
        if self.stray:
            state = model.NEW if begins_as_stray(header) else model.INVALID
            part = replace(part, box={**part.box, model.STATE: ((state, state),), model.FLAGS: SYN_ACK})
        if header.source_port is None:
            return part
        return replace(part, box={**part.box, model.SOURCE_PORT: ((header.source_port,) * 2,)})


def _became(part: Part, came: Header) -> Header:
    """Return a header as it has become; of several numbers of which one was chosen, the first."""
    found: dict[str, Any] = {}
    for field, dimension in FIELDS.items():
        change, old = part.now.get(dimension), getattr(came, field)
        value = old.value if isinstance(old, Address) else old
        match change:
            case Constant(number):
                value = number
            case Moved(offset):
                value += offset
            case OneOf(numbers):
                value = numbers[0][0]
            case _:
                continue
        found[field] = Address(old.family, value) if isinstance(old, Address) else value
    return replace(came, **found)


def _choices(part: Part, before: Header, after: Header) -> tuple[AddressSet | None, Spans | None]:
    """Return the addresses, and the ports, of which a header has got one between two places."""
    pool: AddressSet | None = None
    for field in ("source", "destination"):
        change = part.now.get(FIELDS[field])
        if isinstance(change, OneOf) and getattr(before, field) != getattr(after, field):
            pool = AddressSet(after.source.family, change.numbers)
    port = part.now.get(model.PORT)
    return pool, port.numbers if isinstance(port, OneOf) and before.port != after.port else None


def _common(ways: Sequence[Sequence[Stage]]) -> list[Stage]:
    """Return the stages with which all ways begin."""
    found = []
    for stages in zip(*ways, strict=False):
        if len({(each.stage, each.after, each.decided, each.place.spot) for each in stages}) > 1:
            break
        found.append(stages[0])
    return found


def entering(topology: Topology, device: str, arrives: str, family: int, stray: bool = False) -> Passing | Chained:
    """Return what follows a packet of one family through a device that it comes to.

    Args:
        topology: Holds the device.
        device: Its name.
        arrives: Where the packet comes in.
        family: 4 or 6.
        stray: Whether it is a reply to a packet that the device did not see.
    """
    here, rules = topology.devices[device], topology.following(device, family)
    if rules is None:
        return Passing(topology, here, arrives, stray)
    return Chained(topology, here, arrives, rules, stray)
