"""What many devices differ in alike: one entry for each difference, with the devices that have it.

Each device has addresses of its own, so that the same mistake is seldom the same word for word. What no other device
has just so is one with what differs from it in one address only, or else in nothing but addresses.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Iterable

import msgspec
from msgspec.structs import replace

from agile_lattice.compare.by_effect import told_by_rules
from agile_lattice.compare.differences import NO_CAPTURE, Change, Comparison, Effect, Field
from agile_lattice.dialects.usual import MEANS
from agile_lattice.intent.model import Section


class Shared(msgspec.Struct, frozen=True):
    """A difference, and the devices that have it.

    Attributes:
        change: What is the matter: `missing`, `extra`, `differs`, `moved`; or `not-compared`.
        section: Of which section it is; empty where no line of a device was understood.
        subject: What differs, or what was not compared. `...` stands for an address that each device has of its own.
        fields: The values on both sides, likewise.
        effect: The greatest that it has on any of them.
        devices: Their names, in the order of the intent; one that has several such differences is named for each.
        own: What each of them has in the place of `...`, in their order; empty if all have the same.
    """

    change: Change | str
    section: Section | str
    subject: str
    fields: tuple[Field, ...]
    effect: Effect
    devices: tuple[str, ...]
    own: tuple[tuple[str, ...], ...] = ()


ADDRESS = re.compile(r"\d+\.\d+\.\d+\.\d+(?:/\d+)?|(?<![\w:])[0-9a-f]*:[0-9a-f:]*:[0-9a-f.]*(?:/\d+)?")
OWN = "..."
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
        if not comparison.captured:
            _add(found, _not_compared("", NO_CAPTURE, comparison.device))
        for section in comparison.unseen:
            _add(found, _not_compared(section, f"{section}: no input covers this section", comparison.device))
        for family in comparison.unseen_families:
            _add(found, _not_compared("", f"no input covers the IPv{family} rules", comparison.device))
        for left in comparison.leftovers:
            _add(found, _not_compared("", f"not understood: {left.text}", comparison.device))
        for means in dict.fromkeys(MEANS[one.by] for one in comparison.assumed):
            _add(found, _not_compared("", f"assumed, and not proven: {means}", comparison.device))
        if comparison.left_out:
            _add(found, _not_compared("", "other differences are not shown", comparison.device))
        if comparison.rules is not None and not comparison.same:
            told = "rules that somebody else wrote: without this option it is told what they do"
            _add(found, _not_compared("", told, comparison.device))
    return sorted(_alike(list(found.values())), key=lambda each: (-len({*each.devices}), ORDER.index(each.effect)))


def _not_compared(section: Section | str, subject: str, device: str) -> Shared:
    return Shared("not-compared", section, subject, (), "may-change-traffic", (device,))


def _add(found: dict[tuple[object, ...], Shared], one: Shared) -> None:
    key = _key(one)
    known = found.get(key)
    if known is None:
        found[key] = one
    elif one.devices != known.devices[-1:] or one.own:  # of a device all comes together
        effect = min(known.effect, one.effect, key=ORDER.index)
        found[key] = replace(known, effect=effect, devices=(*known.devices, *one.devices), own=(*known.own, *one.own))


def _key(one: Shared) -> tuple[object, ...]:
    return one.change, one.section, one.subject, one.fields, bool(one.own)  # dots may stand in a line of a device, too


def _alike(found: list[Shared]) -> list[Shared]:
    """Make one of those that a single device has each, and that differ in addresses only."""
    for forms in (_but_one, _but_all):
        alone = [each for each in found if len(each.devices) == 1]
        have: dict[tuple[object, ...], set[str]] = defaultdict(set)
        for each in alone:
            for form in forms(each):
                have[_key(form)].add(each.devices[0])
        together: dict[tuple[object, ...], Shared] = {}
        for each in found:
            shared = [form for form in forms(each) if len(have[_key(form)]) > 1] if len(each.devices) == 1 else []
            _add(together, max(shared, key=lambda form: len(have[_key(form)])) if shared else each)
        found = list(together.values())
    return found


def _but_one(one: Shared) -> list[Shared]:
    """Return a difference with each of its addresses left open."""
    return [_open(one, {each}) for each in _addresses(one)]


def _but_all(one: Shared) -> list[Shared]:
    """Return a difference with all of its addresses left open."""
    addresses = _addresses(one)
    return [_open(one, {*addresses})] if addresses else []


def _addresses(one: Shared) -> list[str]:
    words = [one.subject, *(value for each in one.fields for value in (each.intent, each.device) if value)]
    return list(dict.fromkeys(each for word in words for each in ADDRESS.findall(word)))


def _open(one: Shared, addresses: Collection[str]) -> Shared:
    def opened(word: str) -> str:
        return ADDRESS.sub(lambda found: OWN if found[0] in addresses else found[0], word)

    fields = tuple(
        replace(each, intent=each.intent and opened(each.intent), device=each.device and opened(each.device))
        for each in one.fields
    )
    own = tuple(each for each in _addresses(one) if each in addresses)
    return replace(one, subject=opened(one.subject), fields=fields, own=(own,))
