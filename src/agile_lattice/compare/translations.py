"""Translations compared: which are missing, which differ, and which stand in another order."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from agile_lattice.compare.differences import Difference, Field, field_differences, paired, weigh
from agile_lattice.intent.joining import longest_rise
from agile_lattice.intent.stages import Stage, overlap, split
from agile_lattice.intent.translations import Dynamic, Exempt, Publish, Static, Translation
from agile_lattice.notation.plain import translation_data

STAGES: tuple[Stage, ...] = ("arrival", "departure")
Pair = tuple[Translation, Translation]


def translation_differences(wanted: Sequence[Translation], found: Sequence[Translation]) -> Iterator[Difference]:
    """Compare two lists of translations, both in normal form."""
    missing, extra = list(wanted), list(found)
    pairs = paired(missing, extra, lambda each: each)
    pairs += paired(missing, extra, lambda each: each.name or id(each))
    pairs += paired(missing, extra, _without_name)
    pairs += paired(missing, extra, _purpose, alone=True)
    partner: dict[int, Translation] = {id(one): other for one, other in pairs}
    moved = _moved(pairs, wanted, found)
    for one in wanted:
        other = partner.get(id(one))
        if other is None:
            yield Difference("missing", "translations", describe(one), "open", intent=one.place)
            continue
        fields = field_differences(translation_data(one), translation_data(other))
        if fields:
            place = one.place.at(fields[0].name)
            yield Difference("differs", "translations", describe(one), weigh(fields), fields, "", place, other.place)
        if id(one) in moved:
            yield _move(one, other, moved[id(one)])
    for other in extra:
        yield Difference("extra", "translations", describe(other), "open", device=other.place)


def describe(one: Translation) -> str:
    """Return a translation in a few words."""
    if one.name:
        return f"translation {one.name}"
    if isinstance(one, Publish):
        return f"publish {one.external} on {one.internal}"
    if isinstance(one, Static):
        return f"static {one.external.shortest} on {one.internal.shortest}"
    return "exemption" if isinstance(one, Exempt) else "dynamic translation"


def _without_name(one: Translation) -> object:
    return type(one), tuple(sorted((key, str(value)) for key, value in translation_data(one).items() if key != "name"))


def _purpose(one: Translation) -> object:
    """What a translation is for: two that share it are the same one, changed."""
    if isinstance(one, Publish | Static):
        return type(one), one.external, getattr(one, "services", None)
    if isinstance(one, Dynamic):
        return type(one), one.arrives, one.leaves, one.source
    return type(one), one.arrives, one.leaves, one.source, one.destination


def _stages(one: Translation) -> tuple[Stage, ...]:
    spoken = {rule.stage for rule in split([one])}
    return tuple(stage for stage in STAGES if stage in spoken)


def _moved(pairs: Iterable[Pair], wanted: Sequence[Translation], found: Sequence[Translation]) -> dict[int, list[Pair]]:
    """Return, for each translation that stands elsewhere, the pairs that it has passed.

    The fewest that explain the order: all pairs off a longest run that is in order on both
    sides, in each stage by itself, since order between stages means nothing.
    """
    here = {id(one): index for index, one in enumerate(wanted)}
    there = {id(other): index for index, other in enumerate(found)}
    moved: dict[int, list[Pair]] = {}
    in_order = sorted(pairs, key=lambda pair: here[id(pair[0])])
    for stage in STAGES:
        members = [pair for pair in in_order if stage in _stages(pair[0]) and stage in _stages(pair[1])]
        positions = [there[id(other)] for _, other in members]
        kept = set(longest_rise(positions))
        for index, pair in enumerate(members):
            if index not in kept:
                passed = [
                    members[k]
                    for k in range(len(members))
                    if (k < index) != (positions[k] < positions[index]) and k != index
                ]
                moved.setdefault(id(pair[0]), []).extend(each for each in passed)
    return moved


def _move(one: Translation, other: Translation, passed: list[Pair]) -> Difference:
    touching = [each for each, _ in passed if _meet(one, each)]
    if not touching:
        return Difference(
            "moved", "translations", describe(one), "cosmetic", (),
            "no packet matches both it and a rule that it has passed", one.place, other.place,
        )  # fmt: skip
    names = ", ".join(dict.fromkeys(describe(each).removeprefix("translation ") for each in touching))
    fields = (Field("order", f"before {names}", f"after {names}"),) if _before(one, touching[0]) else (
        Field("order", f"after {names}", f"before {names}"),
    )  # fmt: skip
    note = f"packets that match both it and {names} are treated by the other rule"
    return Difference("moved", "translations", describe(one), "open", fields, note, one.place, other.place)


def _before(one: Translation, other: Translation) -> bool:
    return (one.place.file, one.place.line) <= (other.place.file, other.place.line)


def _meet(one: Translation, other: Translation) -> bool:
    return any(overlap(left, right) for left in split([one]) for right in split([other]))
