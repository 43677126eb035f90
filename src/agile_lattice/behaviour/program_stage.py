"""A stage of a device whose rules are a program, asked about boxes of packets as a list of rules is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from agile_lattice.behaviour.connections import UNTRACKED, by_beginning
from agile_lattice.behaviour.images import REWRITTEN
from agile_lattice.behaviour.matching import LEAVES, Space
from agile_lattice.behaviour.rule_list import Budget, Decided
from agile_lattice.behaviour.stage_lists import KEEP, Listed
from agile_lattice.packets import functions
from agile_lattice.packets.actions import Action
from agile_lattice.packets.boxes import WORK_LIMIT, Box
from agile_lattice.packets.spans import Spans, meet, minus
from agile_lattice.programs import model
from agile_lattice.programs.deciding import Asked
from agile_lattice.programs.following import Following, Part
from agile_lattice.programs.model import Constant, Hook, Mapped, Moved, OneOf, Program

HOOKS: Mapping[Listed, Hook] = {
    "arrival": "incoming", "permits": "permit", "access": "access", "departure": "outgoing",
}  # fmt: skip


class Followed(Action, frozen=True):
    """What has been done to packets that were followed through a program.

    Attributes:
        part: What the program says of them.
        if_so: What has to be so for it, in words; empty if nothing has.
    """

    part: Part = Part({})
    if_so: str = ""


class ProgramStage:
    """A hook of a program, made ready to be asked about boxes.

    Args:
        rules: The program.
        part: The stage.
        space: Numbers of interfaces, and the family; those of the program are the same.
    """

    def __init__(self, rules: Following, part: Listed, space: Space) -> None:
        self.following, self.part, self.space = rules, part, space
        self.program = rules.program
        self.whole = space.box()
        self.nowhere = len(space.names)
        self.asked = Asked(self.program)

    def decided(self, box: Box, action: Action, budget: Budget) -> Iterator[Decided]:
        """Cut a box by what the program decides about its packets."""
        if isinstance(action, Followed):
            starts = [self._again(action.part, box)]
        else:
            starts = list(first_packets(box, self.space.family, self.nowhere))
        for part in self.following.at(HOOKS[self.part], starts, WORK_LIMIT):
            budget.spend(1)
            here = tuple(part.box.get(dimension, spans) for dimension, spans in enumerate(self.whole))
            here = (*here[:LEAVES], box[LEAVES], *here[LEAVES + 1 :])
            unsure = f"{part.decided_by} was not understood" if part.outcome == "not known" else ""
            yield Decided(here, part.outcome == "accept", self._action(part), unsure, _told(part))

    def leading_to(self, destinations: Spans) -> Iterator[functions.Entry]:
        """Yield entries that hold all packets whose destination is rewritten, maybe to one of some."""
        for entries in self.program.chains.values():
            for entry in entries:
                change = dict(entry.changes).get(model.DESTINATION)
                if change is None:
                    continue
                box = tuple(entry.box.get(dimension, spans) for dimension, spans in enumerate(self.whole))
                yield functions.Entry(
                    (box[0], self.whole[LEAVES], *box[2:]), self._action(Part({}, dict(entry.changes)))
                )

    def _action(self, part: Part) -> Followed:
        """Return what has been done to packets, as a function that can be compared with others."""
        verdict, sets, shifts = _changes(part)
        said = [self.asked.told(unknown) for unknown, _ in part.taken]
        said += ["their source port"] * (model.SOURCE_PORT in part.box)
        words = f"it depends on {', and on '.join(dict.fromkeys(said))}" if said else ""
        return Followed(verdict, tuple(sets), tuple(shifts), part, words)

    def _again(self, part: Part, box: Box) -> Part:
        """Return packets that were followed before, cut to a box; where they leave is known by now."""
        cut = {dimension: spans for dimension, spans in enumerate(box) if dimension != LEAVES}
        now = part.now
        if self.part in ("permits", "departure"):
            now = {**now, model.LEAVES: Constant(box[LEAVES][0][0])}
        return replace(part, box={**part.box, **cut}, now=now)


def by_state(box: Box, family: int) -> Iterator[tuple[int, Box]]:
    """Yield packets that begin a connection, or belong to none, by what the system knows of their connection."""
    for cut, begin in by_beginning(box, family):
        for ports, state in (
            (cut[model.PORT] if begin else (), model.NEW),
            (() if begin else minus(cut[model.PORT], UNTRACKED[family]), model.INVALID),
            (() if begin else meet(cut[model.PORT], UNTRACKED[family]), model.UNTRACKED),
        ):
            if ports:
                yield state, (*cut[: model.PORT], ports)


def first_packets(box: Box, family: int, nowhere: int) -> Iterator[Part]:
    """Yield packets that begin a connection, or belong to none, as a program sees them when they come in."""
    for state, cut in by_state(box, family):
        here = {dimension: spans for dimension, spans in enumerate(cut) if dimension != LEAVES}
        here |= {model.STATE: ((state, state),), model.TRANSLATED: ((0, 0),)}
        yield Part({**here, **model.BEGINS}, {model.LEAVES: Constant(nowhere)})


def action_of(part: Part, program: Program, box: Box) -> Action:
    """Return what a program has done to packets that it lets on, as a function that can be compared.

    Args:
        part: What it says of them.
        program: The program.
        box: The packets.
    """
    verdict, sets, shifts = _changes(part)
    translated = part.now.get(model.TRANSLATED)
    new = isinstance(translated, Mapped) and translated.table[0] & model.NEW_SOURCE
    if new and not any(dimension in part.now for dimension in (model.SOURCE, model.SOURCE_PORT)):
        verdict = "address of", program.sides[box[LEAVES][0][0]]  # which has none
    return Action(verdict, tuple(sets), tuple(shifts))


def _changes(part: Part) -> tuple[Any, list[tuple[int, int]], list[tuple[int, int]]]:
    """Return what has been done to packets, as an action has it: the verdict, what is set, and what is shifted."""
    sets, shifts = [], []
    verdict: Any = KEEP.verdict
    for dimension in REWRITTEN:
        match part.now.get(dimension):
            case Constant(number):
                sets.append((dimension, number))
            case Moved(offset):
                shifts.append((dimension, offset))
            case OneOf(numbers):
                verdict = "one of", numbers, verdict
    return verdict, sets, shifts


def _told(part: Part) -> str:
    """Say what decided about packets, and where that is."""
    if not part.decided_by.line:
        return "unchanged: no chain is asked"
    who = part.name or ("what no rule decides" if part.decided_by.last else "a rule")
    return f"{who} ({part.decided_by.told}): {'dropped' if part.outcome == 'drop' else 'permitted'}"
