"""What a program does with packets, exactly: a box of them is cut into parts that fare alike.

Conditions cut packets as they came in, whatever was done to them before: no packet is lost, and none is in two parts.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from itertools import groupby, islice, permutations
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.intent.places import Place
from agile_lattice.packets.boxes import WORK_LIMIT, Undecided
from agile_lattice.packets.spans import Spans, covers, meet, merged, minus
from agile_lattice.programs.model import (
    AS_IT_CAME,
    INVALID,
    NEW,
    STATE,
    TRACKING,
    TRANSLATED,
    TRANSLATIONS,
    Base,
    Change,
    Constant,
    Entry,
    Hook,
    Mapped,
    Moved,
    OneOf,
    Program,
    SparseBox,
    Unknown,
)
from agile_lattice.programs.rules import Lookup, reached, rules_of

DEEPEST = 32  # chains that jump to one another
MANY = 50  # rules of a chain that is worth being looked up
MOST_ORDERS = 6  # in which chains of one priority may be asked
Outcome = Literal["accept", "drop", "not known"]
Taken = tuple[tuple[Unknown, bool], ...]


class Part(msgspec.Struct, frozen=True):
    """Packets that fare alike.

    Attributes:
        box: The packets, as they came in.
        now: What has become of their dimensions.
        taken: Unknowns that they met, in order, and how they were for these packets.
        via: Where the entries stand that applied to them.
        decided_by: Where is written what became of them at the hook that they were followed through last.
        name: What the rule is called that decided.
        outcome: What became of them there.
    """

    box: SparseBox
    now: Mapping[int, Change] = {}
    taken: Taken = ()
    via: tuple[Place, ...] = ()
    decided_by: Place = Place()
    name: str = ""
    outcome: Outcome = "accept"


class Following:
    """A program that packets are followed through.

    Args:
        program: The program.
        limit: How many entries may be looked at, for each part.
    """

    def __init__(self, program: Program, limit: int = WORK_LIMIT) -> None:
        self.program, self.limit = program, limit
        self._left = limit  # entries that may still be looked at
        self._rules = rules_of(program)
        self._lookup: dict[str, Lookup] = {}
        self._ended: list[Part] = []

    def at(
        self, hook: Hook, parts: Iterable[Part], limit: int | None = None, within: Container[int] | None = None
    ) -> list[Part]:
        """Follow packets through all chains that are asked at a hook.

        Args:
            hook: The hook.
            parts: The packets.
            limit: How many entries may be looked at for them, if not what is left of all.
            within: The priorities of the chains that are asked; all if it is not said.

        Returns:
            The parts that they are cut into; what was dropped by one chain is not seen by the next.

        Raises:
            Undecided: If more parts or entries would have to be looked at than the limit allows.
        """
        self._left = self._left if limit is None else limit
        passing, done = list(parts), list[Part]()
        for priority, together in groupby(self.program.asked(hook), key=lambda base: base.rank[0]):
            if within is not None and priority not in within:
                continue
            still: list[Part] = []
            for order, asked in self._orders([*together], passing):
                for base in order:
                    ended = self._asked(base, asked)
                    done += [each for each in ended if each.outcome != "accept"]
                    asked = [each for each in ended if each.outcome == "accept"]
                still += asked
            passing = still
        return [*done, *passing]

    def _orders(self, bases: list[Base], parts: list[Part]) -> Iterator[tuple[list[Base], list[Part]]]:
        """Yield the orders in which chains of one priority may be asked, each with the packets that are asked so."""
        told = all(base.translates for base in bases) and len({base.rank for base in bases}) == len(bases)
        if told or len(bases) == 1 or not any(map(self._changes_something, bases)):
            yield bases, parts
            return
        orders = list(islice(permutations(bases), MOST_ORDERS + 1))
        if len(orders) > MOST_ORDERS:
            raise Undecided(MOST_ORDERS)
        for order in orders[:-1]:
            names = Unknown(f"{', then '.join(each.chain for each in order)} are asked in this order", "system")
            yield [*order], [_with(each, names, True) for each in parts]
            parts = [_with(each, names, False) for each in parts]
        yield [*orders[-1]], parts

    def _changes_something(self, base: Base) -> bool:
        return bool(base.translates) or any(entry.changes for entry in reached(self.program, base.chain))

    def _asked(self, base: Base, parts: Sequence[Part]) -> list[Part]:
        """Ask one chain about packets; what it is not asked about passes."""
        self._ended = []
        passing: list[Part] = []
        for part in parts:
            asked = [part]
            if base.translates:
                asked, others = self._cut(part, to_translate(base))
                passing += others
            seen = [one for each in asked for one in as_seen(each, base)]
            for back in self._chain(base.chain, seen, 0):
                outcome: Outcome = "accept" if base.passes else "drop"
                self._ended.append(replace(back, outcome=outcome, decided_by=base.place, name=""))
        early = base.hook == "incoming" and base.priority <= TRACKING
        return [*passing, *(map(before_tracking, self._ended) if early else self._ended)]

    def _chain(self, name: str, parts: list[Part], depth: int) -> list[Part]:
        """Follow packets through a chain; return those that come back from it."""
        if depth > DEEPEST:
            raise Undecided(DEEPEST)
        left: list[Part] = []
        rules = self._rules.get(name, [])
        if len(rules) < MANY:
            back = self._through(rules, parts, left, depth)
            return [*left, *back]
        if name not in self._lookup:
            self._lookup[name] = Lookup(rules, self.program)
        back = []
        for part in parts:
            back += self._through(self._lookup[name].about(part.box, part.now), [part], left, depth)
        return [*left, *back]

    def _through(self, rules: Iterable[list[Entry]], parts: list[Part], left: list[Part], depth: int) -> list[Part]:
        """Follow packets through rules; return those that come to the end, and add those that return to `left`."""
        for rule in rules:
            if not parts:
                break
            onward: list[Part] = []
            for part in parts:
                self._spend(len(rule))
                if all(_misses(entry.box, part) for entry in rule):
                    onward.append(part)
                else:
                    onward += self._rule(rule, part, left, depth)
            parts = onward
        return parts

    def _rule(self, rule: list[Entry], part: Part, left: list[Part], depth: int) -> list[Part]:
        """Apply one rule: of its entries at most one, by what packets were like before any of them."""
        rest, onward = [part], list[Part]()
        for entry in rule:
            others: list[Part] = []
            for each in rest:
                inside, outside = self._cut(each, entry.box)
                others += outside
                for one in inside:
                    for needed, applies in _needed(one, entry.needs):
                        if applies:
                            onward += self._applied(entry, needed, left, depth)
                        else:
                            others.append(needed)
            rest = others
        return [*rest, *onward]

    def _applied(self, entry: Entry, part: Part, left: list[Part], depth: int) -> list[Part]:
        """Do what an entry does; return the packets that go on behind it."""
        part = replace(changed(part, entry), via=(*part.via, entry.place))
        match entry.verdict:
            case "go on":
                return [part]
            case "return":
                left.append(part)
                return []
            case "jump":
                return self._chain(entry.target, [part], depth + 1)
            case "goto":
                left += self._chain(entry.target, [part], depth + 1)
                return []
            case outcome:
                self._ended.append(replace(part, outcome=outcome, decided_by=entry.place, name=entry.name))
                return []

    def _cut(self, part: Part, box: SparseBox) -> tuple[list[Part], list[Part]]:
        """Cut packets into those that are in a box as they are now, and the others."""
        inside, outside = [part], list[Part]()
        for dimension, spans in box.items():
            still: list[Part] = []
            for each in inside:
                for one, fits in self._parted(each, dimension, spans):
                    (still if fits else outside).append(one)
            if not still:
                return [], outside
            inside = still
        return inside, outside

    def _parted(self, part: Part, dimension: int, wanted: Spans) -> Iterator[tuple[Part, bool]]:
        """Yield packets with whether their number in a dimension is one of some."""
        origin, change = dimension, part.now.get(dimension)
        match change:
            case None:
                origin = dimension - AS_IT_CAME if dimension >= AS_IT_CAME else dimension
            case Constant(number):
                yield part, bool(meet(((number, number),), wanted))
                return
            case OneOf(numbers):
                yield from _chosen(part, dimension, numbers, wanted)
                return
            case Moved(offset):
                wanted = tuple((first - offset, last - offset) for first, last in wanted)
            case Mapped(origin, table):
                fits = (number for number, becomes in enumerate(table) if meet(((becomes, becomes),), wanted))
                wanted = merged((number, number) for number in fits)
        whole = part.box.get(origin) or self.program.anything(origin)
        common = meet(whole, wanted)
        if common == whole:
            yield part, True
            return
        if common:
            yield replace(part, box={**part.box, origin: common}), True
        yield replace(part, box={**part.box, origin: minus(whole, common)}), False

    def _spend(self, entries: int) -> None:
        self._left -= entries
        if self._left < 0:
            raise Undecided(self.limit)


def changed(part: Part, entry: Entry) -> Part:
    """Return packets as an entry makes them."""
    if not entry.changes:
        return part
    now = dict(part.now)
    for dimension, change in entry.changes:
        now[dimension] = _chained(now, dimension, change)
    return replace(part, now=now)


def _misses(box: SparseBox, part: Part) -> bool:
    """Tell by bounds whether no packet is in a box: most rules are about others."""
    now, here = part.now, part.box
    for dimension, wanted in box.items():
        spans = here.get(dimension) if dimension not in now else None
        if spans is not None and (not wanted or wanted[0][0] > spans[-1][1] or spans[0][0] > wanted[-1][1]):
            return True
    return False


def to_translate(base: Base) -> SparseBox:
    """Return the packets that a chain which translates is asked about."""
    apart = (number for number in range(TRANSLATIONS) if not number & base.translates)
    return {STATE: ((NEW, NEW),), TRANSLATED: merged((number, number) for number in apart)}


def _with(part: Part, unknown: Unknown, so: bool) -> Part:
    return replace(part, taken=(*part.taken, (unknown, so)))


def _became(part: Part, dimension: int, change: Change) -> Part:
    return replace(part, now={**part.now, dimension: change})


def as_seen(part: Part, base: Base) -> Iterator[Part]:
    """Yield packets as a chain sees them: before connections are looked up, they belong to none."""
    if base.hook != "incoming" or base.priority > TRACKING or STATE in part.now:
        yield part
        return
    if base.priority == TRACKING:
        early = Unknown(f"{base.chain} is asked before connections are looked up", "system")
        yield _with(part, early, False)
        part = _with(part, early, True)
    yield _became(part, STATE, Constant(INVALID))


def before_tracking(part: Part) -> Part:
    """Return packets as they are when their connections are looked up, unless an entry said not to do that."""
    if part.now.get(STATE) != Constant(INVALID):
        return part
    return replace(part, now={dimension: change for dimension, change in part.now.items() if dimension != STATE})


def _needed(part: Part, needs: Taken) -> Iterator[tuple[Part, bool]]:
    """Yield packets by how the unknowns of an entry are, and whether it applies to them."""
    known = dict(part.taken)
    for unknown, wanted in needs:
        if unknown in known:
            if known[unknown] != wanted:
                yield part, False
                return
            continue
        yield _with(part, unknown, not wanted), False
        part, known[unknown] = _with(part, unknown, wanted), wanted
    yield part, True


def _chosen(part: Part, dimension: int, numbers: Spans, wanted: Spans) -> Iterator[tuple[Part, bool]]:
    """Yield packets by which number of a pool the device chooses for them."""
    common = meet(numbers, wanted)
    if not common or covers(wanted, numbers):
        yield part, bool(common)
        return
    choice = Unknown(f"which of {len(numbers)} ranges from {numbers[0][0]} is chosen: {wanted}", "chance")
    for chosen, fits in ((common, True), (minus(numbers, common), False)):
        yield _became(_with(part, choice, fits), dimension, OneOf(chosen)), fits


def _chained(now: Mapping[int, Change], dimension: int, change: Change) -> Change:
    """Return what becomes of a dimension that was changed before."""
    if isinstance(change, Mapped):
        before = now.get(change.origin)
        if isinstance(before, Constant):
            return Constant(change.table[before.number])
        if isinstance(before, Mapped):
            return Mapped(before.origin, tuple(change.table[number] for number in before.table))
        return change
    if isinstance(change, Moved):
        before = now.get(dimension)
        if isinstance(before, Constant):
            return Constant(before.number + change.offset)
        if isinstance(before, Moved):
            return Moved(before.offset + change.offset)
    return change
