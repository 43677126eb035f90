"""What passes through a stand-in: packets that somebody pretends to send, rules that they hit, and their translations.

No packet is sent: what becomes of one is worked out from the configuration, as the library does for any device.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

import msgspec

from agile_lattice.behaviour.flow_parsing import packet_of
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import walk
from agile_lattice.dialects.asking import What
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.services import PORT_PROTOCOLS

MOST = 1000  # flows that it knows; of more the oldest are forgotten
Facts = Mapping[str, object]


class Traffic(msgspec.Struct):
    """What passed through a device.

    Attributes:
        revision: The configuration that the counts are of: they begin anew with another one.
        hits: How often the rule was hit that begins at a line of it.
        flows: The packets that were sent, and the packet as the other end saw it.
        sent: How many packets came: each has a source port of its own.
    """

    revision: str = ""
    sent: int = 0
    hits: Counter[int] = msgspec.field(default_factory=Counter)
    flows: dict[Header, Header] = msgspec.field(default_factory=dict)

    def send(self, device: Device, revision: str, words: tuple[str, str, str], unplugged: str) -> str:
        """Pretend that a packet comes, and return what becomes of it.

        Args:
            device: The device, as its configuration says.
            revision: The configuration.
            words: Source, destination and service.
            unplugged: The interface that has no carrier, if one has none.

        Raises:
            NotationError: If it is no packet.
        """
        self.counts(revision)
        network = Network(device.name, (device,))
        try:
            behind = _behind(device, Address.parse(words[0]))
        except ValueError:
            behind = ""  # said below, of the packet
        sent = packet_of(network, words, f"{device.name}:{behind}" if device.interface(behind) else None)
        if unplugged and sent.arrives == unplugged:
            return f"lost: {unplugged} has no carrier"
        self.sent += 1
        header = msgspec.structs.replace(sent.header, source_port=self._port(sent.header))
        found = walk(Topology(network), header, sent.device, sent.arrives)
        rules = [each for each in found.visits[0].stages if each.stage != "way" and each.decided]
        self.hits.update({each.place.line for each in rules if each.place.line})
        if unplugged and found.visits[0].leaves == unplugged:
            return f"lost: {unplugged} has no carrier"
        if found.arrives:
            self.flows[header] = found.visits[0].after
            while len(self.flows) > MOST:
                del self.flows[next(iter(self.flows))]
        return found.outcome

    def counts(self, revision: str) -> Counter[int]:
        """Return how often the rules of a configuration were hit."""
        if revision != self.revision:
            self.revision, self.hits = revision, Counter()
        return self.hits

    def _port(self, header: Header) -> int | None:
        if header.protocol not in PORT_PROTOCOLS or header.source_port is None:
            return header.source_port
        return header.source_port + (self.sent - 1) % MOST


def first_way(device: Device) -> str:
    """Return the interface of the first route with a next hop; of a device without any, its last interface."""
    ways = (_behind(device, each.via) for each in device.routes if each.via is not None)
    last = device.interfaces[-1].name if device.interfaces else ""
    return next(filter(None, ways), last)


def _behind(device: Device, address: Address) -> str:
    hop = Topology(Network(device.name, (device,))).table(device.name, address.family).look_up(address.value)
    return (hop.interface or "") if hop is not None else ""


def told(what: What, device: Device, traffic: Traffic, revision: str, unplugged: str) -> Iterator[Facts]:
    """Yield what a device tells of what it does, by the names that a dialect has for it.

    Args:
        what: What is asked.
        device: The device, as its configuration says.
        traffic: What passed through it.
        revision: Its configuration.
        unplugged: The interface that has no carrier, if one has none.
    """
    if what == "hits":
        counts = traffic.counts(revision)
        lines = {each.place.line for each in (*device.translations, *device.permits, *device.access)}
        yield from ({"line": line, "count": counts[line]} for line in sorted(lines) if line)
    elif what == "translations":
        for sent, seen in traffic.flows.items():
            if sent == seen:
                continue
            back = seen.answer
            yield {
                "protocol": sent.protocol, "source": sent.source, "destination": sent.destination,
                "source_port": sent.source_port, "port": sent.port, "back_source": back.source,
                "back_destination": back.destination, "back_source_port": back.source_port, "back_port": back.port,
            }  # fmt: skip
    elif what == "neighbours":
        for address in dict.fromkeys(each.via for each in device.routes if each.via is not None):
            if unplugged and _behind(device, address) == unplugged:
                yield {"address": address, "interface": unplugged, "failed": "silent"}
    else:
        for each in device.interfaces:
            carrier = each.enabled and each.name != unplugged
            yield {"interface": each.name, "carrier": "up" if carrier else "down",
                   "received_errors": 0, "sent_errors": 0}  # fmt: skip
