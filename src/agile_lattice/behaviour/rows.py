"""Lists of a device as rows that can be compared, whether its rules are those of an intent or a program.

Some rows ask for more than the six dimensions of every list: for what was done to a packet before, for its source port,
or for what nobody knows. Of all that nobody knows one dimension is made, which has a number for each case that makes a
difference to some row. Packets are alike in all cases if no row that holds them asks for one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import product

import msgspec

from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.program_stage import HOOKS, action_of, by_state
from agile_lattice.behaviour.stage_lists import DROP, KEEP, Line, Listed, lines
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.actions import Action
from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import Box, Undecided, remainder
from agile_lattice.packets.functions import Entry
from agile_lattice.packets.spans import Spans, meet, merged
from agile_lattice.programs import model
from agile_lattice.programs.following import Part, Taken
from agile_lattice.programs.lists import AS_THEY_CAME, TO_OTHERS, listed
from agile_lattice.programs.model import Mapped, Program, SparseBox, Unknown

DIMENSIONS = 6  # of every list
MOST_PIECES = 2000  # boxes that are looked at to tell which packets a rule sends elsewhere
MOST_FACES = 4  # unknowns of which all cases are told apart that rows ask for both ways
TRANSLATES: dict[Listed, int] = {"arrival": model.OF_DESTINATION, "departure": model.OF_SOURCE}


class Row(msgspec.Struct, frozen=True, gc=False):
    """A row of a list.

    Attributes:
        box: The packets.
        action: What becomes of them.
        does: That in words.
        place: Where it is written; nowhere for what happens where no rule matches.
        rule: The rule of an intent; `None` for others, and for what happens where none matches.
        further: What more than that it asks for, by dimensions that not every list has.
        needs: What nobody knows and has to be so.
        known: Whether what it does was understood.
    """

    box: Box
    action: Action
    does: str
    place: Place
    rule: Rule | Passage | None = None
    further: tuple[tuple[int, Spans], ...] = ()
    needs: Taken = ()
    known: bool = True


def rows_of(device: Device, part: Listed, space: Space, program: Program | None = None, choice: int = 0) -> list[Row]:
    """Return a list of a device as rows, of which the first decides that holds a packet.

    Args:
        device: The device, with what it learns.
        part: The list.
        space: The packets.
        program: What decides in it, where its rules are a program.
        choice: Which of several equally good routes is taken, where they are not.

    Raises:
        Undecided: If they are too many.
        Unlisted: If what the program does is no list.
    """
    if program is None:
        return [_of_line(each) for each in lines(device, part, space, choice)]
    return [row for each in _listed(program, part, space) if (row := _of_part(each, part, space, program)) is not None]


def _listed(program: Program, part: Listed, space: Space) -> list[Part]:
    states: dict[int, list[SparseBox]] = {}
    if part in TRANSLATES:
        states[model.NEW] = [{}]  # others do not come to it
    else:
        for state, box in by_state(space.box(), space.family):
            states.setdefault(state, []).append({each: box[each] for each in (model.PROTOCOL, model.PORT)})
    return listed(program, HOOKS[part], TRANSLATES.get(part, 0), states)


def _of_line(line: Line) -> Row:
    does = str(line).partition(": ")[2] if line.rule is not None else str(line)
    return Row(line.entry.box, line.entry.action, does, line.place, line.rule)


def _of_part(part: Part, stage: Listed, space: Space, program: Program) -> Row | None:
    """Return a row of a program as one of a device; None if it is about no packets of that."""
    whole = space.box()
    box = tuple(meet(part.box.get(each, spans), spans) for each, spans in enumerate(whole))
    if not all(box):
        return None
    further = tuple((dimension, spans) for dimension, spans in sorted(part.box.items()) if dimension >= DIMENSIONS)
    rewrites = stage in TRANSLATES
    translated = part.now.get(model.TRANSLATED)
    if rewrites and isinstance(translated, Mapped) and translated.table[0] == TRANSLATES[stage]:
        return None  # it becomes what it was: the row behind it, which makes that of all others, says the same
    if part.outcome == "accept":
        action = action_of(part, program, box)
        does = _becomes(part, space, box) if rewrites else "permitted"
    else:
        action, does = DROP, "dropped" if part.outcome == "drop" else "not understood"
    return Row(box, action, does, part.decided_by, None, further, part.taken, part.outcome != "not known")


def _becomes(part: Part, space: Space, box: Box) -> str:
    """Say what a program makes of packets."""
    said = []
    for name, dimension, port in (
        ("destination", model.DESTINATION, model.PORT), ("source", model.SOURCE, model.SOURCE_PORT),
    ):  # fmt: skip
        if dimension in part.now:
            becomes = model.image_of(part.now[dimension], box[dimension]) or ()
            said.append(f"{name} becomes {AddressSet(space.family, becomes)}")
        if ports := model.image_of(part.now.get(port), None):
            first, last = ports[0][0], ports[-1][1]
            said.append(f"port {first}" if first == last else f"port one of {first}-{last}")
    return ", ".join(said) or "unchanged"


class Cases:
    """The dimensions that rows have besides those of every list: what they ask for, and the cases of what nobody knows.

    Args:
        rows: All rows that are compared.
        sizes: How many numbers a dimension has.

    Attributes:
        dimensions: Those that rows ask for.
        whole: All numbers of each of them, and all cases.
    """

    def __init__(self, rows: Iterable[Row], sizes: Mapping[int, int]) -> None:
        rows = list(rows)
        self.dimensions = sorted({dimension for each in rows for dimension, _ in each.further})
        needs = dict.fromkeys(each.needs for each in rows)
        self._cases = _cases(list(needs))
        self._spans = {each: self._so(each) for each in needs}
        all_cases = ((0, len(self._cases) - 1),)
        self.whole: Box = (*(_anything(each, sizes) for each in self.dimensions), all_cases)

    def box(self, row: Row) -> Box:
        """Return the packets of a row, in all dimensions."""
        further = dict(row.further)
        own = (further.get(each, spans) for each, spans in zip(self.dimensions, self.whole, strict=False))
        return (*row.box, *own, self._spans.get(row.needs, self.whole[-1]))

    def entry(self, row: Row) -> Entry:
        """Return a row as an entry that does what the row does; where that was not understood, it is like no other."""
        action = row.action if row.known else Action(("not understood", row.place.file, row.place.line))
        return Entry(self.box(row), action)

    def wide(self, box: Box) -> Box:
        """Return packets of every list, whatever the other dimensions are."""
        return (*box, *self.whole)

    def asked(self, box: Box) -> list[tuple[int, Spans]]:
        """Return what packets are in the dimensions besides those of every list, where they are not anything."""
        beyond = zip(self.dimensions, box[DIMENSIONS:], self.whole, strict=False)
        return [(dimension, spans) for dimension, spans, whole in beyond if spans != whole]

    def any_case(self, box: Box) -> Box:
        """Return a box for all cases."""
        return (*box[:-1], self.whole[-1])

    def _so(self, needs: Taken) -> Spans:
        wanted = frozenset(needs)
        return merged((number, number) for number, case in enumerate(self._cases) if wanted <= case)


def _anything(dimension: int, sizes: Mapping[int, int]) -> Spans:
    """Return all numbers of a dimension; of what was translated, those that packets have when they come to a list."""
    if dimension == model.TRANSLATED:
        return (*AS_THEY_CAME, *TO_OTHERS)
    return ((0, sizes[dimension % model.AS_IT_CAME] - 1),)


def _cases(needs: Sequence[Taken]) -> list[frozenset[tuple[Unknown, bool]]]:
    """Return cases in which each row that asks for what nobody knows decides, if it does so in any at all.

    What one row needs is so in a case, and nothing else: a row before it that would be so, too, is so in every case of
    both. Of what rows ask for both ways, every case is told apart.
    """
    literals = {each for some in needs for each in some}
    faces = sorted(
        {unknown for unknown, so in literals if so and (unknown, False) in literals}, key=lambda one: one.key
    )
    found: dict[frozenset[tuple[Unknown, bool]], None] = {}
    for some in [(), *needs]:
        said = {unknown for unknown, _ in some}
        free = [each for each in faces[:MOST_FACES] if each not in said]
        for ways in product((False, True), repeat=len(free)):
            found[frozenset((*some, *zip(free, ways, strict=True)))] = None
    return list(found)


def redirected(program: Program, space: Space) -> list[Row]:
    """Return packets that a program sends elsewhere, as they are behind that, and what they were.

    Args:
        program: The program.
        space: The packets.

    Returns:
        Rows that do nothing; a packet may be in several.
    """
    pairs = [(part, _of_part(part, "arrival", space, program)) for part in _listed(program, "arrival", space)]
    rows = [(part, row) for part, row in pairs if row is not None]
    bounds = Bounds([row.box for _, row in rows])
    found = list[Row]()
    for number, (part, row) in enumerate(rows):
        translated = part.now.get(model.TRANSLATED)
        if isinstance(translated, Mapped) and translated.table[0] & model.NEW_DESTINATION:
            before = [rows[at][1] for at in bounds.meeting(row.box) if at < number]
            earlier = [each.box for each in before if not each.needs and not each.further]
            found += (_behind(part, box) for box in _left(row.box, earlier))
    return found


def _left(box: Box, earlier: Iterable[Box]) -> list[Box]:
    try:
        return remainder([box], earlier, MOST_PIECES)
    except Undecided:
        return [box]


def _behind(part: Part, box: Box) -> Row:
    """Return packets as a program has made them, with what they were as they came in."""
    after = list(box)
    for dimension in (model.SOURCE, model.DESTINATION, model.PORT):
        after[dimension] = model.image_of(part.now.get(dimension), box[dimension]) or ()
    came = [(each + model.AS_IT_CAME, box[each]) for each in (model.DESTINATION, model.PORT)]
    return Row(tuple(after), KEEP, "", part.decided_by, None, ((model.TRANSLATED, TO_OTHERS), *came))
