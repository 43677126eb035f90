"""Rules held against the rules of a device by what they do, however they are written.

For each rule of the intent: the lines of the device that decide its packets, those that do the same and those that do
something else, with the packets. Then what lines of the device do with packets about which the intent says nothing.
Packets that cannot be are left out: those that would leave by an interface to which no route leads.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

import msgspec

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import (
    ARRIVES,
    DESTINATION,
    LEAVES,
    PROTOCOL,
    SOURCE,
    STRANGER,
    Match,
    Packet,
    Space,
)
from agile_lattice.behaviour.proving import common_space, left_apart
from agile_lattice.behaviour.sending import OTHER_STRANGER
from agile_lattice.behaviour.stage_lists import LISTED, Line, Listed, lines
from agile_lattice.behaviour.tables import Table
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN, Unknown
from agile_lattice.dialects.program_facts import AsideFact
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.packets.actions import Action, same_on
from agile_lattice.packets.boxes import Box, Undecided, overlap
from agile_lattice.packets.functions import Entry, Region, differing, exactly
from agile_lattice.packets.spans import Spans, meet, merged, minus

HOOKS: dict[Listed, str] = {"arrival": "arrival", "departure": "departure", "permits": "permit", "access": "access"}
MOST_BOXES = 2000  # in which an example is looked for
MOST_EXAMPLES = 200  # that are looked for in all that is treated otherwise; behind them any packet will do
Standing = Literal["same", "partly", "other", "nothing"]


class Otherwise(msgspec.Struct, frozen=True):
    """Packets that a line of the device treats otherwise than the intent.

    Attributes:
        place: The line; nowhere for what happens where none matches.
        does: What it does, in words.
        packets: They; or what both match, where that is in too many pieces.
        example: A packet.
        stray: Whether all of them come from sources that do not belong behind their ingress interface.
        at_most: Whether earlier rules may decide some of `packets`.
    """

    place: Place
    does: str
    packets: tuple[Match, ...]
    example: Packet
    stray: bool = False
    at_most: bool = False


class Counterpart(msgspec.Struct, frozen=True):
    """A rule of the intent, and what of the device does the same.

    Attributes:
        stage: Where it is asked.
        name: Its name; may be empty.
        place: Where it is written.
        does: What it does, in words.
        standing: Whether the device does the `same`, does it `partly`, does something `other`, or whether `nothing`
            comes to it.
        same: Lines of the device that do the same with some of its packets; nowhere for what needs no line.
        otherwise: What is treated otherwise.
        unless: What was not understood, and could decide about its packets before these; empty if nothing is.
    """

    stage: Listed
    name: str
    place: Place
    does: str
    standing: Standing
    same: tuple[Place, ...]
    otherwise: tuple[Otherwise, ...]
    unless: str = ""


class Beyond(msgspec.Struct, frozen=True):
    """What a line of the device does with packets about which no rule of the intent says anything."""

    stage: Listed
    packets: Otherwise


class Counterparts(msgspec.Struct, frozen=True):
    """The rules of a device held against those of its intent.

    Attributes:
        rules: The rules of the intent.
        beyond: What only the device does.
        undecided: What could not be compared, in words.
        stages: The lists that were compared.
        besides: Lines of the device that do what is wanted with packets about which no rule of it says anything.
    """

    rules: tuple[Counterpart, ...]
    beyond: tuple[Beyond, ...]
    undecided: tuple[str, ...] = ()
    stages: tuple[Listed, ...] = ()
    besides: tuple[Place, ...] = ()


def counterparts(
    intent: Device, there: Device, stages: Iterable[Listed] = LISTED, unknown: Unknown = NOTHING_UNKNOWN,
    maybe: Sequence[AsideFact] = (),
) -> Counterparts:  # fmt: skip
    """Hold the rules of a device against those of its intent.

    Args:
        intent: The device as it should be.
        there: As it is, with what nobody has looked at filled in.
        stages: Which lists.
        unknown: What of the device was not understood.
        maybe: Steps that may apply or not; the packets that they could be about are not compared.
    """
    stages, intent, there = tuple(stages), with_learned(intent), with_learned(there)
    rules: dict[tuple[Listed, object], Counterpart] = {}
    beyond: dict[tuple[object, ...], Beyond] = {}
    undecided: list[str] = []
    besides: list[Place] = []
    routed = not any(unknown.of(part) for part in ("routes", "interfaces"))
    for stage in stages:
        for family in (4, 6):
            try:
                pairs = _Pairs(intent, there, stage, family, maybe, routed)
            except Undecided as error:
                undecided.append(f"{stage}: {error}")
                continue
            for number, line in enumerate(pairs.mine):
                if line.rule is None:
                    for each in pairs.otherwise(number):
                        beyond.setdefault((stage, each.place.file, each.place.line, each.does), Beyond(stage, each))
                    besides += [each for each in pairs.same(number) if each.line]
                    continue
                key = stage, line.place.spot if line.place.line else id(line.rule)
                found = _counterpart(stage, line, pairs, number)
                rules[key] = _together(rules[key], found) if key in rules else found
    known = {(each.place.file, each.place.line) for each in maybe}
    unbound = [each for each in unknown.doubts if (each.place.file, each.place.line) not in known]
    told = [
        msgspec.structs.replace(each, unless=each.unless or _doubt(each, Unknown(tuple(unbound))))
        for each in rules.values()
    ]
    return Counterparts(tuple(told), tuple(beyond.values()), tuple(undecided), stages, tuple(_once(besides)))


def _doubt(rule: Counterpart, unknown: Unknown) -> str:
    """Tell what was not understood and could decide before the lines that were found for a rule; empty for nothing."""
    lines = [*rule.same, *(each.place for each in rule.otherwise)]
    return next((reason for each in lines if (reason := unknown.before(rule.stage, each))), "")


class _Pairs:
    """Which lines of two lists decide the same packets, and whether they do the same with them."""

    def __init__(
        self, intent: Device, there: Device, stage: Listed, family: int, maybe: Sequence[AsideFact], routed: bool
    ) -> None:
        self.space = common_space(intent, there, family)
        self.mine = lines(intent, stage, self.space)
        self.its = lines(there, stage, self.space)
        self.maybe = [
            (each, self.space.of_rule(bound))
            for each in maybe
            for bound in each.bounds
            if each.hook == HOOKS[stage] and self.space.speaks(bound)
        ]
        self.rows: list[Line | Place] = [*self.its]  # of the device, with what may apply or not where it stands
        for each, _ in self.maybe:
            if each.ordered and not any(isinstance(row, Place) and row.is_line_of(each.place) for row in self.rows):
                self.rows.insert(_where(self.rows, each.place), each.place)
        # Where a route was not understood, packets may leave by any interface.
        boxes = _impossible(there, self.space, stage) if routed else ()
        impossible = [Entry(box, Action("cannot be")) for box in boxes]
        self.cannot_be = len(impossible)
        impossible += [Entry(box, Action("may be")) for each, box in self.maybe if not each.ordered]
        strays = [Entry(box, Action("strays")) for box in _strays(there, self.space)]
        self.routed = list(_routed(there, self.space))
        self.own = {
            self.space.numbers[one.name]: [each.address for each in one.addresses if each.family == family]
            for one in there.interfaces
            if one.name in self.space.numbers
        }
        self.before, self.examples = len(impossible), 0
        left = [Entry(line.entry.box, Action(("intent", at))) for at, line in enumerate(self.mine)]
        right = [entry for at, row in enumerate(self.rows) for entry in self._entries(at, row)]
        self.row_of = [at for at, row in enumerate(self.rows) for _ in self._entries(at, row)]
        self.left, self.right = [*impossible, *left], [*impossible, *right]
        self.regions: dict[int, list[Region]] = {}
        self.doubted: dict[int, Place] = {}
        for region in self._regions(self.left, self.right):
            row = self.rows[self.row_of[region.right - self.before]]
            if isinstance(row, Place):
                self.doubted.setdefault(region.left - self.before, row)
            else:
                self.regions.setdefault(region.left - self.before, []).append(region)
        self.proper = {
            (each.left - len(strays), each.right - len(strays))
            for each in self._regions([*strays, *self.left], [*strays, *self.right])
        }

    def _entries(self, at: int, row: Line | Place) -> list[Entry]:
        """Return what a row of the device decides about, as entries of its own."""
        if isinstance(row, Place):
            return [Entry(box, Action(("may be", at))) for each, box in self.maybe if each.place.is_line_of(row)]
        return [Entry(row.entry.box, Action(("device", at)))]

    def _regions(self, left: list[Entry], right: list[Entry]) -> Sequence[Region]:
        found = differing(left, right, self.space.liked)
        if found.unseen or found.undecided:
            raise Undecided(len(found.regions))
        return found.regions

    def unless(self, number: int) -> str:
        """Tell which step may decide about packets of a rule, or not; empty if none does."""
        box = self.mine[number].entry.box
        anywhere = (each.place for each, bound in self.maybe if not each.ordered and overlap(box, bound))
        place = self.doubted.get(number) or next(anywhere, None)
        return "" if place is None else f"{place} may apply to some of its packets, or not"

    def alike(self, region: Region) -> bool:
        """Tell whether both lines do the same with all packets that they could decide."""
        mine, its = self.lines_of(region)
        one, other = mine.entry.action, its.entry.action
        return all(same_on(one, other, box) for box in region.boxes)

    def lines_of(self, region: Region) -> tuple[Line, Line]:
        """Return the lines that decide the packets of a region."""
        row = self.rows[self.row_of[region.right - self.before]]
        assert not isinstance(row, Place), "regions about which nothing is known are kept apart"
        return self.mine[region.left - self.before], row

    def ordinary(self, region: Region) -> Box:
        """Return packets of a region that people think of: of a usual protocol, and from where they belong."""
        self.examples += 1
        try:
            boxes = exactly(region, self.left, self.right, MOST_BOXES) if self.examples <= MOST_EXAMPLES else []
        except Undecided:
            boxes = []
        boxes = boxes or [region.some]
        box = min(boxes, key=self._unusual)
        box = with_spans(box, DESTINATION, _widest(box[DESTINATION]))
        for number, addresses in self.routed:
            inside = meet(box[SOURCE], addresses)
            if inside and meet(box[ARRIVES], ((number, number),)) and len(self.routed) > 1:
                stranger = STRANGER[self.space.family].value
                source = meet(inside, ((stranger, stranger),)) or _widest(inside)
                # What comes from outside is often for the device itself, as far as it can know.
                mine = self.own.get(number, ()) if source[0][0] == stranger else ()
                own = [(each.value, each.value) for each in mine]
                elsewhere = OTHER_STRANGER[self.space.family].value
                own.append((elsewhere, elsewhere))
                to = next((found for each in own if (found := meet(box[DESTINATION], (each,)))), box[DESTINATION])
                return with_spans(
                    with_spans(with_spans(box, ARRIVES, ((number, number),)), SOURCE, source), DESTINATION, to
                )
        return box

    def _unusual(self, box: Box) -> int:
        liked = self.space.liked[PROTOCOL]
        return next((at for at, each in enumerate(liked) if meet(box[PROTOCOL], ((each, each),))), len(liked))

    def same(self, number: int) -> list[Place]:
        """Return the lines of the device that do the same as a rule with some of its packets."""
        return [self.lines_of(each)[1].place for each in self.regions.get(number, ()) if self.alike(each)]

    def packets_of(self, region: Region) -> tuple[list[Box], bool]:
        """Return the packets of a region, with some that cannot be: so they are told in fewer words."""
        if self.examples > MOST_EXAMPLES:
            return list(region.boxes), True
        first = self.cannot_be
        moved = msgspec.structs.replace(region, left=region.left - first, right=region.right - first)
        return left_apart(moved, self.left[first:], self.right[first:])

    def otherwise(self, number: int) -> list[Otherwise]:
        """Return what the device does otherwise with the packets of a rule."""
        found = []
        for each in self.regions.get(number, ()):
            if not self.alike(each):
                line = self.lines_of(each)[1]
                boxes, at_most = self.packets_of(each)
                words = self.space.words_of(boxes)
                stray = (each.left, each.right) not in self.proper
                example = self.space.example(self.ordinary(each))
                found.append(Otherwise(line.place, _does(line), words, example, stray, at_most))
        return found


def _where(rows: Sequence[Line | Place], place: Place) -> int:
    """Return where a line of the text stands among others: behind the last that stands before it."""
    places = (row if isinstance(row, Place) else row.place for row in rows)
    return max((at for at, each in enumerate(places, 1) if each.stands_before(place)), default=0)


def _counterpart(stage: Listed, line: Line, pairs: _Pairs, number: int) -> Counterpart:
    same, otherwise = pairs.same(number), pairs.otherwise(number)
    name = line.rule.name if line.rule is not None else ""
    standing = _standing(bool(same), not all(each.stray for each in otherwise))
    return Counterpart(
        stage, name, line.place, _does(line), standing, tuple(_once(same)), tuple(otherwise), pairs.unless(number)
    )


def _together(one: Counterpart, other: Counterpart) -> Counterpart:
    """Put together what was found for the parts of a rule: its services, and both families."""
    same, otherwise = (*one.same, *other.same), (*one.otherwise, *other.otherwise)
    once = {(each.place.file, each.place.line, each.does): each for each in reversed(otherwise)}
    standing = _standing(bool(same), not all(each.stray for each in otherwise))
    return msgspec.structs.replace(
        one, standing=standing, same=tuple(_once(same)), otherwise=tuple(once.values())[::-1],
        unless=one.unless or other.unless,
    )  # fmt: skip


def _standing(same: bool, otherwise: bool) -> Standing:
    if not otherwise:
        return "same" if same else "nothing"
    return "partly" if same else "other"


def _once(places: Iterable[Place]) -> Iterator[Place]:
    found = {(each.file, each.line): each for each in places}
    yield from (found[key] for key in sorted(found))


def _widest(spans: Spans) -> Spans:
    return (max(spans, key=lambda span: span[1] - span[0]),)


def _does(line: Line) -> str:
    return str(line).partition(": ")[2] if line.rule is not None else str(line)


def _routed(device: Device, space: Space) -> Iterator[tuple[int, Spans]]:
    """Yield for each interface the addresses that routes lead to it; all, if nothing is said of what is behind it."""
    for name, number in space.numbers.items():
        one = device.interface(name)
        table = Table(device, space.family, one.instance if one is not None else "")
        there = merged(
            (first, last)
            for first, last, hop in table.within(*space.any_address[0])
            if hop is not None and any(way.interface == name for way in hop.way.each)
        )
        yield number, space.any_address if not there and (one is None or not one.addresses) else there


def _impossible(device: Device, space: Space, stage: Listed) -> Iterator[Box]:
    """Yield the packets of a list that never come to it: no route takes them where they would go out, or in."""
    if stage == "access":
        own = [own.address for one in device.interfaces for own in one.addresses]
        spans: list[Spans] = [((each.value, each.value),) for each in own if each.family == space.family]
        spans += [each.addresses.spans for each in normal_answers(device) if each.addresses.family == space.family]
        if spans:
            elsewhere = minus(space.any_address, merged(span for each in spans for span in each))
            yield with_spans(space.box(), DESTINATION, elsewhere)
    for number, there in _routed(device, space) if stage in ("permits", "departure") else ():
        if rest := minus(space.any_address, there):
            yield with_spans(with_spans(space.box(), LEAVES, ((number, number),)), DESTINATION, rest)


def _strays(device: Device, space: Space) -> Iterator[Box]:
    """Yield the packets that arrive on an interface from sources that are routed elsewhere."""
    for number, there in _routed(device, space):
        if rest := minus(space.any_address, there):
            yield with_spans(with_spans(space.box(), ARRIVES, ((number, number),)), SOURCE, rest)
