"""Rulesets that somebody wrote, lowered to the one form of whatever decides packets."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.dialects.passes.rulesets import Chain, Ruleset, chain_of, target_of
from agile_lattice.dialects.passes.tcp_flags import numbers_of
from agile_lattice.dialects.passes.walks import STATES, at_last, states_of
from agile_lattice.dialects.program_facts import CONDITIONS, StepFact
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.packets.spans import Spans, meet, merged
from agile_lattice.programs import model
from agile_lattice.programs.model import Base, Change, Constant, Entry, Hook, Mapped, Moved, OneOf, Program, Unknown

STATE_NUMBERS = {
    "new": model.NEW, "established": model.ESTABLISHED, "related": model.RELATED, "invalid": model.INVALID,
    "untracked": model.UNTRACKED,
}  # fmt: skip
HOOKS: Mapping[str, tuple[Hook, int]] = {
    "incoming": ("incoming", 0), "arrival": ("incoming", model.OF_DESTINATION), "permit": ("permit", 0),
    "access": ("access", 0), "output": ("output", 0), "outgoing": ("outgoing", 0),
    "departure": ("outgoing", model.OF_SOURCE),
}  # fmt: skip
OTHER_ICMP = {4: "icmp6", 6: "icmp"}
Box = dict[int, Spans]
PURE = frozenset({"header", "time"})  # conditions that are alike for one packet wherever they stand


def lowered(rulesets: Sequence[Ruleset], around: Surroundings) -> Program:
    """Return what rulesets do with packets of one family.

    Args:
        rulesets: Those of one device.
        around: What they ask of the device, and the family.
    """
    chains: dict[str, tuple[Entry, ...]] = {}
    bases: list[Base] = []
    seen: Counter[str] = Counter()
    for number, each in enumerate(rulesets):
        one = _Lowering(each, f"{number} ", around, seen)
        chains |= one.chains()
        bases += one.bases()
    return Program(around.sizes, chains, tuple(bases))


class _Lowering:
    """One ruleset.

    Args:
        rules: Its facts.
        prefix: What makes the names of its chains its own.
        around: What it asks of the device.
        seen: How often each condition was met that is another one each time.
    """

    def __init__(self, rules: Ruleset, prefix: str, around: Surroundings, seen: Counter[str]) -> None:
        self.rules, self.prefix, self.around, self.seen = rules, prefix, around, seen
        self.family = around.family
        self.number = 0
        self.sides = self._sides()

    def bases(self) -> Iterator[Base]:
        """Yield the chains that are asked about packets of the family."""
        for each in self.rules.bases:
            if each.family in (0, self.family):
                hook, translates = HOOKS[each.hook]
                name, passes = self._name(chain_of(each)), self.rules.verdict(each) == "pass"
                yield Base(name, hook, each.rank, translates, passes, at_last(each))
        for chain, steps in self._homeless():
            for hook in ("incoming", "permit", "access", "outgoing"):
                yield Base(self._name(chain), hook, 0, 0, True, steps[0].place)

    def chains(self) -> dict[str, tuple[Entry, ...]]:
        """Return the entries of all chains."""
        found = {
            self._name(chain): tuple(entry for step in steps for entry in self._entries(chain, step))
            for chain, steps in self.rules.steps.items()
        }
        for chain, steps in self._homeless():
            found[self._name(chain)] = (Entry({}, "not known", place=steps[0].place),)
        return found

    def _homeless(self) -> list[tuple[Chain, list[StepFact]]]:
        """Return chains with steps that do something, of which nothing says when they are asked."""
        known = self.rules.chains | {chain_of(each) for each in self.rules.bases}
        doing = lambda step: step.verdict != "next" or step.unknown  # noqa: E731
        return [(chain, steps) for chain, steps in self.rules.steps.items()
                if chain not in known and any(map(doing, steps))]  # fmt: skip

    def _name(self, chain: Chain) -> str:
        return f"{self.prefix}{chain[0]} {chain[2]} {chain[1]}"

    def _sides(self) -> dict[Chain, set[int]]:
        """Return for each chain which side of packets may be translated where it is asked."""
        found: dict[Chain, set[int]] = {}
        for base in self.rules.bases:
            side = model.OF_SOURCE if base.hook in ("departure", "access", "outgoing") else model.OF_DESTINATION
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
        if (step.verdict == "next" and not step.unknown) or step.only not in (None, self.family):
            return
        needs: list[tuple[Unknown, bool]] = []
        boxes = self._boxes(step, needs)
        needs += [(self._unknown(kind, said), True) for kind in CONDITIONS if (said := getattr(step, kind))]
        self.number += 1
        for box in boxes:
            for entry in self._doing(chain, step, box):
                yield _with(entry, tuple(needs), self.number, step)

    def _doing(self, chain: Chain, step: StepFact, box: Box) -> Iterator[Entry]:
        if step.unknown:
            yield Entry(box, "not known")
            return
        match step.verdict:
            case "pass" | "keep":
                yield Entry(box, "accept")
            case "drop":
                yield Entry(box, "drop")
            case "return":
                yield Entry(box, "return")
            case "jump" | "goto":
                if target_of(step) in self.rules.chains:
                    yield Entry(box, step.verdict, self._name(target_of(step)))
                else:
                    yield Entry(box, "not known")
            case _:
                yield from self._translating(chain, step, box)

    def _translating(self, chain: Chain, step: StepFact, box: Box) -> Iterator[Entry]:
        """Yield what a step does that rewrites packets."""
        sides = self.sides.get(chain, set())
        if len(sides) != 1 or (step.to is not None and step.to.family != self.family):
            yield Entry(box, "not known")
            return
        [side] = sides
        dimension = model.SOURCE if side == model.OF_SOURCE else model.DESTINATION
        marked: tuple[int, Change] = (model.TRANSLATED, _translated(side))
        port = () if step.to_port is None else ((model.PORT, Constant(step.to_port)),)
        if side == model.OF_SOURCE:
            port = () if step.to_port is None else ((model.SOURCE_PORT, Constant(step.to_port)),)
        if step.verdict in ("egress", "ingress"):
            for own, number, towards in self.around.lends(step.verdict == "egress", box):
                here = {**box, (model.LEAVES if step.verdict == "egress" else model.ARRIVES): ((number, number),)}
                if towards is not None:
                    here[model.DESTINATION] = meet(box.get(model.DESTINATION, towards), towards)
                if all(here.values()):
                    lent = () if own is None else ((dimension, Constant(own)),)
                    yield Entry(here, "accept", changes=(*lent, *port, marked))
            return
        matched = step.source if side == model.OF_SOURCE else step.destination
        changes: tuple[tuple[int, Change], ...] = ()
        if step.verdict == "shift" and step.to is not None and isinstance(matched, AddressSet):
            changes = ((dimension, Moved(step.to.spans[0][0] - matched.spans[0][0])),)
        elif step.verdict == "rewrite" and step.to is not None:
            changes = ((dimension, Constant(step.to.spans[0][0]) if step.to.is_single else OneOf(step.to.spans)),)
        elif step.verdict != "rewrite" or not port:
            yield Entry(box, "not known")
            return
        yield Entry(box, "accept", changes=(*changes, *port, marked))

    def _boxes(self, step: StepFact, needs: list[tuple[Unknown, bool]]) -> list[Box]:
        """Return the packets that a step matches, if its other conditions are so; no box if there are none."""
        box: Box = {}
        for dimension, names in ((model.ARRIVES, step.arrives), (model.LEAVES, step.leaves)):
            if names is not None:
                box[dimension] = self.around.sides(names)
        for dimension, value in ((model.SOURCE, step.source), (model.DESTINATION, step.destination)):
            if isinstance(value, str):
                known = self.rules.addresses_of(step, value)
                if known is None:
                    needs.append(
                        (
                            self._unknown(
                                "members", f"{'source' if dimension == model.SOURCE else 'destination'} in {value}"
                            ),
                            True,
                        )
                    )
                    continue
                value = known.get(self.family, AddressSet(self.family, ()))
            if value is not None:
                if value.family != self.family:
                    return []
                box[dimension] = value.spans
        protocol = "tcp" if step.flags is not None or step.mask is not None else step.protocol
        if protocol is not None:
            if protocol == OTHER_ICMP[self.family]:
                return []
            box[model.PROTOCOL] = ((PROTOCOL_NUMBERS[protocol],) * 2,)
        for dimension, ports in ((model.PORT, step.ports), (model.SOURCE_PORT, step.source_ports)):
            if isinstance(ports, str):
                named = self.rules.ports_of(step, ports)
                if named is None:
                    needs.append((self._unknown("members", f"port {dimension} in {ports}"), True))
                    continue
                ports = named
            if ports is not None:
                box[dimension] = ports
        if step.flags is not None or step.mask is not None:
            box[model.FLAGS] = numbers_of(step)
        boxes = [each for one in self._of_state(step, box) for each in self._of_own(step, one)]
        return [each for each in boxes if all(each.values())]

    def _of_state(self, step: StepFact, box: Box) -> Iterator[Box]:
        asked = states_of(step)
        if asked is None:
            yield box
            return
        numbers = merged((STATE_NUMBERS[each],) * 2 for each in asked & STATES)
        if numbers:
            yield {**box, model.STATE: numbers}
        if "dnat" in asked:
            yield {**box, model.STATE: model.TRACKED, model.TRANSLATED: ((1, 1), (3, 3))}

    def _of_own(self, step: StepFact, box: Box) -> Iterator[Box]:
        """Yield what is for the device's own addresses, or for those of the interface that packets come in by."""
        destinations = box.get(model.DESTINATION, self.around.everybody)
        if step.own == "device":
            yield {**box, model.DESTINATION: meet(destinations, self.around.own)}
        elif step.own == "interface":
            for number, own in self.around.own_by_interface():
                arrives = meet(box.get(model.ARRIVES, ((number, number),)), ((number, number),))
                yield {**box, model.ARRIVES: arrives, model.DESTINATION: meet(destinations, own)}
        else:
            yield box

    def _unknown(self, kind: Any, said: str) -> Unknown:
        """Return a condition; one that is not alike for a packet wherever it stands gets a number."""
        if kind in PURE:
            return Unknown(said, kind)
        self.seen[said] += 1
        number = self.seen[said]
        return Unknown(said if number == 1 else f"{said} (number {number})", "set" if kind == "members" else kind)


def _translated(side: int) -> Mapped:
    return Mapped(model.TRANSLATED, tuple(number | side for number in range(4)))


def _with(entry: Entry, needs: tuple[tuple[Unknown, bool], ...], number: int, step: StepFact) -> Entry:
    return Entry(entry.box, entry.verdict, entry.target, entry.changes, needs, number, step.name, step.place)
