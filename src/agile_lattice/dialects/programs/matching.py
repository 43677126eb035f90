"""What packets the steps of a ruleset match, as boxes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.dialects.passes.rulesets import Ruleset
from agile_lattice.dialects.passes.tcp_flags import numbers_of as flags_of
from agile_lattice.dialects.passes.walks import STATES, states_of
from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.dialects.programs.conditions import Conditions
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.packets.spans import Spans, meet, merged, minus
from agile_lattice.programs import model
from agile_lattice.programs.marks import ALL_BITS
from agile_lattice.programs.marks import numbers_of as marks_of
from agile_lattice.programs.model import Unknown

STATE_NUMBERS = {
    "new": model.NEW, "established": model.ESTABLISHED, "related": model.RELATED, "invalid": model.INVALID,
    "untracked": model.UNTRACKED,
}  # fmt: skip
TRANSLATED_BITS = {"dnat": model.NEW_DESTINATION, "snat": model.NEW_SOURCE}
OTHER_ICMP = {4: "icmp6", 6: "icmp"}
EVERY_PORT: Spans = ((0, 65535),)
EVERY_STATE: Spans = ((0, 4),)
EVERY_PROTOCOL: Spans = ((0, 255),)
Box = dict[int, Spans]
Needs = list[tuple[Unknown, bool]]


class Nothing(Exception):
    """A step matches no packet of a family."""


class Matching:
    """What the steps of one ruleset match.

    Args:
        rules: The ruleset.
        around: What it asks of the device.
        conditions: Gives what no dimension says its name.
        marks: All values of marks; None if they are too many to be told apart.
    """

    def __init__(
        self, rules: Ruleset, around: Surroundings, conditions: Conditions, marks: Sequence[int] | None
    ) -> None:
        self.rules, self.around, self.conditions, self.marks = rules, around, conditions, marks
        self.family = around.family

    def boxes(self, step: StepFact) -> list[tuple[Box, Needs]]:
        """Return the packets that a step matches, no packet being in two boxes, each with what has to be so besides."""
        found, doubtful = self._boxes(step), self.around.maybe_own
        types = (each.removeprefix("!") for each in step.destination_types or ())
        if not doubtful or (step.own is None and "local" not in types):
            return found
        # Of an address that the device answers for it is not known whether it is its own.
        unknown = self.conditions.called("system", "an address that is answered for is one of the device"), True
        freely = self._boxes(replace(step, own=None, destination_types=None))
        certain = [(_cut(box, minus(self._destinations(box), doubtful)), needs) for box, needs in found]
        open_ = [(_cut(box, meet(self._destinations(box), doubtful)), [*needs, unknown]) for box, needs in freely]
        return [each for each in (*certain, *open_) if each[0][model.DESTINATION]]

    def _destinations(self, box: Box) -> Spans:
        return box.get(model.DESTINATION, self.around.everybody)

    def _boxes(self, step: StepFact) -> list[tuple[Box, Needs]]:
        box: Box = {}
        needs: Needs = []
        try:
            self._sides(step, box)
            self._addresses(step, box, needs)
            self._service(step, box, needs)
            self._marks(step, box, needs)
            self._as_it_came(step, box)
            if step.tracked:
                box[model.STATE] = meet(box.get(model.STATE, EVERY_STATE), model.TRACKED)
            if step.translated is not None:
                self._translated(step.translated, box)
        except Nothing:
            return []
        boxes = [each for one in self._of_state(step, box) for each in self._of_destination(step, one)]
        if step.way_back is not None:
            boxes = [each for one in boxes for each in self._of_way_back(step.way_back, one)]
        if step.either_ports is not None:
            boxes = [{**each, port: meet(each.get(port, EVERY_PORT), step.either_ports)}
                     for each in boxes for port in (model.PORT, model.SOURCE_PORT)]  # fmt: skip
        needs += self.conditions.of(step)
        return [(each, needs) for each in boxes if all(each.values())]

    def _sides(self, step: StepFact, box: Box) -> None:
        for dimension, names in ((model.ARRIVES, step.arrives), (model.LEAVES, step.leaves)):
            if names is not None:
                box[dimension] = self.around.sides(names)

    def _addresses(self, step: StepFact, box: Box, needs: Needs) -> None:
        for field, dimension in (("source", model.SOURCE), ("destination", model.DESTINATION)):
            value: AddressSet | str | None = getattr(step, field)
            if isinstance(value, str):
                known = self.rules.addresses_of(step, value)
                if known is None:
                    needs.append((self.conditions.called("members", f"{field} in {value}"), True))
                    continue
                value = known.get(self.family, AddressSet(self.family, ()))
            if value is not None:
                if value.family != self.family:
                    raise Nothing
                box[dimension] = value.spans

            types: tuple[str, ...] | None = getattr(step, f"{field}_types")
            if types is not None:
                of_them = self.around.of_types(types)
                if of_them is None:
                    needs.append((self.conditions.called("system", f"{field} is {', '.join(types)}"), True))
                else:
                    box[dimension] = meet(box.get(dimension, self.around.everybody), of_them)

    def _service(self, step: StepFact, box: Box, needs: Needs) -> None:
        asks_flags = step.flags is not None or step.mask is not None
        protocol = "tcp" if asks_flags else step.protocol
        if protocol == OTHER_ICMP[self.family]:
            raise Nothing
        if protocol is not None:
            box[model.PROTOCOL] = ((PROTOCOL_NUMBERS[protocol],) * 2,)
        if step.protocols is not None:
            box[model.PROTOCOL] = meet(box.get(model.PROTOCOL, EVERY_PROTOCOL), step.protocols)
        if asks_flags:
            box[model.FLAGS] = flags_of(step)
        for field, dimension in (("ports", model.PORT), ("source_ports", model.SOURCE_PORT)):
            ports: Spans | str | None = getattr(step, field)
            if isinstance(ports, str):
                named = self.rules.ports_of(step, ports)
                if named is None:
                    needs.append((self.conditions.called("members", f"{field.replace('_', ' ')} in {ports}"), True))
                    continue
                ports = named
            if ports is not None:
                box[dimension] = ports

    def _marks(self, step: StepFact, box: Box, needs: Needs) -> None:
        for dimension, wanted, other, mask in (
            (model.MARK, step.mark, step.not_mark, step.mark_mask),
            (model.CONNECTION_MARK, step.connection_mark, step.not_connection_mark, step.connection_mask),
        ):
            asked = wanted if wanted is not None else other
            if asked is None:
                continue
            if dimension == model.CONNECTION_MARK:
                box[model.STATE] = model.TRACKED
            if self.marks is None:
                needs.append((self.conditions.called("system", f"a mark of {asked}"), True))
                continue
            numbers = marks_of(self.marks, asked, ALL_BITS if mask is None else mask)
            box[dimension] = numbers if wanted is not None else minus(((0, len(self.marks) - 1),), numbers)

    def _translated(self, asked: tuple[str, ...], box: Box) -> None:
        """Narrow a box to packets of which something was translated, or nothing of that."""
        bits = [model.with_bit(TRANSLATED_BITS[each.removeprefix("!")]) for each in asked]
        either = merged(span for each in bits for span in each)
        every = ((0, model.TRANSLATIONS - 1),)
        box[model.TRANSLATED] = minus(every, either) if asked[0].startswith("!") else either
        box[model.STATE] = meet(box.get(model.STATE, EVERY_STATE), model.TRACKED)

    def _as_it_came(self, step: StepFact, box: Box) -> None:
        """Narrow a box to packets that came in as a step asks: to the first packet of their connection."""
        came: Mapping[int, AddressSet | None] = {
            model.SOURCE: step.original_source, model.DESTINATION: step.original_destination,
        }  # fmt: skip
        for dimension, addresses in came.items():
            if addresses is not None:
                if addresses.family != self.family:
                    raise Nothing
                box[dimension + model.AS_IT_CAME] = addresses.spans
        if step.original_ports is not None:
            box[model.PORT + model.AS_IT_CAME] = step.original_ports
        if any(dimension >= model.AS_IT_CAME for dimension in box):
            box[model.STATE] = model.TRACKED

    def _of_state(self, step: StepFact, box: Box) -> Iterator[Box]:
        asked = states_of(step)
        if asked is None:
            yield box
            return
        before = box.get(model.STATE, EVERY_STATE)
        numbers = merged((STATE_NUMBERS[each],) * 2 for each in asked & STATES)
        if numbers:
            yield {**box, model.STATE: meet(numbers, before)}
        changed = merged(span for word in asked - STATES for span in model.with_bit(TRANSLATED_BITS[word]))
        if changed:  # what was asked for by its state is in the other box already
            yield {**box, model.STATE: minus(meet(model.TRACKED, before), numbers), model.TRANSLATED: changed}

    def _of_destination(self, step: StepFact, box: Box) -> Iterator[Box]:
        """Yield what is for the device's own addresses, or for those of the interface that packets come in by."""
        destinations = self._destinations(box)
        if step.own == "device":
            yield {**box, model.DESTINATION: meet(destinations, self.around.own)}
        elif step.own == "interface":
            for number, own in self.around.own_by_interface():
                arrives = meet(box.get(model.ARRIVES, ((number, number),)), ((number, number),))
                yield {**box, model.ARRIVES: arrives, model.DESTINATION: meet(destinations, own)}
        else:
            yield box

    def _of_way_back(self, wanted: str, box: Box) -> Iterator[Box]:
        """Yield packets by the interface that they come in by, with the sources to which a way leads back, or none."""
        sources = box.get(model.SOURCE, self.around.everybody)
        for first, last in box.get(model.ARRIVES, ((0, self.around.nowhere - 1),)):
            for number in range(first, min(last, self.around.nowhere - 1) + 1):
                known = self.around.with_way_back(number, wanted in ("here", "not-here"))
                fit = meet(sources, known) if wanted in ("here", "any") else minus(sources, known)
                yield {**box, model.ARRIVES: ((number, number),), model.SOURCE: fit}


def _cut(box: Box, destinations: Spans) -> Box:
    return {**box, model.DESTINATION: destinations}
