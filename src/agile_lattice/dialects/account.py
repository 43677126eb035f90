"""The account of facts: each one that a text gives reaches the device, or is left over with the reason."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import InterfaceFact
from agile_lattice.dialects.program_facts import AsideFact
from agile_lattice.dialects.reading.texts import Reading
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.model import SECTIONS, Section

# The facts that a device is put together from, or that only tell what others mean.
USED = frozenset({
    "access", "address", "address-set", "declared-helper", "declared-interface", "device", "dial-up", "helper", "host",
    "identity", "included", "interface", "interface-resolver", "interface-search", "learned-address", "lookups",
    "made-route", "masterless", "member", "part", "permit", "port-set", "proxy", "resolver", "route", "rule", "search",
    "service", "settings", "vlan-member",
})  # fmt: skip
OF_PROGRAMS = {"chain", "base-chain", "policy", "step", "aside", "absent"}
NOTHING = "nothing is made of it: its dialect has no semantics, or no pass, that says what it means for a device"
NO_PARENT = "no text says on which interface this VLAN is"


def unused(facts: Mapping[str, Sequence[Any]], dialects: Iterable[Dialect]) -> Iterator[Leftover]:
    """Yield the facts of which nothing is made.

    Args:
        facts: All facts of a device, after the passes of their dialects.
        dialects: Those that it speaks.
    """
    used = set(USED)
    for each in dialects:
        used |= {"zone"} if each.semantics.sides != "rules" else set()
        # A chain that the system never asks decides nothing.
        used |= OF_PROGRAMS if any(form.change.of_programs for form in each.forms) else set()
    for kind, members in facts.items():
        if kind in used:
            continue
        for fact in members:
            if isinstance(fact, AsideFact):
                continue
            about = FACTS.get(kind)
            section = about.section if about is not None else None
            sections: tuple[Section, ...] = (section,) if section is not None else SECTIONS
            words = about.describe(fact) if about is not None and about.words else kind
            yield Leftover(fact.place, words, (), NOTHING, sections)


def without_parent(known: Mapping[str, InterfaceFact], readings: Sequence[Reading]) -> Iterator[Leftover]:
    """Yield the VLANs of which no text says on which interface they are."""
    if not any("interfaces" in each.sections for each in readings):
        return
    for fact in known.values():
        if fact.vlan is not None and not fact.parent:
            place = fact.place.at("vlan") if "vlan" in (fact.place.parts or {}) else fact.place
            yield Leftover(place, f"VLAN {fact.vlan} of {fact.interface}", (), NO_PARENT, ("interfaces",))
