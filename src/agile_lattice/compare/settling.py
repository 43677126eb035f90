"""Differences that are proven to be none to any packet."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from agile_lattice.behaviour.proving import Part, prove
from agile_lattice.compare.differences import Difference
from agile_lattice.intent.model import Device, Section

# Where what a section says is felt.
FELT: dict[Section, tuple[Part, ...]] = {
    "routes": ("way",),
    "translations": ("arrival", "departure"),
    "permits": ("permits",),
    "access": ("access",),
}


def settled(intent: Device, there: Device, differences: Sequence[Difference]) -> list[Difference]:
    """Return differences; those of a section that does the same to every packet, on both sides, are cosmetic.

    Args:
        intent: The device as it should be.
        there: The device as it is, with what the intent says of sections that no text speaks of.
        differences: All that differs.
    """
    if not any(each.weight == "open" and each.section in FELT for each in differences):
        return list(differences)
    proof = prove(intent, there)
    apart = {each.part for each in proof.partings} | {words.partition(":")[0] for words in proof.undecided}
    return [
        replace(each, weight="cosmetic", note="proven: no packet can tell")
        if each.weight == "open" and each.section in FELT and apart.isdisjoint(FELT[each.section])
        else each
        for each in differences
    ]
