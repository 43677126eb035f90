"""The reply to a packet: from whoever sends it, through every device that it comes to, to the one who waits for it.

A device that saw the packet knows its connection: it takes back what it did to the addresses, and asks its lists of
rules again only if they are a program. One that did not see it takes the reply for any other packet.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.chained import Chained, entering
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.links import asked_by, cut_off
from agile_lattice.behaviour.pipeline import End, Passing, in_words
from agile_lattice.behaviour.tables import to_routers
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, Prefix

MOST_HOPS = 64
MOST_WAYS = 64  # that equally good routes give a reply


class Return(msgspec.Struct, frozen=True):
    """A reply in one device.

    Attributes:
        device: The device.
        arrives: The ingress interface; empty if the device sends the reply itself.
        leaves: The egress interface; empty if it ends there.
        before, after: The header as it came, and as it went on.
    """

    device: str
    arrives: str
    leaves: str
    before: Header
    after: Header


class Reply(msgspec.Struct, frozen=True):
    """What becomes of a reply.

    Attributes:
        seen: The reply as the sender of the packet sees it; `None` if it does not get it.
        returns: The devices that it comes to, in order.
        lost: Why the sender does not get it, or what is not known of that; empty if it does.
        known: Whether it is known what becomes of it.
    """

    seen: Header | None
    returns: tuple[Return, ...]
    lost: str = ""
    known: bool = True


def reply_to(topology: Topology, sent: Header, passed: Sequence[Passing | Chained], end: End) -> Reply:
    """Follow the reply to a packet that got to its destination.

    Args:
        topology: The network.
        sent: The packet as its sender wrote it.
        passed: The packet in each device that it passed.
        end: How it ended: `delivered`, `forwarded` or `local`.

    Returns:
        What becomes of the reply. Where equally good routes give it several ways, it is one on which it is lost.
    """
    returning = _Returning(topology, sent, passed)
    ways = list(islice(returning.from_end(end), MOST_WAYS + 1))
    if len(ways) > MOST_WAYS:
        ways.append(Reply(None, (), f"equally good routes give the reply more than {MOST_WAYS} ways", known=False))
    return min(ways, key=lambda each: (not each.lost, not each.known))


class _Returning:
    """A reply on its way; each method yields what becomes of it by each of the ways that it may take."""

    def __init__(self, topology: Topology, sent: Header, passed: Sequence[Passing | Chained]) -> None:
        self.topology, self.sent, self.passed = topology, sent, passed
        self.first, self.last = passed[0], passed[-1]

    def from_end(self, end: End) -> Iterator[Reply]:
        answer = self.last.after.answer
        if end == "local":
            yield from self._known(self.last, "", answer, ())
        elif end == "delivered":
            yield from self._from_host(answer)
        elif refused := self.topology.uplinks.refused(self.last.device.name, self.last.leaves, self.last.after):
            yield Reply(None, (), *refused)
        else:
            yield from self._from_link(answer)

    def _from_host(self, answer: Header) -> Iterator[Reply]:
        """Let the host that got the packet reply: to a neighbour directly, to others by its gateway."""
        me = answer.source
        host = self.topology.hosts.get(me)
        own = host.address if host is not None and not host.address.is_host else self._subnet(me)
        if own is not None and own.contains(answer.destination):
            yield from self._from_link(answer, directly=True)
            return
        if host is None or host.gateway is None:
            yield from self._at(self.last.device.name, self.last.leaves, answer, ())
            return
        gateway = self.topology.neighbours.takers(self.last.device.name, self.last.leaves, host.gateway)
        if not gateway:
            reason = f"{host.name} sends its reply to {host.gateway}, which is no device's address"
            yield Reply(None, (), reason)
            return
        yield from self._at(*gateway[0], answer, ())

    def _subnet(self, address: Address) -> Prefix | None:
        port = self.last.device.interface(self.last.leaves)
        return port.subnet_of(address) if port is not None else None

    def _from_link(self, answer: Header, directly: bool = False) -> Iterator[Reply]:
        """Let a neighbour on the last link send the reply: who takes it there, if its destination is on that link."""
        device, name = self.last.device.name, self.last.leaves
        subnet = self._subnet(answer.destination)
        if not directly and (subnet is None or answer.destination == to_routers(subnet)):
            yield from self._at(device, name, answer, ())
            return
        takers = self.topology.neighbours.takers(device, name, answer.destination)
        if takers:
            yield from self._at(*takers[0], answer, ())
            return
        if not self._is_senders(device, name, directly=True):
            asked = asked_by(answer.destination.family)
            why = (
                f"the packet came in {self.first.arrives}" if directly else f"no device answers for it there ({asked})"
            )
            reason = f"the reply is for {answer.destination} on {name}, and {why}"
            yield Reply(None, (), reason)
            return
        yield self._received(device, name, answer, (), directly=True)

    def _at(self, device: str, arrives: str, reply: Header, so_far: tuple[Return, ...]) -> Iterator[Reply]:
        """Let the reply come to a device."""
        if len(so_far) > MOST_HOPS or any((each.device, each.arrives) == (device, arrives) for each in so_far):
            yield Reply(None, so_far, f"the reply comes back to {device} by {arrives} again (forwarding loop)")
            return
        knows = (each for each in reversed(self.passed) if each.device.name == device and each.after.answer == reply)
        known = next(knows, None)
        if known is not None:
            yield from self._known(known, arrives, reply, so_far)
        else:
            yield from self._unknown(device, arrives, reply, so_far)

    def _known(
        self, known: Passing | Chained, arrives: str, reply: Header, so_far: tuple[Return, ...]
    ) -> Iterator[Reply]:
        """Let a device that saw the packet take back its translations, and send the reply on."""
        device = known.device
        restored = known.before.answer
        ended = (*so_far, Return(device.name, arrives, "", reply, restored))
        # What the device sends itself is routed before its connection is looked up.
        routed = replace(reply, destination=restored.destination) if arrives else reply
        here = Passing(self.topology, device, arrives or known.arrives)
        if reason := (cut_off(device, arrives) or here.reverse_path(routed)) if arrives else "":
            yield Reply(None, ended, f"{device.name} drops the reply: {reason}")
            return
        hop = here.table(reply.source.family).look_up(routed.destination.value)
        if hop is None or hop.means == "discard":
            yield Reply(None, ended, f"{device.name} has no route back to {routed.destination}")
            return
        if hop.means == "own":
            yield self._to_itself(known, ended)
            return
        if reason := here.not_known(routed, hop):
            yield Reply(None, ended, f"which way {device.name} sends the reply is not known: {reason}", known=False)
            return
        for way in hop.way.each:
            if reason := cut_off(device, way.interface):
                stopped: tuple[End, str] | None = ("dropped", reason)
            else:
                stopped = known.reply_stopped(reply, restored, arrives, way.interface)
            if stopped is not None:
                why = f"{device.name} gets the reply {routed}: {in_words(*stopped)}"
                yield Reply(None, ended, why, known=stopped[0] != "not known")
                continue
            passing = Return(device.name, arrives, way.interface, reply, restored)
            yield from self._out_of(device.name, way.interface, way.next_hop, restored, (*so_far, passing))

    def _to_itself(self, known: Passing | Chained, ended: tuple[Return, ...]) -> Reply:
        """Let the device take a reply to what it sent itself."""
        here = ended[-1]
        stopped = known.reply_stopped(here.before, here.after, here.arrives, "")
        if stopped is not None:
            why = f"{here.device} gets the reply {here.before}: {in_words(*stopped)}"
            return Reply(None, ended, why, known=stopped[0] != "not known")
        if known is not self.first or self.first.arrives:
            came = f"in {self.first.device.name} {self.first.arrives}"
            return Reply(None, ended, f"{here.device} takes the reply for its own, and the packet came {came}")
        return Reply(here.after, ended)

    def _unknown(self, device: str, arrives: str, reply: Header, so_far: tuple[Return, ...]) -> Iterator[Reply]:
        """Let a device that did not see the packet do with the reply what it does with any packet."""
        passing = entering(self.topology, device, arrives, reply.source.family, stray=True)
        stopped = passing.run(reply)
        about = f"the reply {reply} comes to {device} (in {arrives}), which did not see the packet"
        ended = (*so_far, Return(device, arrives, "", reply, passing.after))
        if stopped is not None:
            yield Reply(None, ended, f"{about}: {in_words(*stopped)}", known=stopped[0] != "not known")
            return
        if passing.after != reply:
            yield Reply(None, ended, f"{about}, and is translated there: {passing.after}")
            return
        for way in passing.hop.way.each if passing.hop is not None else ():
            here = Return(device, arrives, way.interface, reply, reply)
            yield from self._out_of(device, way.interface, way.next_hop, reply, (*so_far, here))

    def _out_of(
        self, device: str, leaves: str, next_hop: Address | None, reply: Header, so_far: tuple[Return, ...]
    ) -> Iterator[Reply]:
        """Let the reply leave a device: to the sender, where its packet came from, or to the next device."""
        if (device, leaves) == (self.first.device.name, self.first.arrives):
            yield self._received(device, leaves, reply, so_far, directly=next_hop is None)
            return
        others = [each for each in self.topology.neighbours.takers(device, leaves, next_hop or reply.destination)
                  if each[0] != device]  # fmt: skip
        entrance = self.topology.across(device, leaves, reply.destination) if next_hop is not None else None
        if others:
            yield from self._at(*others[0], reply, so_far)
        elif next_hop is not None and (refused := self.topology.uplinks.refused(device, leaves, reply)):
            yield Reply(None, so_far, *refused)
        elif entrance is not None:
            yield from self._at(*entrance, reply, so_far)
        else:
            yield self._received(device, leaves, reply, so_far, directly=next_hop is None)

    def _received(self, device: str, leaves: str, reply: Header, so_far: tuple[Return, ...], directly: bool) -> Reply:
        """Tell whether a reply that leaves all devices is what the sender waits for."""
        if not self._is_senders(device, leaves, directly) and not self._is_as_good(device, leaves, reply):
            by = next((each.arrives for each in self.passed if each.device.name == device), "")
            came = by or f"{self.first.device.name} {self.first.arrives}"
            return Reply(None, so_far, f"{device} sends the reply out {leaves}, and the packet came in {came}")
        if reply != self.sent.answer:
            how = "" if so_far else f" directly on {leaves}"
            wanted = _origin(self.sent.answer)
            return Reply(None, so_far, f"the reply comes{how} from {_origin(reply)}, and the sender wrote to {wanted}")
        return Reply(reply, so_far)

    def _is_senders(self, device: str, name: str, directly: bool) -> bool:
        """Tell whether the sender is there: behind the interface that the packet came in by, or on that link."""
        if (device, name) == (self.first.device.name, self.first.arrives):
            return True
        return directly and self.topology.neighbours.share_a_link(
            (device, name), (self.first.device.name, self.first.arrives)
        )

    def _is_as_good(self, device: str, leaves: str, reply: Header) -> bool:
        """Tell whether the sender is anywhere on public sides, and this one takes what has the reply's source."""
        sides = ((self.first.device.name, self.first.arrives), (device, leaves))
        if not all(self.topology.uplinks.is_public(*each) for each in sides):
            return False
        return (device, leaves) in self.topology.uplinks.of(reply.source)


def _origin(header: Header) -> str:
    port = "" if header.source_port is None else f" port {header.source_port}"
    return f"{header.source}{port}"
