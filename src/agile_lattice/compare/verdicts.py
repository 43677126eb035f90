"""Whether a device treats every packet as its intent says: proven, or shown by packets that it does not."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.candidates import Candidate, is_outside, packets_of, towards
from agile_lattice.behaviour.matching import STRANGER
from agile_lattice.behaviour.proving import Parting, Proof, common_space, prove
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.closing import as_it_is
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.witnesses import MOST_TRIES, tried
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device, Network, Section

MOST_SHOWN = 50
WHAT_PACKETS_FEEL: tuple[Section, ...] = (
    "interfaces",
    "answers",
    "routes",
    "translations",
    "permits",
    "access",
    "settings",
)


class Shown(msgspec.Struct, frozen=True):
    """Packets that a stage treats differently, with one that is treated differently from end to end.

    Attributes:
        witness: The packet; `None` if none was found, and then it is not decided whether there is one.
        walks: What each side does with it, stage by stage.
    """

    parting: Parting
    witness: Witness | None
    walks: tuple[Walk, Walk] | None = None


class Verdict(msgspec.Struct, frozen=True):
    """What was found out about a device and its intent.

    Attributes:
        device: The device's name.
        proof: The comparison, stage by stage.
        shown: Where stages differ: the first few.
        incomplete: Why the device's configuration is not all known.
    """

    device: str
    proof: Proof
    shown: tuple[Shown, ...]
    incomplete: tuple[str, ...] = ()

    @property
    def same(self) -> bool:
        """Whether every packet is proven to be treated as the intent says."""
        return self.proof.same and not self.incomplete

    @property
    def different(self) -> bool:
        """Whether some packet is treated otherwise, and here it is."""
        return any(each.witness is not None for each in self.shown)


def verdict(intent: Device, capture: Capture, catalogue: Catalogue = BUILT_IN) -> Verdict:
    """Compare a device with its intent for every packet.

    Args:
        intent: The device as it should be.
        capture: The device as it is; of sections that its texts do not speak of nothing is claimed.
        catalogue: Where dialects are looked up: of what none of them carries a device has nothing.
    """
    carried = {section for name in intent.speaks for section in catalogue.dialect(name).carries}
    unseen = [each for each in WHAT_PACKETS_FEEL if each not in capture.sections]
    there = as_it_is(intent, capture.device, capture.sections)
    there = replace(there, **{each: getattr(intent, each) for each in unseen})
    incomplete = [f"no text speaks of {each}" for each in unseen if each in carried]
    if capture.leftovers:
        first = capture.leftovers[0]
        incomplete.append(f"{len(capture.leftovers)} not understood, the first is {first.place}: {first.text}")
    return replace(between(intent, there), incomplete=tuple(incomplete))


def between(one: Device, other: Device) -> Verdict:
    """Compare two descriptions of a device for every packet."""
    proof = prove(one, other)
    sides = [Topology(Network("", (replace(each, name=one.name),))) for each in (one, other)]
    shown = tuple(_shown(one, other, sides, each) for each in proof.partings[:MOST_SHOWN])
    return Verdict(one.name, proof, shown)


def _shown(intent: Device, there: Device, sides: list[Topology], parting: Parting) -> Shown:
    candidates = islice(_candidates(intent, there, sides, parting), MOST_TRIES)
    found = (tried(sides, intent.name, arrives, header) for arrives, header in candidates)
    witness = next((each for each in found if each is not None), None)
    if witness is None:
        return Shown(parting, None)
    left, right = (walk(each, witness.header, intent.name, witness.arrives) for each in sides)
    return Shown(parting, witness, (left, right))


def _candidates(intent: Device, there: Device, sides: list[Topology], parting: Parting) -> Iterator[Candidate]:
    ports = sorted((each for each in intent.interfaces if each.enabled and not each.loopback), key=is_outside)
    if parting.destinations is not None:
        stranger = STRANGER[parting.destinations.family]
        if stranger in parting.destinations:
            yield from towards(stranger, ports)
        for first, last in parting.destinations.spans[:MOST_TRIES]:
            for value in dict.fromkeys((min(first + 9, last), first, last)):
                yield from towards(Address(parting.destinations.family, value), ports)
    elif parting.region is not None:
        space = common_space(intent, there, parting.region.family)
        for match in (parting.region.some, *parting.region.matches):
            for side in sides:
                yield from packets_of(space, side, intent.name, space.of_match(match))
