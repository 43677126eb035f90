"""What many devices differ in alike: one entry for each difference, with the devices that have it."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from agile_lattice.compare.comparing import told_by_rules
from agile_lattice.compare.differences import Change, Comparison, Effect, Field
from agile_lattice.intent.model import Section


class Shared(msgspec.Struct, frozen=True):
    """A difference, and the devices that have it.

    Attributes:
        change: What is the matter: `missing`, `extra`, `differs`, `moved`; or `not-compared`.
        section: Of which section it is; empty where no line of a device was understood.
        subject: What differs, or what was not compared.
        fields: The values on both sides.
        effect: The greatest that it has on any of them.
        devices: Their names, in the order of the intent.
    """

    change: Change | str
    section: Section | str
    subject: str
    fields: tuple[Field, ...]
    effect: Effect
    devices: tuple[str, ...]


ORDER: tuple[Effect, ...] = ("changes-traffic", "may-change-traffic", "description-only", "no-effect")


def by_difference(comparisons: Iterable[Comparison]) -> list[Shared]:
    """Return what differs, each once; what most devices have comes first, and of that what changes traffic.

    Rules that are told by what they do are of one device each, and only named.
    """
    found: dict[tuple[object, ...], Shared] = {}
    for comparison in comparisons:
        for each in comparison.differences:
            if not told_by_rules(each, comparison.rules):
                one = Shared(each.change, each.section, each.subject, each.fields, each.effect, (comparison.device,))
                _add(found, one)
        for section in comparison.unseen:
            _add(found, _not_compared(section, f"{section}: no input covers this section", comparison.device))
        for family in comparison.unseen_families:
            _add(found, _not_compared("", f"no input covers the IPv{family} rules", comparison.device))
        for left in comparison.leftovers:
            _add(found, _not_compared("", f"not understood: {left.text}", comparison.device))
        if comparison.left_out:
            _add(found, _not_compared("", "other differences are not shown", comparison.device))
        if comparison.rules is not None and not comparison.same:
            told = "rules that somebody else wrote: without this option it is told what they do"
            _add(found, _not_compared("", told, comparison.device))
    return sorted(found.values(), key=lambda each: (-len(each.devices), ORDER.index(each.effect)))


def _not_compared(section: Section | str, subject: str, device: str) -> Shared:
    return Shared("not-compared", section, subject, (), "may-change-traffic", (device,))


def _add(found: dict[tuple[object, ...], Shared], one: Shared) -> None:
    key = one.change, one.section, one.subject, one.fields
    known = found.get(key)
    if known is None:
        found[key] = one
    elif one.devices[0] not in known.devices:
        effect = min(known.effect, one.effect, key=ORDER.index)
        found[key] = msgspec.structs.replace(known, effect=effect, devices=(*known.devices, *one.devices))
