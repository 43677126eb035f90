"""Two configurations of one device compared for every packet: stage by stage, exactly.

If all stages are the same function, the devices are. Where a stage differs, the packets that it treats differently are
given as boxes; whether such a packet comes to that stage at all is for a walk to tell.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.links import comes_in, described, lent, proxy, wire
from agile_lattice.behaviour.matching import Match, Packet, Space
from agile_lattice.behaviour.stage_lists import LISTED, Listed, lines
from agile_lattice.behaviour.tables import Table
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.learned import families_learned, with_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal
from agile_lattice.intent.places import NOWHERE
from agile_lattice.intent.stages import overlap, split
from agile_lattice.packets import functions
from agile_lattice.packets.boxes import Box, Undecided, fused
from agile_lattice.packets.functions import Exactly, differing
from agile_lattice.packets.spans import minus

MOST_EXACT = 200  # regions of which the packets are worked out
MOST_PIECES = 4000  # boxes that are looked at to tell which packets of two rules no earlier rule decides
Part = Literal[
    "interface",
    "arrival",
    "reverse path",
    "way",
    "forwarding",
    "permits",
    "departure",
    "access",
    "answers",
    "replies",
]


class Region(msgspec.Struct, frozen=True):
    """Packets that one rule of each device decides in a stage: those that no earlier rule of either matches.

    Attributes:
        family: 4 or 6.
        matches: The packets; where working these out would take too much, what both rules match.
        some: Some of the packets of it that no earlier rule matches.
        example: One of them.
        at_most: Whether `matches` is what both rules match, of which earlier rules may decide some.
    """

    family: int
    matches: tuple[Match, ...]
    some: Match
    example: Packet
    at_most: bool = False

    def told(self, most: int) -> list[str]:
        """Say which packets they are, in so many pieces at most, and how many more there are."""
        words = [f"{'at most ' * self.at_most}{each}" for each in self.matches[:most]]
        more = len(self.matches) - most
        return [*words, f"and {more} more such pieces"] if more > 0 else words


class Parting(msgspec.Struct, frozen=True):
    """Packets that one stage of two devices treats differently.

    Attributes:
        part: The stage.
        left, right: What each device does with them, in words.
        region: The packets, where a list of rules decides.
        destinations: Their destinations, where only these count.
        interface: Their ingress or egress interface, where only that counts.
        family: Their family; `None` for both.
    """

    part: Part
    left: str
    right: str
    region: Region | None = None
    destinations: AddressSet | None = None
    interface: str = ""
    family: int | None = None


class Proof(msgspec.Struct, frozen=True):
    """What was found out about two devices.

    Attributes:
        partings: Where stages differ; if there are none and nothing is undecided, the devices are the same.
        undecided: What could not be decided, in words.
        entries: How many rules and routes were compared, on both sides together.
    """

    partings: tuple[Parting, ...]
    undecided: tuple[str, ...]
    entries: int

    @property
    def same(self) -> bool:
        """Whether every packet is treated the same."""
        return not self.partings and not self.undecided


def prove(left: Device, right: Device, lists: Sequence[Listed] = LISTED) -> Proof:
    """Compare two configurations of one device, for every packet.

    Args:
        left: The one; all that it answers for must be said or follow from its translations.
        right: The other, likewise.
        lists: Which lists of rules are compared; all else always is.
    """
    partings: list[Parting] = []
    undecided: list[str] = []
    for part in lists:
        for family in (4, 6):
            for one, other, choice in _worlds(left, right, part, family):
                found, unknown = _in_list(one, other, part, family, choice)
                partings += [each for each in found if each not in partings]
                undecided += [each for each in unknown if each not in undecided]
    instances = {one.instance for device in (left, right) for one in device.interfaces}
    instances |= {one.instance for device in (left, right) for one in device.routes}
    for instance in sorted({"", *instances}):
        for family in (4, 6):
            partings += _ways(left, right, family, instance)
    partings += _answers(left, right)
    partings += _settings(left, right)
    partings += _interfaces(left, right)
    undecided += _not_worked_out(left, right)
    undecided += _by_what_is_learned(left, right)
    entries = sum(len(each.routes) + len(each.translations) + len(each.permits) for each in (left, right))
    return Proof(tuple(partings), tuple(undecided), entries)


def common_space(left: Device, right: Device, family: int) -> Space:
    """Return the packets of two devices that have interfaces of the same names."""
    names = dict.fromkeys(each.name for device in (left, right) for each in device.interfaces)
    return Space([Interface(name) for name in names], family)


def _worlds(left: Device, right: Device, part: Listed, family: int) -> Iterator[tuple[Device, Device, int]]:
    """Yield both devices with what they learn, and which of equally good routes is taken, as far as that counts.

    It does where packets take an address of the interface by their next hop, and the interface has several.
    """
    several = any(len(lent(one, family)) > 1 for device in (left, right) for one in with_learned(device).interfaces)
    if part != "departure" or not several:
        yield with_learned(left), with_learned(right), 0
        return
    learning = any(families_learned(one) for device in (left, right) for one in device.interfaces)
    for first in (True, False)[: 1 + learning]:
        sides = with_learned(left, first), with_learned(right, first)
        tables = (Table(device, family, one.instance) for device in sides for one in device.interfaces)
        for choice in range(max((each.choices for each in tables), default=1)):
            yield *sides, choice


def _in_list(left: Device, right: Device, part: Listed, family: int, choice: int) -> tuple[list[Parting], list[str]]:
    """Compare a stage that is a list of rules; return where it differs, and what was not decided."""
    space = common_space(left, right, family)
    mine, its = lines(left, part, space, choice), lines(right, part, space, choice)
    entries = [each.entry for each in mine], [each.entry for each in its]
    try:
        found = differing(*entries, space.liked)
    except Undecided as error:
        return [], [f"{part}: {error}"]
    partings = []
    exactly = Exactly(*entries)
    for number, each in enumerate(found.regions):
        boxes, at_most = left_apart(each, exactly) if number < MOST_EXACT else (list(each.boxes), True)
        matches = space.words_of(boxes)
        region = Region(family, matches, space.words(each.some), space.example(each.some), at_most)
        partings.append(Parting(part, str(mine[each.left]), str(its[each.right]), region, family=family))
    unknown = [f"{part}: {mine[one]} or {its[other]}" for one, other in found.undecided]
    if found.unseen:
        unknown.append(f"{part}: {found.unseen} more pairs of overlapping rules were not examined")
    return partings, unknown


def left_apart(region: functions.Region, exactly: Exactly) -> tuple[list[Box], bool]:
    """Return the packets of a region, or all that it could be about if they are in too many pieces; and whether so."""
    try:
        return fused(exactly.boxes(region, MOST_PIECES)), False
    except Undecided:
        return list(region.boxes), True


def _ways(left: Device, right: Device, family: int, instance: str) -> Iterator[Parting]:
    """Compare forwarding tables, for every destination."""
    for mine, its, destinations in Table(left, family, instance).partings(Table(right, family, instance)):
        yield Parting("way", str(mine or "no route"), str(its or "no route"), destinations=destinations, family=family)


def _answers(left: Device, right: Device) -> Iterator[Parting]:
    """Compare what the devices answer for, besides their own addresses."""
    mine, its = (
        {(one.interface, one.addresses.family): one.addresses for one in normal_answers(each)} for each in (left, right)
    )
    for name, family in sorted({*mine, *its}):
        here, there = (each[name, family].spans if (name, family) in each else () for each in (mine, its))
        said, silent = f"{proxy(family)} on {name}", f"no {proxy(family)}"
        if missing := minus(here, there):
            yield Parting("answers", said, silent, destinations=AddressSet(family, missing), family=family)
        if extra := minus(there, here):
            yield Parting("answers", silent, said, destinations=AddressSet(family, extra), family=family)


def _settings(left: Device, right: Device) -> Iterator[Parting]:
    """Compare what is set on the devices as a whole."""
    for family in (4, 6):
        here, there = ("forwards" if each.forwards(family) else "does not forward" for each in (left, right))
        if here != there:
            yield Parting("forwarding", f"{here} IPv{family}", f"{there} IPv{family}", family=family)
    mode, other = (each.filters_by or "off" for each in (left, right))
    if mode != other:
        yield Parting("reverse path", mode, other, family=4)


def _interfaces(left: Device, right: Device) -> Iterator[Parting]:
    """Compare on which interfaces packets can arrive and leave, and what is behind them."""
    for name in dict.fromkeys(each.name for device in (left, right) for each in device.interfaces):
        if comes_in(name, (left, right)) and _state(left, name) != _state(right, name):
            here, there = (_state_in_words(each, name) for each in (left, right))
            yield Parting("interface", here, there, interface=name)


def _state(device: Device, name: str) -> Hashable:
    """Return what packets that enter or leave through an interface find there; nothing if it is not there or down."""
    port = device.interface(name)
    if port is None or not port.enabled or port.loopback:
        return None
    return port.instance, wire(device, name)


def _state_in_words(device: Device, name: str) -> str:
    port = device.interface(name)
    if port is None:
        return f"there is no interface {name}"
    instance = f", in {port.instance}" if port.instance else ""
    return f"{described(device, name)}, {'up' if port.enabled else 'down'}{instance}"


def _not_worked_out(left: Device, right: Device) -> Iterator[str]:
    """Name what packets could feel and what is not the same, but of which it is not worked out what it does to them."""
    mine, its = ({one.name: one for one in normal(each).interfaces} for each in (left, right))
    for name in sorted(mine.keys() & its.keys()):
        one, other = mine[name], its[name]
        if one.mtu != other.mtu:
            mtus = [str(each.mtu or each.usual_mtu) for each in (one, other)]
            yield f"the MTU of {name} differs ({' and '.join(mtus)}), and fragmentation is not followed"
        if (one.learns, one.dial) != (other.learns, other.dial):
            yield f"{name} learns its address in a different way, and what it learns is not known"
    if left.settings.helpers != right.settings.helpers:
        yield "connections have other helpers, and those that helpers let pass are not followed"
    joins = [{name: _bridging(one) for name, one in each.items()} for each in (mine, its)]
    for name in sorted(joins[0].keys() | joins[1].keys()):
        here, there = (each.get(name) for each in joins)
        if here != there and (any(here or ()) or any(there or ())):
            yield f"{name} is bridged differently, and traffic between the ports of a bridge is not followed"


def _bridging(one: Interface) -> tuple[object, ...]:
    return one.bridge, one.tagged, one.untagged


def _by_what_is_learned(left: Device, right: Device) -> Iterator[str]:
    """Name what depends on the address that an interface learns.

    Two lists that are the same function of all addresses that they name may still differ in which rule takes packets
    to a learned one, should it be one of these.
    """
    lists = [
        [replace(rule, name="", place=NOWHERE) for rule in split(normal(each).translations) if rule.stage == "arrival"]
        for each in (left, right)
    ]
    learning = {one.name for each in (left, right) for one in each.interfaces if families_learned(one)}
    learned = [
        rule
        for each in lists
        for rule in each
        if rule.own is not None
        and learning & ({*rule.arrives} if rule.arrives and rule.own == "interface" else learning)
    ]
    named = [rule for each in lists for rule in each if rule.destination is not None]
    if lists[0] != lists[1] and any(
        overlap(replace(one, destination=None), other) for one in learned for other in named
    ):
        yield "a service is published at a learned address, and which rule matches first depends on that address"
