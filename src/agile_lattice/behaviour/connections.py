"""Which packets begin a connection, as the Linux kernel has it: only these are translated.

A message of ICMP that asks for nothing, such as an unexpected reply, belongs to no connection and begins none.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import PORT, PROTOCOL
from agile_lattice.intent.services import ICMP_PROTOCOLS, PROTOCOL_NUMBERS
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, minus

REQUESTS: Mapping[int, Spans] = {4: ((8, 8), (13, 13), (15, 15), (17, 17)), 6: ((128, 128), (139, 139))}
UNTRACKED: Mapping[int, Spans] = {4: (), 6: ((130, 137), (143, 143), (151, 152))}  # no connection is looked up for them
ICMP: Mapping[int, Spans] = {4: ((PROTOCOL_NUMBERS["icmp"],) * 2,), 6: ((PROTOCOL_NUMBERS["icmp6"],) * 2,)}


def begins(header: Header) -> bool:
    """Tell whether a packet begins a connection."""
    if header.protocol not in ICMP_PROTOCOLS or header.port is None:
        return True
    return any(first <= header.port <= last for first, last in REQUESTS[header.source.family])


def begins_as_stray(header: Header) -> bool:
    """Tell whether a reply, to a device that did not see the packet, begins a connection: one of UDP does."""
    return header.protocol == "udp"


def by_beginning(box: Box, family: int) -> Iterator[tuple[Box, bool]]:
    """Cut packets into those that begin a connection, and the others."""
    messages, requests = meet(box[PROTOCOL], ICMP[family]), meet(box[PORT], REQUESTS[family])
    for protocols, ports, begin in (
        (minus(box[PROTOCOL], ICMP[family]), box[PORT], True),
        (messages, requests, True),
        (messages, minus(box[PORT], requests), False),
    ):
        if protocols and ports:
            yield (*box[:PROTOCOL], protocols, *box[PROTOCOL + 1 : PORT], ports, *box[PORT + 1 :]), begin
