"""How facts are written: which phrases say all of a fact of some make, each in which shape."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Set
from typing import Any

import msgspec

from agile_lattice.dialects.dialect import Block, Phrase
from agile_lattice.dialects.fact_types import FactType
from agile_lattice.dialects.shapes import Shape, whole_fields


class Plan(msgspec.Struct, frozen=True):
    """How facts of one make are written: as these shapes, with these and the block inside, or not at all and why.

    Attributes:
        only: Writes the fact, if it is one statement without a block.
        first: The phrase, if its block has at most one statement of it.
        untold: What these do not say, where others can, or where the fact is not written at all.
    """

    shapes: tuple[Shape, ...] = ()
    heads: tuple[Shape, ...] = ()
    block: Block | None = None
    unsaid: str = ""
    reason: str = ""
    only: Callable[[Any], str] | None = None
    first: Phrase | None = None
    untold: frozenset[str] = frozenset()


def present_of(kind: FactType, traits: tuple[Any, ...]) -> dict[str, Any]:
    """Return the traits by the names of their fields, of those that say something."""
    return {name: trait for name, trait in zip(kind.fields, traits, strict=True) if trait is not None}


def agrees(phrase: Phrase, present: Mapping[str, Any]) -> bool:
    """Tell whether what a phrase sets by being there is so."""
    valued = dict(phrase.valued)  # of these the values were looked at: a trait says less
    return all(name in valued or present.get(name) == value for name, value in phrase.constants.items())


def planned(
    kind: FactType, phrases: list[Phrase], traits: tuple[Any, ...], around: Iterable[str],
    before: Set[str] = frozenset(), beside: Set[str] = frozenset(),
) -> Plan:  # fmt: skip
    """Decide how facts with these traits are written; that depends on nothing else.

    Args:
        kind: The kind of fact.
        phrases: Those that make such facts.
        traits: Those of the fact's fields.
        around: Fields that the blocks around say.
        before: Fields that other statements have said already.
        beside: Fields that other statements can say later.
    """
    present = present_of(kind, traits)
    missing = set(present) - before
    silent = {name for name, trait in present.items() if trait is True and kind.defaults.get(name) is True}
    several: list[Shape] = []
    told: set[str] = set()
    for phrase in phrases:
        if not agrees(phrase, present):
            continue
        shape = phrase.shapes.of(traits)
        if shape is None:
            continue
        if kind.key and phrase.block is None and not phrase.conditions:
            # One of several statements: worth writing if it says something new.
            said = shape.fields.union(phrase.constants)
            if said & missing - {kind.key}:
                several.append(shape)
                missing -= said
                told |= said
            continue
        heads = [condition.of(traits) for _, condition in phrase.conditions]
        said_inside = [head.names for head in heads if head is not None]
        if len(said_inside) < len(heads):
            continue
        names = shape.names.union(*said_inside)
        if phrase.block is not None:
            names |= _names_inside(phrase.block, traits, present)
        unsaid = set(present).difference(whole_fields(names), phrase.constants, around, told, silent)
        if not unsaid:
            met, first = tuple(head for head in heads if head is not None), phrase if phrase.first else None
            return Plan((*several, shape), met, phrase.block, first=first)
        missing = min(missing, unsaid, key=len)
    missing -= silent  # what holds if nothing is said need not be said where there is no statement for it
    if not missing:
        return Plan(tuple(several))
    if several and missing <= beside:
        return Plan(tuple(several), untold=frozenset(missing))
    # Best named is a field that no phrase has a place for, whatever the others are.
    homeless = [
        name
        for name, trait in present.items()
        if name not in around and not any(_takes(phrase, name, trait) for phrase in phrases)
    ]
    whole = len(missing) == len(present) and not homeless
    reason = "no statement says it together with the rest" if whole else "there is no statement for it"
    named = next(name for name in kind.fields if name in (homeless or missing))
    return Plan(unsaid=named, reason=reason, untold=frozenset(missing))


def _takes(phrase: Phrase, field: str, trait: Any) -> bool:
    """Tell whether a phrase, or one inside its block, has a place for a field with this trait."""
    inside = phrase.block.phrases if phrase.block is not None else ()
    return (
        phrase.constants.get(field) == trait
        or phrase.shapes.takes(field, trait)
        or any(condition.takes(field, trait) for _, condition in phrase.conditions)
        or any(_takes(each, field, trait) for each in inside if each.makes is None)
    )


def _names_inside(block: Block, traits: tuple[Any, ...], present: Mapping[str, Any]) -> set[str]:
    """Return the fields of a fact, and parts of them, that the statements inside its block can say."""
    found: set[str] = set()
    for phrase in block.phrases:
        if phrase.makes is None and phrase.written and not phrase.always:
            shape = phrase.shapes.of(traits)
            if shape is not None and agrees(phrase, present):
                found |= shape.names.union(phrase.constants)
                if phrase.block is not None:
                    found |= _names_inside(phrase.block, traits, present)
    return found
