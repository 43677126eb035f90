"""One packet, followed through a network: what each stage of each device does to it, and which rule decided.

The order of stages is that of `intent.stages`: destination NAT, route lookup, permits, source NAT.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec

from agile_lattice.behaviour.chained import Chained, entering
from agile_lattice.behaviour.connections import begins
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.links import asked_by
from agile_lattice.behaviour.pipeline import STOPS, End, Passing, Stage, in_words
from agile_lattice.behaviour.replies import Return, reply_to
from agile_lattice.behaviour.tables import to_routers
from agile_lattice.behaviour.topology import Topology

ReplyEnd = Literal["comes", "lost", "not known", "none"]


class Visit(msgspec.Struct, frozen=True):
    """A packet in one device.

    Attributes:
        device: The device.
        arrives: The ingress interface; empty if the device sends it itself.
        leaves: The egress interface; empty if there is none.
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
        end: `delivered` to a host on a link, `forwarded` to a next hop that the intent does not describe,
            `local` for one of the device's own addresses; or why it stops.
        reason: What there is to say of the end.
        answer: The reply as the sender sees it; `None` if the sender does not get it, or none is sent.
        obstacle: What is in the way although the packet gets there: nobody answers for its destination where it
            comes in, or the reply does not come to the sender; empty if nothing is.
        returns: The devices that the reply comes to, in order.
        reply: Whether the reply `comes` to the sender, is `lost`, is `none` since the packet asks for none or does not
            get there, or whether that is `not known`.
    """

    visits: tuple[Visit, ...]
    end: End
    reason: str
    answer: Header | None = None
    obstacle: str = ""
    returns: tuple[Return, ...] = ()
    reply: ReplyEnd = "none"

    @property
    def outcome(self) -> str:
        """The end in a sentence, without a full stop."""
        return in_words(self.end, self.reason)

    @property
    def fate(self) -> str:
        """The end, and what is in the way all the same, without a full stop."""
        return f"{self.outcome}, but {self.obstacle}" if self.obstacle else self.outcome

    @property
    def arrives(self) -> bool:
        """Whether the packet gets where it is meant to."""
        return self.end not in STOPS

    @property
    def succeeds(self) -> bool:
        """Whether the packet gets where it is meant to, and the reply to its sender."""
        return self.arrives and not self.obstacle

    @property
    def replied_elsewhere(self) -> bool:
        """Whether the reply passes other devices than the packet, or the same ones by other interfaces."""
        there = [(each.device, each.leaves, each.arrives) for each in reversed(self.visits)]
        back = [(each.device, each.arrives, each.leaves) for each in self.returns]
        return self.answer is not None and back != there


def walk(topology: Topology, header: Header, device: str, arrives: str) -> Walk:
    """Follow a packet.

    Args:
        topology: The network's devices as neighbours.
        header: The packet as it comes to the first device.
        device: The first device.
        arrives: The interface of it on which the packet arrives; empty if the device sends it itself.

    Raises:
        KeyError: If there is no such device or interface.
    """
    sent, passed = header, list[Passing | Chained]()
    seen: set[tuple[str, str, Header]] = set()
    while True:
        if arrives and topology.devices[device].interface(arrives) is None:
            raise KeyError(arrives)
        if (device, arrives, header) in seen:
            return Walk(_visits(passed), "loop", f"the packet comes back to {device} unchanged")
        seen.add((device, arrives, header))
        passing = entering(topology, device, arrives, header.source.family)
        stopped = passing.run(header)
        passed.append(passing)
        following = _following(topology, passing) if stopped is None else None
        if following is None:
            break
        header = passing.after
        device, arrives = following
    end, reason = stopped or _outside(passing)
    if end in STOPS:
        return Walk(_visits(passed), end, reason)
    missed = _not_asked_for(topology, passed[0])
    if not begins(sent):
        return Walk(_visits(passed), end, reason, obstacle=missed)
    reply = reply_to(topology, sent, passed, end)
    becomes: ReplyEnd = ("lost" if reply.lost else "comes") if reply.known else "not known"
    return Walk(_visits(passed), end, reason, reply.seen, missed or reply.lost, reply.returns, becomes)


def _visits(passed: Sequence[Passing | Chained]) -> tuple[Visit, ...]:
    return tuple(Visit(each.device.name, each.arrives, each.leaves, tuple(each.stages)) for each in passed)


def _following(topology: Topology, passing: Passing | Chained) -> tuple[str, str] | None:
    """Return the device that comes next, and the interface that the packet comes to it by."""
    next_hop = passing.hop.next_hop if passing.hop is not None else None
    here, leaves, after = passing.device.name, passing.leaves, passing.after
    takers = topology.neighbours.takers(here, leaves, next_hop or after.destination)
    taker = next((each for each in takers if each[0] != here), None)
    if taker is not None or next_hop is None or topology.uplinks.refused(here, leaves, after):
        return taker
    return topology.across(here, leaves, after.destination)


def _not_asked_for(topology: Topology, first: Passing | Chained) -> str:
    """Tell why a neighbour's packet does not come in: it asks for the destination, and the device does not answer."""
    device, destination = first.device, first.before.destination
    port = device.interface(first.arrives)
    subnet = port.subnet_of(destination) if port is not None else None
    if subnet is None or destination == to_routers(subnet):
        return ""
    own = any(each.device.name == device.name for each in topology.neighbours.holders.get(destination, ()))
    if own or any(destination in each.addresses for each in topology.answers(device.name)):
        return ""
    asked = asked_by(destination.family)
    return f"neighbours on {first.arrives} ask for {destination} ({asked}), and {device.name} does not answer"


def _outside(passing: Passing | Chained) -> tuple[End, str]:
    """Tell how a packet ends that leaves the devices of the intent."""
    hop, leaves = passing.hop, passing.leaves
    others = "".join(f", or {way}" for way in hop.way.others) if hop is not None else ""
    if hop is not None and hop.next_hop is not None:
        return "forwarded", f"to next hop {hop.next_hop} via {leaves}{others}"
    return "delivered", f"to {passing.after.destination} on {leaves}{others}"
