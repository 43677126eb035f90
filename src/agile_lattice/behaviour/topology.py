"""Who is behind which interface: devices linked by their subnets, and the way through them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import Literal

import msgspec

from agile_lattice.behaviour.asked_rules import AskedRules
from agile_lattice.behaviour.flows import Tested
from agile_lattice.behaviour.neighbours import Neighbours
from agile_lattice.behaviour.tables import Hop, Table
from agile_lattice.behaviour.uplinks import Side, Uplinks
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.learned import families_learned, with_learned
from agile_lattice.intent.model import Answer, Device, Host, Network
from agile_lattice.intent.permits import Passage, passages
from agile_lattice.intent.stages import Rule, Stage, family_of, split
from agile_lattice.intent.translations import described
from agile_lattice.programs.following import Following
from agile_lattice.programs.model import Program

MOST_HOPS = 50_000  # that are remembered
KINDS = {"permits": "permit", "access": "management"}  # what a rule is called
End = Literal["delivered", "own", "leaves", "discarded", "no route", "loop"]


class Course(msgspec.Struct, frozen=True):
    """Where a destination leads from one device.

    Attributes:
        devices: The devices passed, the first one included.
        end: `delivered` on a connected link, to a device's `own` address, `leaves` to a next hop that the
            intent does not describe, `discarded`, `no route`, or a `loop`.
        hop: What the last device says about the destination; `None` if it says nothing.
    """

    devices: tuple[str, ...]
    end: End
    hop: Hop | None


class Topology:
    """A network's devices as neighbours.

    Args:
        network: The network; only enabled interfaces count. What they learn has stand-ins.
        choice: Which routes are taken where that depends on the system: `2 * n` and `2 * n + 1` for the n-th of those
            that are equally good, with learned default routes before all others, and behind them; `None` if a walk
            should say that it is not known.
        lowered: Gives the program of a device, for one family of packets, where its rules are one.
    """

    def __init__(
        self, network: Network, choice: int | None = None,
        lowered: Callable[[Device, int, int], Program | None] = lambda device, family, choice: None,
    ) -> None:  # fmt: skip
        self.network, self._lowered = network, lowered
        self._programs: dict[tuple[str, int], Following | None] = {}
        self.choice = choice
        self._tables: dict[tuple[str, int, str], Table] = {}
        self._rules: dict[tuple[str, Stage, int], AskedRules[Rule]] = {}
        self._answers: dict[str, tuple[Answer, ...]] = {}
        self._hops: dict[tuple[str, Address], tuple[Hop | None, str | None]] = {}
        self._passages: dict[tuple[str, str], AskedRules[Passage]] = {}
        self.equal, last = divmod(choice or 0, 2)
        self.devices = {device.name: with_learned(device, not last) for device in network.devices}

    def program(self, device: str, family: int) -> Program | None:
        """Return what decides packets of one family in a device, where its rules are a program; worked out once."""
        following = self.following(device, family)
        return following.program if following is not None else None

    def following(self, device: str, family: int) -> Following | None:
        """Return a program made ready to follow packets through it, likewise."""
        if (device, family) not in self._programs:
            program = self._lowered(self.devices[device], family, self.equal)
            self._programs[device, family] = Following(program) if program is not None else None
        return self._programs[device, family]

    @cached_property
    def hosts(self) -> dict[Address, Host]:
        """The hosts that the intent names, by their addresses."""
        return {each.address.address: each for each in reversed(self.network.hosts)}

    def table(self, device: str, family: int, instance: str = "") -> Table:
        """Return the forwarding table of a device, made once."""
        key = device, family, instance
        if key not in self._tables:
            self._tables[key] = Table(self.devices[device], family, instance, self.equal)
        return self._tables[key]

    @cached_property
    def otherwise(self) -> Topology | None:
        """The same network with learned default routes behind all others; None if nothing is learned."""
        if not any(families_learned(one) for device in self.network.devices for one in device.interfaces):
            return None
        return Topology(self.network, 1)

    def answers(self, device: str) -> tuple[Answer, ...]:
        """Return what a device answers for besides its own addresses, worked out once."""
        if device not in self._answers:
            self._answers[device] = normal_answers(self.devices[device])
        return self._answers[device]

    def passages(self, device: str, part: Literal["permits", "access"]) -> AskedRules[Passage]:
        """Return the rules of what may pass a device, or reach it, taken apart once."""
        if (device, part) not in self._passages:
            rules, kind = passages(getattr(self.devices[device], part)), KINDS[part]
            told = [Tested(f"{kind} {each.name}".rstrip(), each.place) for each in rules]
            self._passages[device, part] = AskedRules(rules, told)
        return self._passages[device, part]

    def rules(self, device: str, stage: Stage, family: int) -> AskedRules[Rule]:
        """Return the rules of one stage of a device for one family, worked out once."""
        if (device, stage, family) not in self._rules:
            pairs = [
                (rule, Tested(described(one), rule.place))
                for one in self.devices[device].translations
                for rule in split([one])
                if rule.stage == stage and family_of(rule) == family
            ]
            self._rules[device, stage, family] = AskedRules([rule for rule, _ in pairs], [told for _, told in pairs])
        return self._rules[device, stage, family]

    @cached_property
    def neighbours(self) -> Neighbours:
        """Who is on which link."""
        return Neighbours(self.devices, self.answers)

    def across(self, device: str, leaves: str, destination: Address) -> Side | None:
        """Return where a packet comes back that leaves on the public side: by the uplink of its destination's block.

        Args:
            device: The device that it leaves.
            leaves: Its egress interface.
            destination: Its destination.

        Returns:
            The device and its interface; `None` if the packet goes to somebody else.
        """
        uplinks = sorted(self.uplinks.of(destination)) if self.uplinks.is_public(device, leaves) else []
        if not uplinks or (device, leaves) in uplinks:
            return None
        asked = self.neighbours.takers(*uplinks[0], destination)
        return next((each for each in asked if each in uplinks), uplinks[0])

    @cached_property
    def uplinks(self) -> Uplinks:
        """The public sides, and the blocks of providers behind them."""
        return Uplinks(self.network, self.devices)

    def neighbour(self, device: str, hop: Hop) -> str | None:
        """Return the device that takes what is given to a next hop; None if the intent describes none."""
        if hop.next_hop is None:
            return None
        return next(
            (name for name, _ in self.neighbours.takers(device, hop.interface, hop.next_hop) if name != device), None
        )

    def way(self, device: str, destination: Address) -> Course:
        """Follow a destination from one device to the next."""
        passed: list[str] = []
        here = device
        while True:
            passed.append(here)
            hop, following = self.onward(here, destination)
            if hop is None:
                return Course(tuple(passed), "no route", None)
            if hop.means == "own":
                return Course(tuple(passed), "own", hop)
            if hop.means == "discard":
                return Course(tuple(passed), "discarded", hop)
            if hop.means == "connected" or (hop.next_hop is None and hop.means == "via"):
                return Course(tuple(passed), "delivered", hop)
            if following is None:
                return Course(tuple(passed), "leaves", hop)
            if following in passed:
                return Course((*passed, following), "loop", hop)
            here = following

    def onward(self, device: str, destination: Address) -> tuple[Hop | None, str | None]:
        """Return what a device does with a destination, and the next device; looked up once, many ways pass there."""
        key = device, destination
        if key not in self._hops:
            if len(self._hops) > MOST_HOPS:
                self._hops.clear()
            hop = self.table(device, destination.family).look_up(destination.value)
            self._hops[key] = hop, self.neighbour(device, hop) if hop is not None else None
        return self._hops[key]

    def loops(self, family: int) -> Iterator[tuple[int, tuple[str, ...]]]:
        """Find every set of devices that give some destination to one another in a circle.

        All tables are swept together in the order of addresses. A circle can only begin where an
        entry of one of its devices begins, so following the way from each device whose entry has
        just changed finds them all, at a cost that grows with the number of entries.

        Yields:
            The first address, as an integer, and the devices in order; each circle once.
        """
        changes: dict[int, list[tuple[str, str | None]]] = defaultdict(list)
        for name in self.devices if any(each.family == family for each in self.neighbours.holders) else ():
            for start, hop in self.table(name, family).intervals():
                changes[start].append((name, self.neighbour(name, hop) if hop is not None else None))
        following: dict[str, str | None] = {}
        told: set[frozenset[str]] = set()
        for start in sorted(changes):
            following.update(changes[start])
            for name, _ in changes[start]:
                circle = _circle(following, name)
                if circle and frozenset(circle) not in told:
                    told.add(frozenset(circle))
                    yield start, circle


def _circle(following: dict[str, str | None], name: str) -> tuple[str, ...]:
    """Return the circle that leads from a device back to it; empty if there is none."""
    passed = [name]
    here = following[name]
    while here is not None and here != name:
        if here in passed:
            return ()
        passed.append(here)
        here = following[here]
    return tuple(passed) if here == name else ()
