"""Which packets come to a list of a device, as far as its routes tell, and which of them are ordinary ones."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from agile_lattice.behaviour.connections import by_beginning
from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import ARRIVES, DESTINATION, LEAVES, PROTOCOL, SOURCE, STRANGER, Space
from agile_lattice.behaviour.sending import OTHER_STRANGER
from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.behaviour.tables import Table
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.model import Device
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, merged, minus


class Plausible:
    """The packets of a list that a device could come by.

    Args:
        device: The device, with what it learns.
        part: The list.
        space: The packets.
        routed: Whether its routes are known: where one was not understood, packets may leave by any interface.

    Attributes:
        never: Packets that never come to the list: no route takes them where they would go out, or in.
        strays: Packets that arrive on an interface from sources that are routed elsewhere.
    """

    def __init__(self, device: Device, part: Listed, space: Space, routed: bool) -> None:
        self.space = space
        self._routed = list(_routed(device, space))
        self._own = {
            space.numbers[one.name]: [each.address for each in one.addresses if each.family == space.family]
            for one in device.interfaces
            if one.name in space.numbers
        }
        self.never = list(self._never(device, part)) if routed else []
        self.strays = [
            with_spans(with_spans(space.box(), ARRIVES, ((number, number),)), SOURCE, rest)
            for number, there in self._routed
            if (rest := minus(space.any_address, there))
        ]

    def _never(self, device: Device, part: Listed) -> Iterator[Box]:
        space = self.space
        if part in ("arrival", "departure"):  # only what begins a connection comes to them
            yield from (box for box, begins in by_beginning(space.box(), space.family) if not begins)
        if part == "access":
            own = [own.address for one in device.interfaces for own in one.addresses]
            spans: list[Spans] = [((each.value, each.value),) for each in own if each.family == space.family]
            spans += [each.addresses.spans for each in normal_answers(device) if each.addresses.family == space.family]
            if spans:
                elsewhere = minus(space.any_address, merged(span for each in spans for span in each))
                yield with_spans(space.box(), DESTINATION, elsewhere)
        for number, there in self._routed if part in ("permits", "departure") else ():
            if rest := minus(space.any_address, there):
                yield with_spans(with_spans(space.box(), LEAVES, ((number, number),)), DESTINATION, rest)

    def ordinary(self, boxes: Sequence[Box]) -> Box:
        """Return packets of some boxes that people think of: of a usual protocol, and from where they belong."""
        box = min(boxes, key=self._unusual)
        box = with_spans(box, DESTINATION, _widest(box[DESTINATION]))
        for number, addresses in self._routed:
            inside = meet(box[SOURCE], addresses)
            if inside and meet(box[ARRIVES], ((number, number),)) and len(self._routed) > 1:
                stranger = STRANGER[self.space.family].value
                source = meet(inside, ((stranger, stranger),)) or _widest(inside)
                # What comes from outside is often for the device itself, as far as it can know.
                mine = self._own.get(number, ()) if source[0][0] == stranger else ()
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


def _widest(spans: Spans) -> Spans:
    return (max(spans, key=lambda span: span[1] - span[0]),)


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
