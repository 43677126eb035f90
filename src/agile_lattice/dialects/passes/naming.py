"""Interfaces that a text calls by a name of its own: by what it matches, and by the name that it gives them."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from agile_lattice.dialects.facts import Fact, InterfaceNameFact
from agile_lattice.dialects.passes import Facts

REFERENCES = ("interface", "master", "parent", "part")  # fields that name an interface


def named_as_matched(facts: Facts) -> Facts:
    """Give interfaces the names that they have on the system; what none is known of goes among the `nameless`.

    A name that is given (`by` is `set`) wins over one that is matched.
    """
    named = [each for each in facts.pop("interface-name", []) if isinstance(each, InterfaceNameFact)]
    names = {each.interface: each.called for each in sorted(named, key=lambda each: each.by) if each.called}
    lost: list[Fact] = [each for each in named if each.by == "match" and each.interface not in names]
    if not named:
        return facts
    found: Facts = {kind: [_renamed(each, names) for each in members] for kind, members in facts.items()}
    return {**found, "nameless": lost}


def _renamed(fact: Fact, names: dict[str, str]) -> Fact:
    changed = dict(_changed(fact, names))
    return replace(fact, **changed) if changed else fact


def _changed(fact: Fact, names: dict[str, str]) -> Iterator[tuple[str, str]]:
    for field in REFERENCES:
        if (name := getattr(fact, field, None)) in names:
            yield field, names[name]
