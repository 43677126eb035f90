"""Translations in use, as the tracking of connections tells them, and the rules that made them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import msgspec

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place

PORTS = ("port", "source_port", "back_port", "back_source_port")
PROTOCOLS = {"icmpv6": "icmp6"}


class InUse(msgspec.Struct, frozen=True):
    """A flow that is translated.

    Attributes:
        sent: The packet as its sender sent it.
        seen: The packet as the other end sees it.
        rules: The rules that make that of it, in words; none if no rule of the device does it any more.
        places: Where these rules are written.
    """

    sent: Header
    seen: Header
    rules: tuple[str, ...] = ()
    places: tuple[Place, ...] = ()

    @property
    def outlives(self) -> bool:
        """Whether no rule makes it any more: it goes on until it ends by itself."""
        return not self.rules


def translations_in_use(told: Iterable[Mapping[str, str]], device: Device, topology: Topology) -> Iterator[InUse]:
    """Yield the flows that are translated.

    Args:
        told: What the device tells of each flow: the packet as it was sent, and the reply to it.
        device: The device, with the rules that it has.
        topology: The network with that device.
    """
    for each in told:
        both = _both(each)
        if both is None:
            continue
        sent, seen = both
        if (sent.source, sent.destination, sent.port, sent.source_port) == (
            seen.source, seen.destination, seen.port, seen.source_port,
        ):  # fmt: skip
            continue
        found = _walked(sent, device, topology)
        yield InUse(sent, seen, *_rules(found, seen))


def _both(told: Mapping[str, str]) -> tuple[Header, Header] | None:
    """Return the packet as it was sent and as the other end sees it; the second from the reply to it."""
    name = PROTOCOLS.get(told["protocol"], told["protocol"])
    numbers = {each: int(told[each]) for each in PORTS if each in told}
    try:
        sent = Header(
            Address.parse(told["source"]), Address.parse(told["destination"]), name,
            numbers.get("port"), numbers.get("source_port"),
        )  # fmt: skip
        seen = Header(
            Address.parse(told["back_destination"]), Address.parse(told["back_source"]), name,
            numbers.get("back_source_port", sent.port), numbers.get("back_port"),
        )  # fmt: skip
    except ValueError:
        return None
    return sent, seen


def _walked(sent: Header, device: Device, topology: Topology) -> Walk | None:
    """Follow the packet from the interface behind which its source is; the tracking does not tell where it came in."""
    hop = topology.table(device.name, sent.source.family).look_up(sent.source.value)
    arrives = hop.interface if hop is not None else None
    return walk(topology, sent, device.name, arrives) if arrives and device.interface(arrives) else None


def _rules(found: Walk | None, seen: Header) -> tuple[tuple[str, ...], tuple[Place, ...]]:
    if found is None:
        return (), ()
    changing = [
        each for each in found.visits[0].stages if each.stage in ("arrival", "departure") and each.before != each.after
    ]
    after = found.visits[0].after
    # The system may take another source port, and of a pool any address.
    pool = next((each.pool for each in changing if each.pool is not None), None)
    source = seen.source == after.source or (pool is not None and seen.source in pool)
    if not changing or not source or (seen.destination, seen.port) != (after.destination, after.port):
        return (), ()
    return tuple(each.decided for each in changing), tuple(each.place for each in changing)
