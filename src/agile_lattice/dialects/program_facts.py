"""Facts of a ruleset that is a program: chains of steps, some of which the system asks itself, others jump to.

They are only read. A pass (`passes/programs.py`) makes lists of rules of them, in which the first that matches decides.
"""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.packets.spans import Spans

# Conditions that no list of rules of an intent can ask for, in words.
BEYOND_LISTS = {
    "way_back": "the way back to its source",
    "source_types": "the type of its source",
    "destination_types": "the type of its destination",
    "either_ports": "one of both ports",
    "protocols": "a protocol by its number",
    "translated": "whether it was translated",
    "source_ports": "source ports",
    "original_source": "the source as it came",
    "original_destination": "the destination as it came",
    "original_ports": "the port as it came",
    "mark": "its mark",
    "not_mark": "its mark",
    "connection_mark": "the mark of its connection",
    "not_connection_mark": "the mark of its connection",
}
CONDITIONS = ("rate", "chance", "time", "members", "header", "system", "unread")


class PortSetFact(msgspec.Struct, frozen=True):
    """Ports, or types of ICMP, that are declared apart, and used by name."""

    name: str
    ports: Spans = ()
    table: str = ""
    family: int = 0
    place: Place = NOWHERE


class ChainFact(msgspec.Struct, frozen=True):
    """That there is a chain, which steps can jump to."""

    chain: str
    table: str = ""
    family: int = 0
    place: Place = NOWHERE


class BaseChainFact(msgspec.Struct, frozen=True):
    """That the system asks a chain itself: for which packets, and before which others.

    Attributes:
        hook: For packets to be rewritten on `arrival` or `departure`, those that are forwarded (`permit`), those to the
            device itself (`access`), those that it sends (`output`), all that are `incoming`, or all `outgoing`.
        priority: The lowest is asked first.
        after, before: What is added to it, and taken from it.
        alone: Whether nothing is said of the other family, which another program is for.
    """

    chain: str
    hook: Literal["arrival", "departure", "permit", "access", "output", "incoming", "outgoing"]
    table: str = ""
    family: int = 0
    priority: str = "0"
    after: int = 0
    before: int = 0
    alone: bool = False
    place: Place = NOWHERE

    @property
    def rank(self) -> int:
        """When it is asked: the lowest first."""
        return int(self.priority) + self.after - self.before


class PolicyFact(msgspec.Struct, frozen=True):
    """What becomes of packets that no step of a chain decides about."""

    chain: str
    verdict: Literal["pass", "drop"]
    table: str = ""
    family: int = 0
    place: Place = NOWHERE


