"""Ordered rules compared: which are missing, which differ, and which stand in another order."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import Any, Generic, TypeVar

import msgspec

from agile_lattice.compare.differences import Difference, Field, Gap, effect_of, field_differences, paired
from agile_lattice.intent.model import Section
from agile_lattice.intent.permits import Access, Passage, Permit, passages
from agile_lattice.intent.stages import Rule, family_of, named_families, overlap, split
from agile_lattice.intent.translations import Dynamic, Intercept, Publish, Static, Translation, described
from agile_lattice.notation.plain import access_data, permit_data, translation_data
from agile_lattice.packets.order import longest_run

T = TypeVar("T", Translation, Permit, Access)


class Sort(msgspec.Struct, Generic[T], frozen=True):
    """What has to be known to compare rules of one sort.

    Attributes:
        section: Where they belong.
        describe: A rule in a few words.
        data: A rule in the keys of the notation.
        purpose: What a rule is for: two that share it are the same one, changed.
        lists: The lists that a rule stands in; order counts within each.
        meet: Whether some packet matches two rules.
    """

    section: Section
    describe: Callable[[T], str]
    data: Callable[[T], dict[str, Any]]
    purpose: Callable[[T], object]
    lists: Callable[[T], tuple[str, ...]]
    meet: Callable[[T, T], bool]


def rule_gaps(sort: Sort[T], wanted: Sequence[T], found: Sequence[T]) -> Iterator[Gap]:
    """Compare two lists of rules, both in normal form."""
    missing, extra = list(wanted), list(found)
    pairs = paired(missing, extra, lambda each: each)
    pairs += paired(missing, extra, lambda each: each.name or id(each))
    pairs += paired(missing, extra, lambda each: _without_name(sort, each))
    pairs += paired(missing, extra, sort.purpose, alone=True)
    partner: dict[int, T] = {id(one): other for one, other in pairs}
    moved = _moved(sort, pairs, wanted, found)
    for one in wanted:
        other = partner.get(id(one))
        if other is None:
            yield Gap(
                Difference("missing", sort.section, sort.describe(one), "may-change-traffic", intent=one.place), one
            )
            continue
        fields = field_differences(sort.data(one), sort.data(other)) if one != other else ()
        if fields:
            place = one.place.at(fields[0].name)
            difference = Difference(
                "differs", sort.section, sort.describe(one), effect_of(fields), fields, "", place, other.place
            )
            yield Gap(difference, one, other)
        if id(one) in moved:
            yield Gap(_move(sort, one, other, moved[id(one)]), one, other)
    for other in extra:
        yield Gap(
            Difference("extra", sort.section, sort.describe(other), "may-change-traffic", device=other.place),
            None,
            other,
        )


def _without_name(sort: Sort[T], one: T) -> object:
    return type(one), tuple(sorted((key, str(value)) for key, value in sort.data(one).items() if key != "name"))


def _purpose(one: Translation) -> object:
    """What a translation is for: two that share it are the same one, changed."""
    if isinstance(one, Publish | Static):
        return type(one), one.external, getattr(one, "services", None)
    if isinstance(one, Dynamic):
        return type(one), one.arrives, one.leaves, one.source
    if isinstance(one, Intercept):
        return type(one), one.arrives, one.source, one.destination, one.services
    return type(one), one.arrives, one.leaves, one.source, one.destination


def _stages(one: Translation) -> tuple[str, ...]:
    """Return the lists that a translation stands in: of a stage and a family, since no packet is of two families."""
    return tuple(sorted({f"{rule.stage} {family_of(rule)}" for rule in split([one])}))


def _moved(
    sort: Sort[T], pairs: Sequence[tuple[T, T]], wanted: Sequence[T], found: Sequence[T]
) -> dict[int, list[tuple[T, T]]]:
    """Return, for each rule that stands elsewhere, the pairs that it has passed.

    The fewest that explain the order: all pairs off a longest run that is in order on both
    sides, in each list by itself, since order between lists means nothing.
    """
    here = {id(one): index for index, one in enumerate(wanted)}
    there = {id(other): index for index, other in enumerate(found)}
    moved: dict[int, list[tuple[T, T]]] = {}
    in_order = sorted(pairs, key=lambda pair: here[id(pair[0])])
    places = [there[id(other)] for _, other in in_order]
    if all(before < after for before, after in pairwise(places)):
        return moved  # in one order over all lists, as mostly
    lists = [_lists(sort, one, other) for one, other in in_order]
    for name in sorted(set().union(*lists)):
        members = [pair for pair, names in zip(in_order, lists, strict=True) if name in names]
        positions = [there[id(other)] for _, other in members]
        kept = set(longest_run(positions))
        for index, pair in enumerate(members):
            if index not in kept:
                moved.setdefault(id(pair[0]), []).extend(
                    members[k]
                    for k in range(len(members))
                    if (k < index) != (positions[k] < positions[index]) and k != index
                )
    return moved


def _lists(sort: Sort[T], one: T, other: T) -> set[str]:
    """Return the lists that two rules both stand in."""
    mine = set(sort.lists(one))
    return mine if one == other else mine & set(sort.lists(other))


def _move(sort: Sort[T], one: T, other: T, passed: list[tuple[T, T]]) -> Difference:
    touching = [each for each, _ in passed if sort.meet(one, each)]
    if not touching:
        return Difference(
            "moved", sort.section, sort.describe(one), "no-effect", (),
            "no rule that it was moved past decides otherwise about a packet of it", one.place, other.place,
        )  # fmt: skip
    names = ", ".join(dict.fromkeys(sort.describe(each).removeprefix("translation ") for each in touching))
    before = (one.place.file, one.place.line) <= (touching[0].place.file, touching[0].place.line)
    sides = (f"before {names}", f"after {names}") if before else (f"after {names}", f"before {names}")
    note = f"packets that match both it and {names} are treated by the other rule"
    return Difference(
        "moved",
        sort.section,
        sort.describe(one),
        "may-change-traffic",
        (Field("order", *sides),),
        note,
        one.place,
        other.place,
    )


def _translations_meet(one: Translation, other: Translation) -> bool:
    return any(overlap(left, right) for left in split([one]) for right in split([other]))


def meet_each_other(one: Permit | Access, other: Permit | Access) -> bool:
    """Tell whether two rules decide otherwise about some packet."""
    return one.deny != other.deny and any(
        overlap(_as_rule(left), _as_rule(right)) for left in passages([one]) for right in passages([other])
    )


def _families_of(one: Permit | Access) -> tuple[str, ...]:
    """Return the lists that a rule stands in: one for each family, since no packet is of two."""
    named = {family for rule in passages([one]) for family in named_families(rule)}
    return tuple(f"IPv{family}" for family in (4, 6) if not named or family in named)


def _as_rule(one: Passage) -> Rule:
    return Rule("arrival", "keep", one.arrives, one.leaves, one.source, one.destination, one.protocol, one.ports)


TRANSLATIONS: Sort[Translation] = Sort(
    "translations", described, translation_data, _purpose, _stages, _translations_meet
)
PERMITS: Sort[Permit] = Sort(
    "permits",
    lambda one: f"permit {one.name}".rstrip(),
    permit_data,
    lambda one: (one.arrives, one.leaves, one.source, one.destination),
    _families_of,
    meet_each_other,
)
ACCESS: Sort[Access] = Sort(
    "access",
    lambda one: f"management {one.name}".rstrip(),
    access_data,
    lambda one: (one.arrives, one.source, one.destination),
    _families_of,
    meet_each_other,
)
