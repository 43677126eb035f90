"""Packets that show a difference: looked for among all that somebody could send, and replayed on both sides.

The search is exact: it finds a packet, or none is treated differently, or it says why that is not known.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from itertools import chain

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.links import described
from agile_lattice.behaviour.matching import ARRIVES, DESTINATION, LEAVES, PORT, PROTOCOL, PROTOCOL_NAMES, SOURCE, Space
from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.rule_list import Budget
from agile_lattice.behaviour.sending import chosen, likely, sendable
from agile_lattice.behaviour.set_pipeline import Apart, Treating, treated_apart
from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN, Unknown
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.differences import Witness
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.rulesets import Ruleset
from agile_lattice.dialects.programs.lowering import lowered
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.learned import families_learned
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.services import ICMP_PROTOCOLS, OTHER_PROTOCOL, PORT_PROTOCOLS, number_of
from agile_lattice.packets.boxes import Box, Undecided, overlap, remainder
from agile_lattice.packets.spans import Spans, merged
from agile_lattice.programs.model import Program

MOST_WORK = 150_000  # boxes that are looked at for one question
MOST_APART = 250_000  # for all packets that are treated differently
MOST_IN_ALL = 1_500_000  # and for all questions about two devices
FAMILIES = (4, 6)
Walks = tuple[Walk | None, Walk | None]


class Question(msgspec.Struct, frozen=True):
    """Packets of one family that could be treated differently.

    Attributes:
        family: 4 or 6.
        coming: Packets as they come in.
        inside: Packets as they are behind destination NAT, whatever they were before.
    """

    family: int
    coming: tuple[Box, ...] = ()
    inside: tuple[Box, ...] = ()


class Answered(msgspec.Struct, frozen=True):
    """What was found out about packets that could be treated differently.

    Attributes:
        witness: One that is; `None` if none was found.
        unknown: Why it is not known whether there is one; empty if none is treated differently, or there is a witness.
        walks: What each side does with the witness, stage by stage; `None` where it does not come in.
        beside: A packet that is treated differently, but for another reason than that in question.
    """

    witness: Witness | None = None
    unknown: str = ""
    walks: Walks = (None, None)
    beside: Witness | None = None


Shows = Callable[[Walks], bool]


class Sides:
    """A device twice: as it should be and as it is.

    Args:
        intent: As it should be.
        there: As it is; what nobody has looked at must be filled in.
        unknown: What of it was not understood.
        unseen_families: Address families of whose rules nothing is known: no packets of these are looked for.
        programs: The facts of its rules, where somebody wrote them: then these decide, and not what was read of them as
            lists.
    """

    def __init__(
        self,
        intent: Device,
        there: Device,
        unknown: Unknown = NOTHING_UNKNOWN,
        unseen_families: Collection[int] = (),
        programs: Sequence[Facts] = (),
    ) -> None:
        self._unseen = unseen_families
        self.rules = [Ruleset(facts) for facts in programs]
        self.name = intent.name
        self.devices = intent, replace(there, name=intent.name)
        self.unknown = unknown
        self._topologies: dict[int, tuple[Topology, Topology]] = {}
        self._treating: dict[tuple[int, int], tuple[Treating, Treating]] = {}
        self._sendable: dict[int, Box | None] = {}
        self._budget = MOST_IN_ALL
        self._leads_anywhere = any(
            each.ways or any(one.addresses or one.learns or one.dial for one in each.interfaces)
            for each in self.devices
        )

    def space(self, family: int) -> Space:
        """Return the numbers of the interfaces of both sides."""
        return self.treating(family)[0].space

    def topologies(self, choice: int = 0) -> tuple[Topology, Topology]:
        """Return both sides, as a system that chooses so has them, made once."""
        if choice not in self._topologies:
            mine, its = (Network("", (each,)) for each in self.devices)
            self._topologies[choice] = Topology(mine, choice), Topology(its, choice, self._lowered)
        return self._topologies[choice]

    def treating(self, family: int, choice: int = 0) -> tuple[Treating, Treating]:
        """Return both sides as functions of packets, as a system that chooses so has them, made once."""
        if (family, choice) not in self._treating:
            space = common_space(*self.devices, family)
            mine, its = self.topologies(choice)
            both = Treating(mine, self.name, space), Treating(its, self.name, space, self.unknown)
            self._treating[family, choice] = both
        return self._treating[family, choice]

    @property
    def families(self) -> list[int]:
        """The address families of whose rules something is known."""
        return [family for family in FAMILIES if family not in self._unseen]

    def program(self, family: int) -> Program | None:
        """Return what decides packets of a family on the device as it is, where its rules are a program."""
        return self.topologies()[1].program(self.name, family)

    def _lowered(self, device: Device, family: int, choice: int) -> Program | None:
        names = common_space(*self.devices, family).names
        return lowered(self.rules, Surroundings(device, family, choice, names))

    def apart(self, family: int, questions: Iterable[Question]) -> Iterator[Apart]:
        """Yield the packets that somebody could send and that are treated differently, or of which that is not known.

        Args:
            family: 4 or 6.
            questions: Where to look: no other packet is treated differently. What several hold is looked at once.

        Raises:
            Undecided: If they are too many to be looked at.
        """
        everything = self.sendable(family)
        if everything is None or family in self._unseen:
            return
        budget = Budget(MOST_APART)
        seen: list[Box] = []
        for question in questions:
            for box in self._coming(question, everything, budget):
                budget.spend(len(seen))
                new = remainder([box], (each for each in seen if overlap(each, box)))
                seen.append(box)
                for choice in self.choices(family):
                    yield from treated_apart(self.treating(family, choice), new, budget)

    def leading_to(self, family: int, leaves: Spans) -> Spans:
        """Return the destinations of all that may leave by some interfaces; all where some may become another one.

        Args:
            family: 4 or 6.
            leaves: The numbers of the interfaces; all of them for packets that need not leave at all.
        """
        space = self.space(family)
        names = {space.names[at] for first, last in leaves for at in range(first, last + 1)}
        translated = any(each.rewrites_destinations for each in self.treating(family))
        if leaves == space.any_side or translated:
            return space.any_address
        return merged(span for each in self.treating(family) for name in names for span in each.leading_to(name))

    def choices(self, family: int) -> range:
        """Return all that a system may choose, among equally good and learned routes, as `Topology` counts it."""
        learning = any(families_learned(one) for device in self.devices for one in device.interfaces)
        instances = {"", *(one.instance for device in self.devices for one in device.interfaces)}
        sides = [side for choice in range(1 + learning) for side in self.topologies(choice)]
        tables = (side.table(self.name, family, each) for side in sides for each in instances)
        return range(0, 2 * max(each.choices for each in tables), 1 if learning else 2)

    def sendable(self, family: int) -> Box | None:
        """Return the packets that somebody could send, worked out once."""
        if family not in self._sendable:
            self._sendable[family] = sendable(self.treating(family))
        return self._sendable[family]

    def ask(self, questions: Iterable[Question], shows: Shows = lambda walks: True) -> Answered:
        """Find out whether some packet is treated differently.

        Args:
            questions: Where to look: all packets that are treated differently for the reason in question are there.
            shows: Tells of what both sides do with a packet whether the reason in question has to do with it.
        """
        unknown = ""
        beside = None
        for each in questions:
            for choice in self.choices(each.family):
                try:
                    found = self._asked(each, shows, choice)
                except Undecided as error:
                    found = Answered(None, str(error).removeprefix("not decided: "))
                if found.witness is not None:
                    return found
                unknown, beside = unknown or found.unknown, beside or found.beside
        return Answered(None, unknown, beside=beside)

    def treat_apart(self, arrives: str, header: Header) -> bool:
        """Tell whether a packet is treated differently, whichever of equally good routes is taken."""
        family = header.source.family
        if arrives not in self.space(family).numbers:
            return False  # neither has such an interface
        protocol = number_of(header.protocol)
        point = (self.space(family).numbers[arrives], 0, protocol, header.source.value, header.destination.value)
        single: Box = tuple(((number, number),) for number in (*point, header.port or 0))
        box = (single[0], self.space(family).any_side, *single[2:])
        return any(
            True
            for choice in self.choices(family)
            for _ in treated_apart(self.treating(family, choice), [box], Budget(MOST_WORK))
        )

    def passing(self, family: int, inside: Iterable[Box]) -> Iterator[tuple[str, Header, Walk]]:
        """Yield packets that the device as it is forwards, each with its walk: one for each way of treating them.

        Args:
            family: 4 or 6.
            inside: What they are behind destination NAT.
        """
        everything = self.sendable(family)
        if everything is None:
            return
        sides = self.treating(family)
        budget = Budget(MOST_WORK)
        boxes = list(self._coming(Question(family, inside=tuple(inside)), everything, budget))
        for look in (likely(boxes, sides), boxes):
            for box in look:
                for part, treatment in sides[1].parts(box, budget):
                    if treatment.end is not None and not treatment.unknown:
                        point = chosen(part, sides)
                        name, header = self.space(family).names[point[ARRIVES]], _header(family, point)
                        yield name, header, walk(self.topologies()[1], header, self.name, name)

    def _asked(self, question: Question, shows: Shows, choice: int) -> Answered:
        if reason := self.unknown.of("interfaces"):
            return Answered(None, reason)  # it could be about any packet
        if not self._leads_anywhere and (question.coming or question.inside):
            return Answered(None, "neither side has addresses or routes, so it is not known where packets go")
        if question.family in self._unseen:
            return Answered(None, f"no input covers the IPv{question.family} rules")
        all_of_them = self.sendable(question.family)
        if all_of_them is None:
            return Answered()
        sides = self.treating(question.family, choice)
        budget = Budget(min(MOST_WORK, max(self._budget, 0)))
        try:
            boxes = list(self._coming(question, all_of_them, budget))
            ordinary = likely(boxes, sides)
            unknown = ""
            beside = None
            for look in (ordinary, boxes):
                for apart in treated_apart(sides, look, budget):
                    if apart.unsure:
                        unknown = unknown or apart.unsure
                        continue
                    found = self.shown(question.family, apart.box, choice)
                    if found is None:
                        unknown = unknown or "two independent computations disagree about it"
                    elif shows(found.walks):
                        return found
                    else:
                        beside = beside or found.witness
            return Answered(None, unknown, beside=beside)
        finally:
            self._budget -= budget.limit - budget.left

    def _coming(self, question: Question, all_of_them: Box, budget: Budget) -> Iterator[Box]:
        """Yield the packets of a question as they come in, if somebody could send them."""
        any_side = self.space(question.family).any_side
        free = dict.fromkeys((*box[:LEAVES], any_side, *box[LEAVES + 1 :]) for box in question.inside)
        before = (side.before_arrival(box, budget) for box in free for side in self.treating(question.family))
        seen: set[Box] = set()
        # One by one: whoever asks may be content with the first.
        for box in chain(question.coming, chain.from_iterable(before)):
            common = overlap((box[ARRIVES], any_side, *box[LEAVES + 1 :]), all_of_them) if box not in seen else None
            seen.add(box)
            if common is not None:
                yield common

    def shown(self, family: int, box: Box, choice: int) -> Answered | None:
        """Replay a packet of a box on both sides; `None` if what a walk says is something else."""
        sides = self.treating(family, choice)
        point = chosen(box, sides)
        name = self.space(family).names[point[ARRIVES]]
        header = _header(family, point)
        single: Box = tuple(((number, number),) for number in point)
        words: list[str] = []
        walks: list[Walk | None] = []
        for side, topology in zip(sides, self.topologies(choice), strict=True):
            refused = side.refuses(name, header)
            if refused:
                words.append(f"not received: {refused}")
                walks.append(None)
                continue
            found = walk(topology, header, self.name, name)
            [(_, treatment)] = side.parts((single[0], self.space(family).any_side, *single[2:]), Budget(MOST_WORK))
            if (treatment.end is not None) != found.arrives:
                return None
            walks.append(found)
            words.append(_told(found))
        if words[0] == words[1]:
            names = dict.fromkeys(
                (name, *(each.visits[-1].leaves for each in walks if each and each.visits[-1].leaves))
            )
            words = [
                f"{one}; {', '.join(described(device, each) for each in names)}"
                for one, device in zip(words, self.devices, strict=True)
            ]
        return Answered(Witness(name, header, *words), "", (walks[0], walks[1]))


def _header(family: int, point: tuple[int, ...]) -> Header:
    """Return the header of a packet that is given by its numbers."""
    protocol = PROTOCOL_NAMES.get(point[PROTOCOL], f"{OTHER_PROTOCOL}{point[PROTOCOL]}")
    ported = protocol in (*PORT_PROTOCOLS, *ICMP_PROTOCOLS)
    return Header(
        Address(family, point[SOURCE]), Address(family, point[DESTINATION]), protocol,
        point[PORT] if ported else None, 49152 if protocol in PORT_PROTOCOLS else None,
    )  # fmt: skip


def _told(found: Walk) -> str:
    """Say in words what becomes of a packet."""
    visit = found.visits[-1]
    if not found.arrives:
        return found.outcome
    notes = [f" ({each.note})" for each in visit.stages if each.before != each.after and each.note]
    changed = f" as {visit.after}" if visit.before != visit.after else ""
    return f"{found.outcome}{changed}{''.join(notes)}"