class StepFact(msgspec.Struct, frozen=True):
    """One step of a chain: what it matches, and what happens then.

    Attributes:
        verdict: What becomes of a packet: `pass`, `drop`; `keep` it as it is, `rewrite`, `shift`, `egress` or
            `ingress`, as in `stages.Rule`; `jump` to `target` and come back, `goto` it for good; `return` to where this
            chain was jumped to; or `next`.
        family: 4 or 6; 0 for both.
        arrives, leaves: Interfaces: `!lan0` is any other one, `eth*` any whose name begins so.
        source, destination: Addresses, or the name of a set of them; `!hosts` is all others.
        ports: Ports, or the name of a set of them, in the same way.
        state: States of the connection of which the packet has one: `new`, `established`, `related`, `invalid`;
            `!new` is any other one. `dnat` asks whether its destination was rewritten.
        mask, flags: Flags of TCP, and which of them are set, or `none`; `!syn` is any others. Any of the mask, if only
            that is given; all flags count without one.
        only: The one family that its conditions are about, 4 or 6, if its table is for both.
        protocols: The numbers of protocols of which the packet has one.
        translated: What was translated of the packet: `dnat`, `snat`, or one of both; with `!dnat`, it was not.
        either_ports: Ports of which one of both is one.
        way_back: Whether there is a route back to the source: by the interface that the packet came in by (`here`), by
            any, or not.
        source_types, destination_types: What addresses are to the device: `local`, `unicast`, `broadcast`, `multicast`;
            `!local` is any other.
        source_ports: Source ports, as `ports`.
        original_source, original_destination, original_ports: As they were when the packet came in.
        mark, not_mark: The marks that the packet has, or has not; `mark_mask` are the bits that are looked at.
        connection_mark, not_connection_mark, connection_mask: Likewise for the mark of its connection.
        marks: Which mark becomes another one: that of the packet, or of its connection.
        mark_from: Which mark that is made of; nothing if it is a number.
        mark_keeps, mark_clears: The bits that are kept, or that are not; all are kept if nothing is said.
        mark_value, mark_flips: The bits that are added, and those that are turned round.
        packet_mask, connection_bits: The bits of the mark of a packet, and of its connection, that one takes from the
            other; `both_masks` if these are the same.
        tracked: Whether the packet has to belong to a connection, or begin one.
        untracked: Whether no connection is looked up for the packet.
        to_ports: Ports of which one becomes the port.
        rate, chance, time, members, header, system, unread: Conditions in their words, by what they hang on: how many
            packets there were, chance, the time, who is in a set that changes, a field of the header that nothing
            changes, anything else that the system knows, or nobody knows what. The step may apply or not.
        unknown: What the step says from where it is not recognised: all that can become of what it matches before.
    """

    chain: str
    verdict: Literal[
        "pass", "drop", "keep", "rewrite", "shift", "egress", "ingress", "jump", "goto", "return", "next"
    ] = "next"
    table: str = ""
    family: int = 0
    target: str = ""
    arrives: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    source: AddressSet | str | None = None
    destination: AddressSet | str | None = None
    protocol: str | None = None
    ports: Spans | str | None = None
    own: Literal["interface", "device"] | None = None
    to: AddressSet | None = None
    to_port: int | None = None
    state: tuple[str, ...] | None = None
    mask: tuple[str, ...] | None = None
    flags: tuple[str, ...] | None = None
    only: int | None = None
    protocols: Spans | None = None
    translated: tuple[str, ...] | None = None
    either_ports: Spans | None = None
    way_back: Literal["here", "not-here", "any", "none"] | None = None
    source_types: tuple[str, ...] | None = None
    destination_types: tuple[str, ...] | None = None
    source_ports: Spans | str | None = None
    original_source: AddressSet | None = None
    original_destination: AddressSet | None = None
    original_ports: Spans | None = None
    mark: Spans | None = None
    not_mark: Spans | None = None
    mark_mask: int | None = None
    connection_mark: Spans | None = None
    not_connection_mark: Spans | None = None
    connection_mask: int | None = None
    marks: Literal["packet", "connection"] | None = None
    mark_from: Literal["packet", "connection"] | None = None
    mark_keeps: int | None = None
    mark_clears: int | None = None
    mark_value: int | None = None
    mark_flips: int | None = None
    packet_mask: int | None = None
    connection_bits: int | None = None
    both_masks: int | None = None
    tracked: bool = False
    untracked: bool = False
    to_ports: Spans | None = None
    rate: str = ""
    chance: str = ""
    time: str = ""
    members: str = ""
    header: str = ""
    system: str = ""
    unread: str = ""
    unknown: str = ""
    name: str = ""
    place: Place = NOWHERE

    @property
    def states(self) -> tuple[str, ...] | None:
        """States of the connection; that its destination was rewritten, and nothing else, is one for lists of rules."""
        return ("dnat",) if self.state is None and self.translated == ("dnat",) else self.state

    @property
    def unmodelled(self) -> str:
        """The conditions that no list of rules of an intent can ask for."""
        said = [getattr(self, kind) for kind in CONDITIONS]
        known = {"translated"} if self.states is not self.state else set()
        said += [words for name, words in BEYOND_LISTS.items() if name not in known and getattr(self, name) is not None]
        return ", ".join(dict.fromkeys(each for each in said if each))

    @property
    def beyond_lists(self) -> str:
        """What it does that no list of rules of an intent can say."""
        return "a range of ports" if self.to_ports is not None else ""


class AsideFact(msgspec.Struct, frozen=True):
    """A step, or a whole chain, of which it is not worked out what it does.

    Attributes:
        hook: Where it is asked.
        reason: Why not.
        ordered: Whether all that is decided before it stands before it in the text, and all else behind it.
        unread: Whether not all of its words were recognised, or nothing says when it is asked.
    """

    hook: str
    reason: str
    place: Place
    ordered: bool = False
    unread: bool = False


class AbsentFact(msgspec.Struct, frozen=True):
    """That a list may drop something that is meant to pass.

    Attributes:
        place: What may drop it.
        lets: What it is: `replies`, `answers` that the device itself sends, or messages of its `neighbours`.
        rules: What becomes of it for certain, the first that matches; of what none matches that is not known.
        family: The one address family of it; `None` for both.
    """

    hook: str
    place: Place
    lets: str = "replies"
    rules: tuple[Passage, ...] = ()
    family: int | None = None
