"""Programs that decide packets: what is worked out for whole boxes of them is what one packet after the other meets."""

from __future__ import annotations

from collections.abc import Mapping
from random import Random

from hypothesis import event, given, settings
from hypothesis import strategies as st

from agile_lattice.intent.places import Place
from agile_lattice.packets.boxes import Undecided
from agile_lattice.packets.spans import Spans, meet, merged
from agile_lattice.programs.deciding import hanging_on
from agile_lattice.programs.following import Following, Part
from agile_lattice.programs.model import (
    AS_IT_CAME,
    DESTINATION,
    INVALID,
    MARK,
    NEW,
    OF_DESTINATION,
    PORT,
    SOURCE,
    STATE,
    TRACKING,
    TRANSLATED,
    TRANSLATIONS,
    Base,
    Change,
    Constant,
    Entry,
    Mapped,
    Moved,
    OneOf,
    Program,
    Unknown,
    bits_added,
)
from where import examples

SIZES = {SOURCE: 6, DESTINATION: 6, PORT: 4, MARK: 3, STATE: 5, TRANSLATED: TRANSLATIONS}
UNKNOWN = [Unknown(key, "header") for key in ("odd", "late", "wide")]
CHAINS = ["a", "b", "c"]
Packet = dict[int, int]


def some(size: int) -> st.SearchStrategy[Spans]:
    numbers = st.integers(0, size - 1)
    return st.lists(st.tuples(numbers, numbers), min_size=1, max_size=2).map(
        lambda pairs: merged((min(pair), max(pair)) for pair in pairs)
    )


def boxes() -> st.SearchStrategy[dict[int, Spans]]:
    asked = {each: some(size) for each, size in SIZES.items()} | {SOURCE + AS_IT_CAME: some(6), MARK: some(3)}
    return st.dictionaries(st.sampled_from([*asked]), st.none(), max_size=2).flatmap(
        lambda chosen: st.fixed_dictionaries({each: asked[each] for each in chosen})
    )


CHANGES: st.SearchStrategy[tuple[tuple[int, Change], ...]] = st.sampled_from([
    (), (), (), ((MARK, Constant(1)),), ((MARK, Mapped(MARK, (2, 0, 1))),), ((PORT, Constant(3)),),
    ((DESTINATION, Moved(1)), (TRANSLATED, bits_added(OF_DESTINATION))),
    ((SOURCE, OneOf(((1, 2), (4, 4)))),), ((STATE, Constant(4)),),
])  # fmt: skip


def entries(chain: str) -> st.SearchStrategy[Entry]:
    behind = CHAINS[CHAINS.index(chain) + 1 :]
    verdicts = [
        "accept",
        "drop",
        "return",
        "go on",
        "go on",
        "not known",
        *(["jump", "jump", "goto"] if behind else []),
    ]
    needs = st.lists(st.tuples(st.sampled_from(UNKNOWN), st.booleans()), max_size=1).map(tuple)
    return st.builds(
        lambda box, verdict, target, changes, needs, rule: Entry(
            box, verdict, target if verdict in ("jump", "goto") else "", changes, needs, rule
        ),
        boxes(), st.sampled_from(verdicts), st.sampled_from(behind or [""]), CHANGES, needs, st.integers(0, 3),
    )  # fmt: skip


@st.composite
def programs(draw: st.DrawFn) -> Program:
    chains = {}
    for name in CHAINS:
        found = draw(st.lists(entries(name), max_size=5))
        chains[name] = tuple(
            Entry(each.box, each.verdict, each.target, each.changes, each.needs, each.rule, name, Place("p", number))
            for number, each in enumerate(sorted(found, key=lambda each: each.rule), 10 * ord(name))
        )
    asked = st.builds(
        lambda chain, priority, translates, passes: Base(chain, "incoming", priority, translates, passes),
        st.sampled_from(CHAINS), st.sampled_from([-300, -250, -50, 0, 5]),
        st.sampled_from([0, 0, OF_DESTINATION]), st.booleans(),
    )  # fmt: skip
    bases = draw(st.lists(asked, min_size=1, max_size=3, unique_by=lambda base: base.rank))
    return Program((), SIZES, chains, tuple(bases))


