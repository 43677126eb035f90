"""What rules ask of the device that they are in: its interfaces as numbers, its own addresses, those that it lends."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.stage_lists import lends
from agile_lattice.intent.addresses import BITS
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.model import Device
from agile_lattice.packets.spans import Spans, merged
from agile_lattice.programs import model


class Surroundings:
    """What rules ask of a device, for packets of one family.

    Args:
        device: The device, with what it learns.
        family: 4 or 6.
        choice: Which of several equally good routes is taken.

    Attributes:
        names: Interfaces, by their numbers; the last is that of a packet which has none, or not yet.
        nowhere: The number of that.
    """

    def __init__(self, device: Device, family: int, choice: int = 0) -> None:
        self.device, self.family, self.choice = device, family, choice
        self.space = Space(device.interfaces, family)
        self.names = (*self.space.names, "")
        self.nowhere = len(self.space.names)
        self._sides: dict[Sequence[str], Spans] = {}

    @property
    def sizes(self) -> Mapping[int, int]:
        """For each dimension of packets how many numbers it has."""
        sides, addresses = len(self.names), 1 << BITS[self.family]
        return {
            model.ARRIVES: sides, model.LEAVES: sides, model.PROTOCOL: 256, model.SOURCE: addresses,
            model.DESTINATION: addresses, model.PORT: 65536, model.SOURCE_PORT: 65536, model.STATE: 5,
            model.TRANSLATED: 4, model.FLAGS: 256,
        }  # fmt: skip

    @property
    def everybody(self) -> Spans:
        """All addresses."""
        return self.space.any_address

    def sides(self, names: tuple[str, ...]) -> Spans:
        """Return the numbers of the interfaces that rules call by some names, or by what they are not."""
        if names not in self._sides:
            numbers = (number for number, each in enumerate(self.names) if includes(names, each))
            self._sides[names] = merged((number, number) for number in numbers)
        return self._sides[names]

    @cached_property
    def own(self) -> Spans:
        """The device's own addresses."""
        return merged(span for _, spans in self.own_by_interface() for span in spans)

    def own_by_interface(self) -> Iterator[tuple[int, Spans]]:
        """Yield the number of each interface that is up, and its own addresses."""
        for number, one in enumerate(self.device.interfaces):
            own = merged((each.value, each.value) for each in one.addresses if each.family == self.family)
            if one.enabled and own:
                yield number, own

    def lends(self, leaving: bool, box: model.SparseBox) -> Iterator[tuple[int | None, int, Spans | None]]:
        """Yield the addresses that interfaces lend to packets: the address, the interface, and for which destinations.

        Args:
            leaving: Whether the interface is meant that packets leave by, and not the one that they come in by.
            box: The packets.
        """
        dimension = model.LEAVES if leaving else model.ARRIVES
        for first, last in box.get(dimension, ((0, self.nowhere),)):
            for number in range(first, min(last, self.nowhere - 1) + 1):
                found = [*lends(self.device, self.names[number], self.space, self.choice)]
                for own, towards in found if leaving else found[-1:]:  # the last is its first address, for all others
                    yield (own.value if own is not None else None), number, towards
