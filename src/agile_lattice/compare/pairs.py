"""Which rows of two lists decide the same packets, whether they do the same with them, and what that depends on."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.images import packets_apart, with_spans
from agile_lattice.behaviour.matching import Match, Packet, Space
from agile_lattice.behaviour.proving import left_apart
from agile_lattice.behaviour.rows import DIMENSIONS, Cases, Row
from agile_lattice.compare.plausible import Plausible
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.places import Place
from agile_lattice.intent.services import spell_ports
from agile_lattice.packets.actions import Action, same_on
from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import Box, Undecided, fused, overlap, remainder
from agile_lattice.packets.functions import Entry, Exactly, Region, differing
from agile_lattice.packets.spans import Spans
from agile_lattice.programs import model
from agile_lattice.programs.deciding import Asked
from agile_lattice.programs.lists import AS_THEY_CAME, TO_OTHERS
from agile_lattice.programs.model import Program

MOST_PAIRS = 8_000_000  # of boxes that are looked at
MOST_BOXES = 2000  # in which an example is looked for
MOST_EXAMPLES = 200  # that are looked for in all that is treated otherwise; behind them any packet will do


class Otherwise(msgspec.Struct, frozen=True):
    """Packets that a line of the device treats otherwise than the intent.

    Attributes:
        place: The line; nowhere for what happens where none matches.
        does: What it does, in words.
        packets: They; or what both match, where that is in too many pieces.
        example: A packet.
        stray: Whether all of them come from sources that do not belong behind their ingress interface.
        at_most: Whether earlier rules may decide some of `packets`.
        among: Which of these packets, in words: those from some source ports, say.
        depends: What it depends on whether they are treated otherwise, which nobody knows; empty if they are.
        conditional: Whether the line itself may apply or not; else it decides where another one does not.
        family: Their address family; `None` if it does the same with packets of both.
    """

    place: Place
    does: str
    packets: tuple[Match, ...]
    example: Packet
    stray: bool = False
    at_most: bool = False
    among: str = ""
    depends: tuple[str, ...] = ()
    conditional: bool = False
    family: int | None = None


class _Piece(msgspec.Struct, frozen=True):
    """Packets of a region: what they are in further dimensions, and on what it depends that they are of these."""

    region: Region
    boxes: Sequence[Box]
    at_most: bool
    asked: tuple[tuple[int, Spans], ...]
    depends: tuple[str, ...]


class Pairs:
    """The rows of an intent held against those of a device.

    Args:
        mine, its: Both lists.
        plausible: Which packets come to them.
        program: What decides on the device, if its rules are a program.
        apart: Packets that a program makes of others, as they are when they come to the list.

    Raises:
        Undecided: If there are too many pairs.
    """

    def __init__(
        self, mine: Sequence[Row], its: Sequence[Row], plausible: Plausible, program: Program | None,
        apart: Sequence[Row] = (),
    ) -> None:  # fmt: skip
        self.mine, self.its, self.plausible = mine, its, plausible
        self._program = program
        self.space: Space = plausible.space
        self.cases = Cases([*mine, *its], program.sizes if program is not None else {})
        self._never_made = self._not_made(apart)
        never = [self.cases.wide(each) for each in plausible.never]
        strays = [Entry(self.cases.wide(each), Action("strays")) for each in plausible.strays]
        impossible = [Entry(each, Action("cannot be")) for each in (*never, *self._never_made)]
        self.before, self.examples = len(impossible), 0
        self._unsaid = len(never)  # packets that cannot be either, and are told with others all the same
        left = [Entry(self.cases.wide(row.box), Action(("intent", at))) for at, row in enumerate(mine)]
        right = [Entry(self.cases.box(row), Action(("device", at))) for at, row in enumerate(its)]
        left, right = [*impossible, *left], [*impossible, *right]
        self.exact = Exactly(left[self._unsaid :], right[self._unsaid :])
        self.regions: dict[int, list[Region]] = {}
        for region in self._regions(left, right):
            self.regions.setdefault(region.left - self.before, []).append(region)
        self.proper = {
            (each.left - len(strays), each.right - len(strays))
            for each in self._regions([*strays, *left], [*strays, *right])
        }

    def _not_made(self, apart: Sequence[Row]) -> list[Box]:
        """Return packets that no rule makes of others, of those whose destination would have become another one."""
        if model.TRANSLATED not in self.cases.dimensions:
            return []
        whole = Row(self.space.box(), Action(""), "", Place(), further=((model.TRANSLATED, TO_OTHERS),))
        return remainder([self.cases.box(whole)], map(self.cases.box, apart))

    def _regions(self, left: list[Entry], right: list[Entry]) -> Sequence[Region]:
        found = differing(left, right, [*self.space.liked, *(() for _ in self.cases.whole)], MOST_PAIRS)
        if found.unseen or found.undecided:
            raise Undecided(len(found.regions))
        return found.regions

    @cached_property
    def _asked(self) -> Asked:
        assert self._program is not None, "only rows of programs need something"
        return Asked(self._program)

    def row_of(self, region: Region) -> Row:
        """Return the row of the device that decides about packets of a region."""
        return self.its[region.right - self.before]

    def alike(self, number: int, region: Region) -> bool:
        """Tell whether both rows do the same with all packets that they could decide."""
        one, other = self.mine[number].action, self.row_of(region)
        return other.known and all(same_on(one, other.action, box) for box in region.boxes)

    def same(self, number: int) -> list[Place]:
        """Return the lines of the device that do the same as a rule with some of its packets."""
        return [self.row_of(each).place for each in self.regions.get(number, ()) if self.alike(number, each)]

    def otherwise(self, number: int) -> list[Otherwise]:
        """Return what the device does otherwise with the packets of a rule, or may do: of each line once."""
        alike, others = list[Region](), list[Region]()
        for each in self.regions.get(number, ()):
            (alike if self.alike(number, each) else others).append(each)
        if not others:
            return []
        unread = [each for each in others if not self.row_of(each).known]
        every = _Rivals([*alike, *unread])
        uncertain = _Rivals([*(each for each in alike if self.row_of(each).needs), *unread])
        found: dict[object, list[_Piece]] = {}
        for each in others:
            row = self.row_of(each)
            for piece in self._pieces(number, each, every if row.needs else uncertain):
                key = row.place.file, row.place.line, row.does, piece.asked, piece.depends, bool(row.needs)
                found.setdefault(key, []).append(piece)
        return [self._words(pieces) for pieces in found.values()]

    def _pieces(self, number: int, region: Region, rivals: _Rivals) -> Iterator[_Piece]:
        """Yield the packets of a region, those apart that fare as rivals have it in some cases."""
        row = self.row_of(region)
        mine, its = self.mine[number].action, row.action
        boxes, at_most = self._exactly(region)
        boxes = fused([self.cases.any_case(one) for each in boxes for one in packets_apart(each, mine, its)])
        if not row.known:
            yield from self._asking(region, boxes, at_most, (f"{row.place}, which was not understood",))
            return
        beaten = {self.row_of(each): some for each, box in rivals.meeting(boxes) if (some := self._inside(each, box))}
        sure, open_ = boxes, list[Box]()
        if beaten:
            try:
                taken = [each for some in beaten.values() for each in some]
                sure = [] if at_most else remainder(boxes, taken, MOST_BOXES)
                open_ = remainder(boxes, sure, MOST_BOXES)
            except Undecided:
                sure, open_, at_most = [], boxes, True
        yield from self._asking(region, sure, at_most, ())
        yield from self._asking(region, open_, at_most, self._depends([row, *beaten]) if open_ else ())

    def _however_it_came(self, box: Box) -> Box:
        """Return packets that nothing redirects without that they are not redirected."""
        dimensions = self.cases.dimensions
        at = DIMENSIONS + dimensions.index(model.TRANSLATED) if model.TRANSLATED in dimensions else None
        if at is None or box[at] != AS_THEY_CAME:
            return box
        anything = [self.cases.whole[number] if each >= model.AS_IT_CAME else box[DIMENSIONS + number]
                    for number, each in enumerate(dimensions)]  # fmt: skip
        redirected = with_spans((*box[:DIMENSIONS], *anything, box[-1]), at, TO_OTHERS)
        try:
            made = remainder([redirected], self._never_made, MOST_BOXES)
        except Undecided:
            return box
        return box if made else with_spans(box, at, self.cases.whole[at - DIMENSIONS])

    def _asking(
        self, region: Region, boxes: Sequence[Box], at_most: bool, depends: tuple[str, ...]
    ) -> Iterator[_Piece]:
        """Yield packets by what they are in dimensions that not every list has."""
        together: dict[tuple[tuple[int, Spans], ...], list[Box]] = {}
        for box in fused([*map(self._however_it_came, boxes)]):
            together.setdefault(tuple(self.cases.asked(box)), []).append(box[:DIMENSIONS])
        for asked, members in together.items():
            yield _Piece(region, members, at_most, asked, depends)

    def _words(self, pieces: Sequence[_Piece]) -> Otherwise:
        """Say what a line does otherwise."""
        first = min(pieces, key=lambda piece: self._strays(piece.region))
        row, boxes = self.row_of(first.region), fused([box for piece in pieces for box in piece.boxes])
        example = self.space.example(self.plausible.ordinary(self._that_can_be(first)))
        return Otherwise(
            row.place, row.does, self.space.words_of(boxes), example, self._strays(first.region),
            any(piece.at_most for piece in pieces), _among(first.asked, self.space.family), first.depends,
            bool(row.needs) or not row.known, self.space.family,
        )  # fmt: skip

    def _strays(self, region: Region) -> bool:
        """Tell whether all packets of a region come from sources that do not belong where they come in."""
        return (region.left, region.right) not in self.proper

    def _inside(self, region: Region, boxes: Sequence[Box]) -> list[Box]:
        """Return which packets of some boxes are in a region, in any case: all that may be, if these are many."""
        try:
            found = self.exact.boxes(self._moved(replace(region, boxes=tuple(boxes))), MOST_BOXES)
        except Undecided:
            found = list(boxes)
        return [self.cases.any_case(each) for each in found]

    def _depends(self, rows: Iterable[Row]) -> tuple[str, ...]:
        """Say on what it depends which of some rows decides."""
        said = [self._asked.told(unknown) for row in rows for unknown, _ in row.needs]
        said += [f"{row.place}, which was not understood" for row in rows if not row.known]
        return tuple(dict.fromkeys(said))

    def _exactly(self, region: Region) -> tuple[list[Box], bool]:
        """Return the packets of a region, or all that it could be about if they are too many; and whether so."""
        self.examples += 1
        if self.examples > MOST_EXAMPLES:
            return list(region.boxes), True
        return left_apart(self._moved(region), self.exact)

    def _moved(self, region: Region) -> Region:
        """Return a region without the packets that cannot be before it: so others are told in fewer words."""
        return replace(region, left=region.left - self._unsaid, right=region.right - self._unsaid)

    def _that_can_be(self, piece: _Piece) -> Sequence[Box]:
        """Return those packets of a piece that can come to the list; some of its region if that takes too much."""
        try:
            found = remainder(piece.boxes, self.plausible.never, MOST_BOXES) if self.examples <= MOST_EXAMPLES else []
        except Undecided:
            found = []
        return found or [piece.region.some[:DIMENSIONS]]


class _Rivals:
    """Regions that may hold packets of others, in some cases."""

    def __init__(self, regions: Sequence[Region]) -> None:
        self._pieces = [(each, box) for each in regions for box in each.boxes]
        self._bounds = Bounds([box for _, box in self._pieces])

    def meeting(self, boxes: Iterable[Box]) -> Iterator[tuple[Region, list[Box]]]:
        """Yield the regions that hold packets of some boxes, with what both have in common."""
        found: dict[int, tuple[Region, list[Box]]] = {}
        for box in boxes if self._pieces else ():
            for at in self._bounds.meeting(box):
                region, piece = self._pieces[at]
                if (common := overlap(piece, box)) is not None:
                    found.setdefault(region.right, (region, []))[1].append(common)
        yield from found.values()


def _among(asked: Iterable[tuple[int, Spans]], family: int) -> str:
    """Say what packets are in dimensions that not every list has."""
    said = []
    for dimension, spans in asked:
        match dimension:
            case model.SOURCE_PORT:
                said.append(f"from source port {', '.join(map(spell_ports, spans))}")
            case model.TRANSLATED:
                said.append("after destination NAT" if spans == TO_OTHERS else "without destination NAT")
            case _ if dimension == model.PORT + model.AS_IT_CAME:
                said.append(f"that came in for port {', '.join(map(spell_ports, spans))}")
            case _:
                said.append(f"that came in for {AddressSet(family, spans)}")
    return ", ".join(said)
