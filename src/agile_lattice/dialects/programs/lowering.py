"""Chains of steps, lowered: each step is an entry, or several of which one applies."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import partial

from msgspec.structs import replace

from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.dialects.passes.rulesets import Chain, Ruleset, chain_of, target_of
from agile_lattice.dialects.passes.walks import at_last
from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.dialects.programs.conditions import Conditions
from agile_lattice.dialects.programs.matching import EVERY_STATE, Box, Matching
from agile_lattice.dialects.programs.translating import Changes, translated
from agile_lattice.packets.spans import Spans, meet, minus
from agile_lattice.programs import model
from agile_lattice.programs.marks import ALL_BITS, Joining, Marking, reached, table_of
from agile_lattice.programs.model import Base, Constant, Entry, Hook, Mapped, Program

HOOKS: Mapping[str, tuple[Hook, int]] = {
    "incoming": ("incoming", 0), "arrival": ("incoming", model.OF_DESTINATION), "permit": ("permit", 0),
    "access": ("access", 0), "output": ("output", 0), "outgoing": ("outgoing", 0),
    "departure": ("outgoing", model.OF_SOURCE),
}  # fmt: skip
OF_SOURCES = ("departure", "access", "outgoing")  # hooks at which sources are translated
EARLIEST = -(1 << 31)  # what nobody knows when it is asked may be asked before anything else
ASKED: tuple[Hook, ...] = ("incoming", "permit", "access", "outgoing")
NO_CONNECTION: Spans = ((model.INVALID, model.INVALID),)
MARKS = {"packet": model.MARK, "connection": model.CONNECTION_MARK}


def lowered(rulesets: Sequence[Ruleset], around: Surroundings) -> Program | None:
    """Return what rulesets do with packets of one family; None if none of them is asked about such packets.

    Args:
        rulesets: Those of one device.
        around: What they ask of the device, and the family.
    """
    if not any(base.family in (0, around.family) for each in rulesets for base in each.bases):
        return None  # another text may have rules for them
    chains: dict[str, tuple[Entry, ...]] = {}
    bases: list[Base] = []
    conditions = Conditions()
    steps = [step for each in rulesets for members in each.steps.values() for step in members]
    made = [marking for step in steps if (marking := marking_of(step)) is not None]
    marks = reached((each for each in made if isinstance(each, Marking)),
                    (each for each in made if isinstance(each, Joining)))  # fmt: skip
    for number, each in enumerate(rulesets):
        one = _Lowering(each, f"{number} ", Matching(each, around, conditions, marks))
        chains |= one.chains()
        bases += one.bases()
    count = len(marks or (0,))
    return Program(
        around.names, {**around.sizes, model.MARK: count, model.CONNECTION_MARK: count}, chains, tuple(bases)
    )


def marking_of(step: StepFact) -> Marking | Joining | None:
    """Return what a step makes of a mark; None if it leaves all as they are."""
    if step.marks is None and step.mark_from is None:
        return None
    of_packet, of_connection = step.packet_mask or step.both_masks, step.connection_bits or step.both_masks
    if of_packet is not None and of_connection is not None:
        saves = step.mark_from == "packet"
        return Joining(*((of_connection, of_packet) if saves else (of_packet, of_connection)))
    keeps = ALL_BITS if step.mark_from is not None or step.mark_clears is not None else 0
    if step.mark_keeps is not None:
        keeps = step.mark_keeps
    return Marking(keeps & ~(step.mark_clears or 0), step.mark_value or 0, step.mark_flips or 0)


class _Lowering:
    """One ruleset.

    Args:
        rules: Its facts.
        prefix: What makes the names of its chains its own.
        matching: What its steps match.
    """

    def __init__(self, rules: Ruleset, prefix: str, matching: Matching) -> None:
        self.rules, self.prefix, self.matching = rules, prefix, matching
        self.family = matching.family
        self.number = 0
        self.before = StepFact("")  # the step before, of which this one may be another arm
        self.sides = self._sides()

    def bases(self) -> Iterator[Base]:
        """Yield the chains that are asked about packets of the family."""
        for each in self.rules.bases:
            if each.family in (0, self.family):
                hook, translates = HOOKS[each.hook]
                name, passes = self._name(chain_of(each)), self.rules.verdict(each) == "pass"
                yield Base(name, hook, each.rank, translates, passes, at_last(each))
        for chain, steps in self._homeless():
            yield from (Base(self._name(chain), hook, EARLIEST, place=steps[0].place) for hook in ASKED)

    def chains(self) -> dict[str, tuple[Entry, ...]]:
        """Return the entries of all chains."""
        found = {
            self._name(chain): tuple(entry for step in steps for entry in self._entries(chain, step))
            for chain, steps in self.rules.steps.items()
        }
        return found | {self._name(chain): (Entry({}, "not known", place=steps[0].place),)
                        for chain, steps in self._homeless()}  # fmt: skip

    def _homeless(self) -> list[tuple[Chain, list[StepFact]]]:
        """Return chains with steps that do something, of which nothing says when they are asked."""
        known = self.rules.chains | {chain_of(each) for each in self.rules.bases}
        return [(chain, steps) for chain, steps in self.rules.steps.items()
                if chain not in known and any(map(_does_something, steps))]  # fmt: skip

    def _name(self, chain: Chain) -> str:
        table, family, name = chain
        return f"{self.prefix}{table} {name} {family}"

    def _sides(self) -> dict[Chain, set[int]]:
        """Return for each chain which side of packets is translated where it is asked."""
        found: dict[Chain, set[int]] = {}
        for base in self.rules.bases:
            side = model.OF_SOURCE if base.hook in OF_SOURCES else model.OF_DESTINATION
            left, seen = [chain_of(base)], set[Chain]()
            while left:
                chain = left.pop()
                if chain not in seen:
                    seen.add(chain)
                    found.setdefault(chain, set()).add(side)
                    left += [target_of(step) for step in self.rules.steps.get(chain, ()) if step.target]
        return found

    def _entries(self, chain: Chain, step: StepFact) -> Iterator[Entry]:
        """Yield what a step does: nothing, one entry, or several of which one applies."""
        if not _does_something(step) or step.only not in (None, self.family):
            return
        if not self._goes_on(step):
            self.number += 1
        self.before = step
        for box, needs in self.matching.boxes(step):
            for here, besides in self._besides(step, box):
                for entry in self._doing(chain, step, here) if all(here.values()) else ():
                    yield replace(
                        entry, changes=(*besides, *entry.changes), needs=(*needs, *entry.needs), rule=self.number,
                        name=step.name, place=step.place,
                    )  # fmt: skip

    def _goes_on(self, step: StepFact) -> bool:
        """Tell whether a step is one more arm of the rule before it, and asks for what another arm may change."""
        here, before = step.place, self.before.place
        if not 0 < before.arm < here.arm or not here.is_line_of(before):
            return False
        return any(each is not None for each in (
            step.mark, step.not_mark, step.connection_mark, step.not_connection_mark, step.state,
        ))  # fmt: skip

    def _besides(self, step: StepFact, box: Box) -> Iterator[tuple[Box, Changes]]:
        """Yield packets with what a step makes of their marks, and of their connection."""
        marking = marking_of(step)
        if step.untracked:
            # A packet has no connection only before these are looked up, or if it belongs to none.
            yield _of_states(box, NO_CONNECTION), ((model.STATE, Constant(model.UNTRACKED)),)
            yield _of_states(box, minus(EVERY_STATE, NO_CONNECTION)), ()
        elif marking is None or self.matching.marks is None:
            yield box, ()
        else:
            yield from self._marked(step, marking, self.matching.marks, box)

    def _marked(
        self, step: StepFact, marking: Marking | Joining, marks: Sequence[int], box: Box
    ) -> Iterator[tuple[Box, Changes]]:
        here = MARKS[step.marks or ("connection" if step.mark_from == "packet" else "packet")]
        origin = MARKS[step.mark_from] if step.mark_from is not None else here
        if model.CONNECTION_MARK in (here, origin):
            if origin != model.CONNECTION_MARK:
                yield _of_states(box, minus(EVERY_STATE, model.TRACKED)), ()
            box = _of_states(box, model.TRACKED)
        if isinstance(marking, Marking):
            yield box, ((here, Mapped(origin, table_of(marks, marking.of))),)
            return
        for number, mark in enumerate(marks):
            one = meet(box.get(here, ((number, number),)), ((number, number),))
            yield {**box, here: one}, ((here, Mapped(origin, table_of(marks, partial(marking.of, mark)))),)

    def _doing(self, chain: Chain, step: StepFact, box: Box) -> Iterator[Entry]:
        sides = self.sides.get(chain, set())
        if step.unknown:
            yield Entry(box, "not known")
        elif step.verdict in ("next", "pass", "keep", "drop", "return"):
            yield Entry(box, PLAIN[step.verdict])
        elif step.verdict in ("jump", "goto"):
            known = target_of(step) in self.rules.chains
            yield Entry(box, step.verdict, self._name(target_of(step))) if known else Entry(box, "not known")
        elif len(sides) != 1 or (step.to is not None and step.to.family != self.family):
            yield Entry(box, "not known")
        else:
            [side] = sides
            yield from translated(step, side, box, self.matching.around)


PLAIN: Mapping[str, model.Verdict] = {
    "next": "go on", "pass": "accept", "keep": "accept", "drop": "drop", "return": "return",
}  # fmt: skip


def _does_something(step: StepFact) -> bool:
    return bool(step.verdict != "next" or step.unknown or marking_of(step) is not None or step.untracked)


def _of_states(box: Box, states: Spans) -> Box:
    return {**box, model.STATE: meet(box.get(model.STATE, EVERY_STATE), states)}
