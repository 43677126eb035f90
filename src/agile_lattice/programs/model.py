"""The one form of whatever decides packets: chains of entries, asked at hooks in order of priority.

A condition that no dimension can say is an `Unknown`, which is so or not so for each packet. So every entry is exact,
in the space of packets and unknowns; and a packet is decided if it fares alike whatever its unknowns are.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec

from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.packets.spans import Spans, merged

# Dimensions of a packet. The first six are those of every list of rules.
ARRIVES, LEAVES, PROTOCOL, SOURCE, DESTINATION, PORT = range(6)
SOURCE_PORT, STATE, TRANSLATED, FLAGS, MARK, CONNECTION_MARK = range(6, 12)
AS_IT_CAME = 16  # added to a dimension: as it was when the packet came in, whatever was done to it since
NEW, ESTABLISHED, RELATED, INVALID, UNTRACKED = range(5)  # states of the connection that a packet belongs to
TRACKED: Spans = ((NEW, RELATED),)  # packets that belong to a connection, or begin one
# Bits of what was translated of a packet: on which sides that was decided, and which of them became another one by it.
OF_DESTINATION, OF_SOURCE, NEW_DESTINATION, NEW_SOURCE = 1, 2, 4, 8

BEGINS: Mapping[int, Spans] = {FLAGS: ((2, 2),), MARK: ((0, 0),), CONNECTION_MARK: ((0, 0),)}  # each first packet: SYN
TRANSLATIONS = 16  # how many combinations of these bits there are
SparseBox = Mapping[int, Spans]  # what dimensions have to be; those that are not named may be anything
Hook = Literal["incoming", "access", "permit", "output", "outgoing"]
Kind = Literal["rate", "set", "time", "chance", "header", "system", "unread"]
TRACKING = -200  # the priority at which connections of incoming packets are looked up
TRANSLATING = {OF_DESTINATION: -100, OF_SOURCE: 100}  # the priorities at which all chains that translate are asked


class Unknown(msgspec.Struct, frozen=True):
    """A condition that is so for some packets and not so for others, which nobody can tell from their dimensions.

    Two of the same key are one condition, wherever they stand.

    Attributes:
        key: What it is: its words, and where each line has one of its own, the how-manieth of these words it is.
        kind: What it hangs on: a `rate`, a `set` whose members change, the `time`, `chance`, another field of the
            `header`, the `system`; or that it is `unread`.
    """

    key: str
    kind: Kind


class Constant(msgspec.Struct, frozen=True):
    """A dimension becomes a number."""

    number: int


class Moved(msgspec.Struct, frozen=True):
    """A dimension goes up by an offset, or down."""

    offset: int


class OneOf(msgspec.Struct, frozen=True):
    """A dimension becomes one of some numbers, as the device chooses."""

    numbers: Spans


class Mapped(msgspec.Struct, frozen=True):
    """A dimension becomes what a table has for the number of one, of itself or of another.

    Attributes:
        origin: Whose number it is.
        table: By that number.
    """

    origin: int
    table: tuple[int, ...]


Change = Constant | Moved | OneOf | Mapped


def image_of(change: Change | None, spans: Spans | None) -> Spans | None:
    """Return what a dimension that is an address or a port becomes; None if it may be anything.

    Args:
        change: What becomes of it; `None` if it stays as it is.
        spans: What it was; `None` for anything.
    """
    match change:
        case Constant(number):
            return ((number, number),)
        case OneOf(numbers):
            return numbers
        case Moved(offset):
            return tuple((first + offset, last + offset) for first, last in spans) if spans is not None else None
    return spans


Verdict = Literal["accept", "drop", "jump", "goto", "return", "go on", "not known"]


class Entry(msgspec.Struct, frozen=True):
    """What is done to the packets of a box.

    Attributes:
        box: The packets; of several boxes, there are several entries of one rule.
        verdict: What becomes of them; `go on` to the next entry, maybe changed.
        target: The chain that they jump or go to.
        changes: What becomes of their dimensions, in order.
        needs: Unknowns, and how they have to be.
        rule: Entries of one rule in succession share a number: at most one of them applies to a packet.
        name: What the rule is called.
        place: Where it is written.
    """

    box: SparseBox
    verdict: Verdict
    target: str = ""
    changes: tuple[tuple[int, Change], ...] = ()
    needs: tuple[tuple[Unknown, bool], ...] = ()
    rule: int = 0
    name: str = ""
    place: Place = NOWHERE


class Base(msgspec.Struct, frozen=True):
    """That a chain is asked about packets.

    Attributes:
        chain: Its name.
        hook: When: what comes in, what is for the device (`access`), what goes through it (`permit`), what it sends
            (`output`), what goes out.
        priority: The lowest is asked first.
        translates: The bit of what it translates: it is asked about first packets of connections only, and only if this
            was not translated yet; 0 if it translates nothing.
        passes: Whether packets pass that no entry decides.
        place: Where that is written.
    """

    chain: str
    hook: Hook
    priority: int = 0
    translates: int = 0
    passes: bool = True
    place: Place = NOWHERE

    @property
    def rank(self) -> tuple[int, int]:
        """When it is asked: chains that translate are asked together, among themselves by their priority."""
        return (TRANSLATING[self.translates], self.priority) if self.translates else (self.priority, 0)


class Program(msgspec.Struct, frozen=True):
    """What decides the packets of one family in one device.

    Attributes:
        sides: The interfaces, by their numbers; the last is that of packets which have none, or not yet.
        sizes: For each dimension how many numbers it has, from 0.
        chains: Entries, by the name of their chain.
        bases: The chains that are asked.
    """

    sides: tuple[str, ...]
    sizes: Mapping[int, int]
    chains: Mapping[str, tuple[Entry, ...]]
    bases: tuple[Base, ...]

    def asked(self, hook: Hook) -> list[Base]:
        """Return the chains that are asked at a hook, in their order."""
        return sorted((each for each in self.bases if each.hook == hook), key=lambda each: each.rank)

    def anything(self, dimension: int) -> Spans:
        """Return all numbers of a dimension."""
        return ((0, self.sizes[dimension] - 1),)


def with_bit(bit: int) -> Spans:
    """Return what may have been translated of packets that have a bit of it."""
    return merged((number, number) for number in range(TRANSLATIONS) if number & bit)


def bits_added(bits: int) -> Mapped:
    """Return what becomes of what was translated of a packet, when more of it is."""
    return Mapped(TRANSLATED, tuple(number | bits for number in range(TRANSLATIONS)))
