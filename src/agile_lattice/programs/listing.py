"""What a program does with packets as a list of rows, of which the first that holds a packet decides.

Unlike the parts of `following`, rows overlap. So there are about as many of them as there are entries, and two large
programs can be compared. Packets that skip entries, since they return or have been changed, are listed up to their end
first: whatever stands behind is then only about others.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import Box, Undecided
from agile_lattice.packets.spans import meet, merged
from agile_lattice.programs import model
from agile_lattice.programs.following import (
    DEEPEST,
    Part,
    Taken,
    as_seen,
    before_tracking,
    changed,
    to_translate,
)
from agile_lattice.programs.model import Base, Constant, Entry, Mapped, Program, SparseBox, Unknown
from agile_lattice.programs.rules import DIMENSIONS, rules_of

MOST_ROWS = 100_000
MOST_WORK = 1_000_000  # entries that are looked at
NAMES = {model.SOURCE: "source", model.DESTINATION: "destination", model.PORT: "port", model.SOURCE_PORT: "source port"}
Outer = tuple[tuple[str, int], ...]  # where the chains go on that jumped here, the outermost first
Behind = Callable[[Base, Part], Part]
Called = Mapping[int, int | None]  # dimensions that are called otherwise in rows; None if rows cannot say them


def as_it_is(base: Base, row: Part) -> Part:
    """Return a row of a chain as it is: what has been done to packets stays with it."""
    return row


class Listing:
    """A program that rows are made of.

    Args:
        program: The program.
    """

    def __init__(self, program: Program) -> None:
        self.program = program
        self._rules = rules_of(program)
        self._left = MOST_WORK
        self._rows: list[Part] = []
        self._base = Base("", "permit")  # of the moment
        self._called: Called = {}
        self._behind: Behind = as_it_is

    def rows(self, bases: Iterable[Base], start: Part, called: Callable[[Base], Called], behind: Behind) -> list[Part]:
        """Return rows for packets that are asked about in one chain after another, and have to pass all of them.

        Args:
            bases: The chains, in their order.
            start: The packets.
            called: Tells of a chain what the dimensions are called in the rows that it sees otherwise.
            behind: Tells what a row of a chain is where it has been asked, if packets are seen otherwise there.

        Returns:
            The rows; some row holds each of the packets, whatever its unknowns are.

        Raises:
            Undecided: If they are too many.
        """
        found = [start]
        for base in bases:
            self._base, self._called, self._behind = base, called(base), behind
            found = self._passed_on(found)
            if len(found) > MOST_ROWS:
                raise Undecided(MOST_ROWS)
        return found

    def _passed_on(self, rows: list[Part]) -> list[Part]:
        """Return rows for what passes in some rows and then comes to a chain; of others, the rows themselves."""
        known: dict[object, _Several] = {}
        found: list[Part] = []
        for row in rows:
            if row.outcome != "accept":
                found.append(row)
                continue
            key = tuple(sorted(row.now.items(), key=lambda each: each[0]))
            if key not in known:
                known[key] = _Several(self._asked(row), self.program)
            found += known[key].behind(row)
            if len(found) > MOST_ROWS:
                raise Undecided(MOST_ROWS)
        return found

    def _asked(self, row: Part) -> list[Part]:
        """Return rows for all packets that have become what those of a row have, asked in the chain of the moment."""
        base, found = self._base, list[Part]()
        whole = Part({}, row.now)
        asked = [whole]
        if base.translates:
            asked = [each for each in (self._narrowed(whole, to_translate(base)),) if each is not None]
        for part in asked:
            # What nobody knows comes first; the last is so for what is left.
            for seen in reversed(list(as_seen(part, base))):
                seen = replace(seen, taken=tuple(each for each in seen.taken if each[1]))
                if base.hook in ("incoming", "access"):  # they have no egress interface there
                    nowhere = len(self.program.sides) - 1
                    seen = replace(seen, now={**seen.now, model.LEAVES: Constant(nowhere)})
                self._rows = []
                if not self._steps(base.chain, 0, seen, ()):
                    self._end(seen)
                found += map(self._left_behind, self._rows)
        if base.translates:
            found.append(self._behind(base, whole))  # it is not asked about those that it does not translate
        return found

    def _left_behind(self, row: Part) -> Part:
        """Return a row as it is when the chain has been asked."""
        early = self._base.hook == "incoming" and self._base.priority <= model.TRACKING
        row = self._behind(self._base, before_tracking(row) if early else row)
        if model.LEAVES not in row.now:
            return row
        return replace(row, now={dimension: each for dimension, each in row.now.items() if dimension != model.LEAVES})

    def _steps(self, chain: str, first: int, part: Part, outer: Outer) -> bool:
        """List what becomes of packets in a chain, from a rule on.

        Returns:
            Whether all are decided; else those that are not go on in the chain around it, as they came.
        """
        if len(outer) > DEEPEST:
            raise Undecided(DEEPEST)
        came = part.now
        rules = self._rules.get(chain, ())
        for number in range(first, len(rules)):
            self._spend(len(rules[number]))
            for entry in rules[number]:
                here = self._narrowed(part, entry.box, entry.needs, entry.place)
                if here is None:
                    continue
                whole = here.box == part.box and here.taken == part.taken
                done = changed(here, entry)
                match entry.verdict:
                    case "go on":
                        if whole:
                            part = done
                            break
                        self._on(done, (*outer, (chain, number + 1)))
                    case "return":
                        if whole and part.now == came == done.now:
                            return False
                        self._on(done, outer)
                    case "jump" | "goto":
                        back = (*outer, (chain, number + 1)) if entry.verdict == "jump" else outer
                        decided = self._steps(entry.target, 0, done, back)
                        apart = done.now != here.now or entry.verdict == "goto"
                        if not decided and apart:
                            if whole and done.now == came and entry.verdict == "goto":
                                return False
                            self._on(done, back)
                            decided = True
                        if not decided:
                            continue
                    case outcome:
                        self._decide(done, entry, outcome, outer)
                if whole:
                    return True
        if part.now != came:
            self._on(part, outer)
            return True
        return False

    def _on(self, part: Part, outer: Outer) -> None:
        """List what becomes of packets that go on where chains go on, up to their end."""
        for depth in range(len(outer) - 1, -1, -1):
            if self._steps(*outer[depth], part, outer[:depth]):
                return
        self._end(part)

    def _decide(self, part: Part, entry: Entry, outcome: model.Verdict, outer: Outer) -> None:
        lines = tuple(self._rules[chain][number - 1][0].place.line for chain, number in outer)
        place = replace(entry.place, jumps=lines) if lines else entry.place
        self._add(replace(part, outcome=outcome, decided_by=place, name=entry.name))

    def _end(self, part: Part) -> None:
        """Add what becomes of packets that no entry decides about."""
        outcome = "accept" if self._base.passes else "drop"
        self._add(replace(part, outcome=outcome, decided_by=self._base.place, name=""))

    def _add(self, row: Part) -> None:
        self._rows.append(row)
        if len(self._rows) > MOST_ROWS:
            raise Undecided(MOST_ROWS)

    def _narrowed(self, part: Part, box: SparseBox, needs: Taken = (), place: Place = NOWHERE) -> Part | None:
        """Return those packets of a part that are in a box as they are now, where all that is needed is so."""
        here = dict(part.box)
        for dimension, wanted in box.items():
            name = self._called.get(dimension, dimension)
            match part.now.get(dimension):
                case None if name is not None:
                    dimension = name
                case Constant(number):
                    if not meet(((number, number),), wanted):
                        return None
                    continue
                case Mapped(origin, table):
                    fits = (number for number, becomes in enumerate(table) if meet(((becomes, becomes),), wanted))
                    dimension, wanted = origin, merged((number, number) for number in fits)
                case _:
                    said = f"what the {NAMES.get(dimension, 'packet')} has become by {place}"
                    needs = (*needs, (Unknown(said, "system"), True))
                    continue
            common = meet(here[dimension], wanted) if dimension in here else wanted
            if not common:
                return None
            here[dimension] = common
        both = _both(part.taken, needs)
        return None if both is None else replace(part, box=here, taken=both)

    def _spend(self, entries: int) -> None:
        self._left -= entries
        if self._left < 0:
            raise Undecided(MOST_WORK)


class _Several:
    """Rows for all packets, made ready to be looked up for those of other rows.

    Args:
        rows: The rows.
        program: Tells how large dimensions are.
    """

    def __init__(self, rows: Sequence[Part], program: Program) -> None:
        self._rows = rows
        self._whole = tuple(program.anything(each) for each in range(DIMENSIONS))
        self._bounds = Bounds([self._box(each) for each in rows])

    def behind(self, row: Part) -> Iterator[Part]:
        """Yield the packets of a row by which of these rows may decide about them."""
        for at in self._bounds.meeting(self._box(row)):
            other = self._rows[at]
            box = _common(row.box, other.box)
            taken = _both(row.taken, other.taken)
            if box is None or taken is None:
                continue
            by = row if other.outcome == "accept" and other.decided_by.last and row.decided_by.line else other
            yield Part(box, other.now, taken, (), by.decided_by, by.name, other.outcome)
            if box == row.box and taken == row.taken:
                return

    def _box(self, row: Part) -> Box:
        return tuple(row.box.get(each, spans) for each, spans in enumerate(self._whole))


def _common(one: SparseBox, other: SparseBox) -> SparseBox | None:
    """Return the box that two have in common; None if they have none."""
    found = dict(one)
    for dimension, spans in other.items():
        both = meet(found[dimension], spans) if dimension in found else spans
        if not both:
            return None
        found[dimension] = both
    return found


def _both(one: Taken, other: Taken) -> Taken | None:
    """Return what has to be so for both; None if that cannot be."""
    known = dict(one)
    for unknown, so in other:
        if known.setdefault(unknown, so) != so:
            return None
    return tuple(known.items())
