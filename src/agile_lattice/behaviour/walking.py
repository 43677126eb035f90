"""One packet, followed through a network: what each stage of each device does to it, and which rule decided.

The order of stages is that of `intent.stages`: destination NAT, route lookup, permits, source NAT.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from agile_lattice.behaviour.chained import Chained
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.links import asked_by
from agile_lattice.behaviour.pipeline import STOPS, End, Passing, Stage
from agile_lattice.behaviour.tables import Hop, to_routers
from agile_lattice.behaviour.topology import Topology


def in_words(end: End, reason: str) -> str:
    """Return how a packet ends in a sentence, without a full stop."""
    if end == "local":
        return reason
    if end in ("delivered", "forwarded"):
        return f"{end} {reason}"
    return f"{_STOPPED.get(end, end)}: {reason}"


_STOPPED: dict[End, str] = {"no route": "dropped", "loop": "forwarding loop"}


class Visit(msgspec.Struct, frozen=True):
    """A packet in one device.

    Attributes:
        device, arrives: The device, and the ingress interface.
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
        answer: What comes back to the sender, if the packet gets there; `None` if it does not.
        obstacle: What is in the way although the packet gets there: nobody answers for its destination where it
            comes in, or the answer does not come back by the way that the packet came; empty if nothing is.
    """

    visits: tuple[Visit, ...]
    end: End
    reason: str
    answer: Header | None = None
    obstacle: str = ""

    @property
    def outcome(self) -> str:
        """The end in a sentence, without a full stop."""
        return in_words(self.end, self.reason)

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
        arrives: The interface of it on which the packet arrives.

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
            return Walk(tuple(visits), "loop", f"the packet comes back to {device} unchanged")
        seen.add((device, arrives, header))
        rules = topology.following(device, header.source.family)
        passing = Passing(topology, here, arrives) if rules is None else Chained(topology, here, arrives, rules)
        stopped = passing.run(header)
        visits.append(Visit(device, arrives, passing.leaves, tuple(passing.stages)))
        if stopped is not None:
            end, reason = stopped
            answer = sent.answer if end not in STOPS else None
            return Walk(tuple(visits), end, reason, answer, _obstacle(topology, visits) if answer else "")
        header = visits[-1].after
        following = _following(topology, device, passing.hop, header)
        if following is None:
            end, reason = _outside(passing.hop, passing.leaves, header)
            obstacle = _host_answers(topology, visits[-1]) or _obstacle(topology, visits)
            return Walk(tuple(visits), end, reason, sent.answer, obstacle)
        device, arrives = following


def _obstacle(topology: Topology, visits: Sequence[Visit]) -> str:
    return _not_asked_for(topology, visits[0]) or _way_back(topology, visits)


def _not_asked_for(topology: Topology, visit: Visit) -> str:
    """Tell why a neighbour's packet does not come in: it asks for the destination, and the device does not answer."""
    device, destination = topology.devices[visit.device], visit.before.destination
    port = device.interface(visit.arrives)
    subnet = port.subnet_of(destination) if port is not None else None
    if subnet is None or destination == to_routers(subnet):
        return ""
    own = any(each.device.name == device.name for each in topology.holders.get(destination, ()))
    if own or any(destination in each.addresses for each in topology.answers(device.name)):
        return ""
    asked = asked_by(destination.family)
    return f"neighbours on {visit.arrives} ask for {destination} ({asked}), and {device.name} does not answer"


def _following(topology: Topology, device: str, hop: Hop | None, header: Header) -> tuple[str, str] | None:
    """Return the device that comes next, and the interface that the packet comes to it by."""
    target = hop.next_hop if hop is not None and hop.next_hop is not None else header.destination
    for port in topology.holders.get(target, ()):
        if port.device.name != device:
            return port.device.name, port.interface.name
    return None


def _outside(hop: Hop | None, leaves: str, header: Header) -> tuple[End, str]:
    others = "".join(f", or {way}" for way in hop.way.others) if hop is not None else ""
    if hop is not None and hop.next_hop is not None:
        return "forwarded", f"to next hop {hop.next_hop} via {leaves}{others}"
    return "delivered", f"to {header.destination} on {leaves}{others}"


def _host_answers(topology: Topology, visit: Visit) -> str:
    """Tell why the host that a packet reaches does not answer by the device that it came from; empty if it does."""
    source, destination = visit.after.source, visit.after.destination
    host = next((each for each in topology.network.hosts if each.address.address == destination), None)
    if host is None or host.gateway is None or (not host.address.is_host and host.address.contains(source)):
        return ""
    names = {port.device.name for port in topology.holders.get(host.gateway, ())}
    if visit.device in names:
        return ""
    owner = f"which is {' and '.join(sorted(names))}" if names else "which is no device's address"
    return f"{host.name} sends its reply to {host.gateway}, {owner}"


def _way_back(topology: Topology, visits: Sequence[Visit]) -> str:
    """Tell why the answer does not come back by the way of the packet; empty if it does.

    Each device turns the answer's destination back into the source that came to it, and looks that up.
    """
    for visit in reversed(visits):
        back = visit.before.source
        arrival = topology.devices[visit.device].interface(visit.arrives)
        hop = topology.table(visit.device, back.family, arrival.instance if arrival else "").look_up(back.value)
        if hop is None or hop.means == "discard":
            return f"{visit.device} has no route back to {back}"
        if hop.means != "own" and hop.interface != visit.arrives:
            return f"{visit.device} sends the reply out {hop.interface}, but the packet came in {visit.arrives}"
    return ""
