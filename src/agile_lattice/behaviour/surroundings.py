"""What rules ask of the device that they are in: its interfaces as numbers, its own addresses, those that it lends."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.stage_lists import lends
from agile_lattice.behaviour.tables import Table, is_way_back
from agile_lattice.intent.addresses import BITS
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.packets.spans import Spans, merged, minus
from agile_lattice.programs import model


class Surroundings:
    """What rules ask of a device, for packets of one family.

    Args:
        device: The device, with what it learns.
        family: 4 or 6.
        choice: Which of several equally good routes is taken.
        names: All interfaces that there are, by their numbers; those of the device if nothing is said.

    Attributes:
        names: Interfaces, by their numbers; the last is that of a packet which has none, or not yet.
        nowhere: The number of that.
    """

    def __init__(self, device: Device, family: int, choice: int = 0, names: Sequence[str] = ()) -> None:
        self.device, self.family, self.choice = device, family, choice
        self.space = Space([Interface(each) for each in names] or device.interfaces, family)
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
            model.TRANSLATED: model.TRANSLATIONS, model.FLAGS: 256,
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

    @cached_property
    def maybe_own(self) -> Spans:
        """Addresses that the device answers for: they may be its own, or only be answered for."""
        answers = (each.addresses for each in self.device.answers or () if each.addresses.family == self.family)
        return minus(merged(span for each in answers for span in each.spans), self.own)

    def own_by_interface(self) -> Iterator[tuple[int, Spans]]:
        """Yield the number of each interface that is up, and its own addresses."""
        for one in self.device.interfaces:
            number = self.space.numbers[one.name]
            own = merged((each.value, each.value) for each in one.addresses if each.family == self.family)
            if one.enabled and own:
                yield number, own

    def with_way_back(self, number: int, here: bool) -> Spans:
        """Return the sources to which there is a route (RFC 3704): by an interface, or by any."""
        port = self.device.interface(self.names[number])
        table = Table(self.device, self.family, port.instance if port is not None else "", self.choice)
        return merged(
            (first, last)
            for first, last, hop in table.within(*self.everybody[0])
            if hop is not None and hop.means != "own" and is_way_back(hop, self.names[number] if here else "")
        )

    def of_types(self, types: tuple[str, ...]) -> Spans | None:
        """Return the addresses that are something to the device, by the words of RFC 1122 for it.

        Args:
            types: `local`, `unicast`, `broadcast`, `multicast`; or what they are not to be, each with `!` before it.

        Returns:
            Them; None if that is not known.
        """
        if any(each.discard for each in self.device.routes):
            return None  # what is discarded is none of these
        found = merged(span for each in types for span in self._types[each.removeprefix("!")])
        return minus(self.everybody, found) if types[0].startswith("!") else found

    @cached_property
    def _types(self) -> Mapping[str, Spans]:
        prefixes = [own for one in self.device.interfaces if one.enabled for own in one.addresses
                    if own.family == self.family and not own.is_host]  # fmt: skip
        last = [(each.last, each.last) for each in prefixes] if self.family == 4 else []
        loopback = {4: ((127 << 24, (128 << 24) - 1),), 6: ((1, 1),)}[self.family]
        local = merged((*self.own, *loopback))
        broadcast = merged([*last, (0, (1 << 24) - 1), ((1 << 32) - 1,) * 2]) if self.family == 4 else ()
        multicast = {4: ((224 << 24, (240 << 24) - 1),), 6: ((255 << 120, (1 << 128) - 1),)}[self.family]
        others = merged((*local, *broadcast, *multicast))
        return {
            "local": local, "broadcast": minus(broadcast, local), "multicast": multicast,
            "unicast": minus(self.everybody, others),
        }  # fmt: skip

    def lends(self, leaving: bool, box: model.SparseBox) -> Iterator[tuple[Spans, int, Spans | None]]:
        """Yield the addresses that interfaces lend to packets: one of which, the interface, and for which destinations.

        Args:
            leaving: Whether the interface is meant that packets leave by, and not the one that they come in by.
            box: The packets.
        """
        dimension = model.LEAVES if leaving else model.ARRIVES
        for first, last in box.get(dimension, ((0, self.nowhere),)):
            for number in range(first, min(last, self.nowhere - 1) + 1):
                if leaving and self.family == 6:
                    yield self._global(number), number, None
                    continue
                found = [*lends(self.device, self.names[number], self.space, self.choice)]
                for own, towards in found if leaving else found[-1:]:  # the last is its first address, for all others
                    yield ((own.value, own.value),) if own is not None else (), number, towards

    def _global(self, number: int) -> Spans:
        """Return the addresses of an interface of which one is chosen for a destination (RFC 6724)."""
        one = self.device.interface(self.names[number])
        own = one.addresses if one is not None else ()
        mine = (each for each in own if each.family == self.family and not each.address.is_link_local)
        return merged((*((each.value, each.value) for each in mine), *self.maybe_own))