class Plain:
    """One packet, followed step by step: every unknown is what a valuation says, and of a pool the choice is given."""

    def __init__(self, program: Program, packet: Packet, so: Mapping[Unknown, bool], choice: int) -> None:
        self.program, self.came, self.now, self.so, self.choice = program, packet, dict(packet), so, choice

    def run(self) -> tuple[str, Packet]:
        for base in self.program.asked("incoming"):
            if base.translates and (self.now[STATE] != NEW or self.now[TRANSLATED] & base.translates):
                continue
            hidden = base.priority < TRACKING and self.now[STATE] == self.came[STATE] and not hasattr(self, "untracked")
            if hidden:
                self.now[STATE] = INVALID
                self.touched = False
            end = self.chain(base.chain)
            if hidden and not self.touched:
                self.now[STATE] = self.came[STATE]
            elif hidden:
                self.untracked = True
            if end in ("drop", "not known"):
                return end, self.now
            if end in ("back", "returned") and not base.passes:
                return "drop", self.now
        return "accept", self.now

    def chain(self, name: str) -> str:
        rules: dict[int, list[Entry]] = {}
        for each in self.program.chains[name]:
            rules.setdefault(each.rule, []).append(each)
        for rule in rules.values():
            entry = next((each for each in rule if self.fits(each)), None)
            if entry is None:
                continue
            for dimension, change in entry.changes:
                self.now[dimension] = self.changed(dimension, change)
            match entry.verdict:
                case "return":
                    return "returned"
                case "jump":
                    end = self.chain(entry.target)
                    if end not in ("back", "returned"):
                        return end
                case "goto":
                    end = self.chain(entry.target)
                    return "returned" if end == "back" else end
                case "go on":
                    pass
                case verdict:
                    return verdict
        return "back"

    def fits(self, entry: Entry) -> bool:
        here = {each: self.came[each - AS_IT_CAME] if each >= AS_IT_CAME else self.now[each] for each in entry.box}
        return all(meet(entry.box[each], ((number, number),)) for each, number in here.items()) and all(
            self.so[unknown] == wanted for unknown, wanted in entry.needs
        )

    def changed(self, dimension: int, change: Change) -> int:
        match change:
            case Constant(number):
                if dimension == STATE:
                    self.touched = True
                return number
            case Moved(offset):
                return self.now[dimension] + offset
            case Mapped(origin, table):
                return table[self.now[origin]]
            case OneOf(numbers):
                return [n for first, last in numbers for n in range(first, last + 1)][self.choice]


def holds(part: Part, packet: Packet, so: Mapping[Unknown, bool], choice: int) -> bool:
    inside = all(meet(spans, ((packet[each], packet[each]),)) for each, spans in part.box.items())
    return inside and all(so[unknown] == way for unknown, way in part.taken if unknown in so)


def told(part: Part) -> object:
    """How packets fare by which unknowns; what the device chooses need not be asked for one packet alone."""
    return tuple(each for each in part.taken if each[0].kind != "chance"), part.outcome


def become(part: Part, packet: Packet) -> dict[int, Spans]:
    """What a packet of a part has become: one number for each dimension, or those of which one was chosen."""
    found: dict[int, Spans] = {}
    for dimension, number in packet.items():
        match part.now.get(dimension):
            case None:
                found[dimension] = ((number, number),)
            case Constant(constant):
                found[dimension] = ((constant, constant),)
            case Moved(offset):
                found[dimension] = ((number + offset, number + offset),)
            case Mapped(origin, table):
                found[dimension] = ((table[packet[origin]],) * 2,)
            case OneOf(numbers):
                found[dimension] = numbers
    return found


@settings(max_examples=examples(80), deadline=None)
@given(programs(), st.randoms(use_true_random=False))
def test_a_box_fares_as_each_of_its_packets(program: Program, chance: Random) -> None:
    try:
        parts = Following(program, 20_000).at("incoming", [Part({})])
    except Undecided:
        event("too many parts")
        return
    event(f"{min(len(parts), 8)} parts")
    for _ in range(12):
        packet = {each: chance.randrange(size) for each, size in SIZES.items()}
        so = {each: chance.random() < 0.5 for each in UNKNOWN}
        choice = chance.randrange(3)
        end, now = Plain(program, packet, so, choice).run()
        alike = [each for each in parts if holds(each, packet, so, choice)]
        fitting = [
            each for each in alike
            if each.outcome == end and (end != "accept" or all(
                meet(numbers, ((now[at], now[at]),)) for at, numbers in become(each, packet).items()))
        ]  # fmt: skip
        pools = any(isinstance(change, OneOf) for each in alike for change in each.now.values()) or len(alike) > 1
        assert fitting and (pools or len(alike) == 1), (packet, so, end, now, alike)
        alone = Following(program).at("incoming", [Part({at: ((n, n),) for at, n in packet.items()})])
        assert {told(each) for each in alone} == {told(each) for each in parts if holds(each, packet, {}, choice)}


@settings(max_examples=examples(60), deadline=None)
@given(programs(), st.randoms(use_true_random=False))
def test_what_a_packet_hangs_on_changes_it_and_nothing_else_does(program: Program, chance: Random) -> None:
    packet = {each: chance.randrange(size) for each, size in SIZES.items()}
    parts = Following(program).at("incoming", [Part({at: ((n, n),) for at, n in packet.items()})])
    cases = [(each.taken, each.outcome) for each in parts]
    named = hanging_on(cases)
    if any(unknown.kind == "chance" for taken, _ in cases for unknown, _ in taken):
        return
    fates = {}
    for number in range(8):
        so = {each: bool(number & 1 << at) for at, each in enumerate(UNKNOWN)}
        fates[number] = Plain(program, packet, so, 0).run()[0]
    for at, unknown in enumerate(UNKNOWN):
        differs = any(fates[number] != fates[number ^ 1 << at] for number in fates)
        assert differs or unknown not in named or len(set(fates.values())) > 1
    assert bool(named) == (len(set(fates.values())) > 1)
