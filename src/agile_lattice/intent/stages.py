"""Translations as the two rule lists that a packet passes: on arrival and on departure.

A translation of the intent speaks in one or both of them: a two-way static rewrites
destinations on arrival and sources on departure. `split` takes the one list of the
intent apart into stage rules, one per protocol; `join` puts stage rules together again.
`join(split(x))` is the normal form in which two lists are compared: the order *within*
each stage is kept, and order that means nothing (between a rule that speaks only on
arrival and one that speaks only on departure) is settled one way.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterable, Sequence
from itertools import groupby
from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.model import (
    ALL_PORTS,
    PORT_PROTOCOLS,
    Dynamic,
    Exempt,
    Publish,
    Service,
    Services,
    Static,
    Translation,
    union_of_services,
)
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.spans import Spans, covers, meet

Stage = Literal["arrival", "departure"]
Verdict = Literal["keep", "rewrite", "egress"]


class Rule(msgspec.Struct, frozen=True, gc=False):
    """One rule of one stage; the first that matches decides.

    Attributes:
        stage: On arrival destinations are rewritten, on departure sources.
        verdict: `keep` the packet as it is, `rewrite` to `to`, or to the address of the `egress` interface.
        protocol: One of `model.PROTOCOLS`; `None` for any.
        ports: Destination ports; `None` for any.
        to: New addresses, one span.
        to_port: New destination port; `None` if it is kept.
        port_use: `shared` or `kept`, as in `model.Dynamic`.
    """

    stage: Stage
    verdict: Verdict
    arrives: tuple[str, ...] | None = None
    leaves: tuple[str, ...] | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    protocol: str | None = None
    ports: Spans | None = None
    to: AddressSet | None = None
    to_port: int | None = None
    port_use: Literal["shared", "kept"] = "shared"
    name: str = ""
    place: Place = NOWHERE


def split(translations: Iterable[Translation]) -> list[Rule]:
    """Take translations apart into stage rules, in their order."""
    return [rule for translation in translations for rule in _rules_of(translation)]


def _rules_of(one: Translation) -> list[Rule]:
    if isinstance(one, Static):
        outside, inside = AddressSet.of(one.external), AddressSet.of(one.internal)
        return [
            Rule(
                "arrival",
                "rewrite",
                one.facing,
                destination=outside,
                to=inside,
                name=one.name,
                place=one.place,
            ),
            Rule("departure", "rewrite", None, one.facing, inside, to=outside, name=one.name, place=one.place),
        ]
    if isinstance(one, Publish):
        rule = Rule(
            "arrival", "rewrite", one.facing, None, one.source, AddressSet.of(one.external),
            to=AddressSet.of(one.internal), to_port=one.internal_port, name=one.name, place=one.place,
        )  # fmt: skip
        return _per_protocol(rule, one.services)
    if isinstance(one, Dynamic):
        verdict: Verdict = "rewrite" if one.pool else "egress"
        rule = Rule(
            "departure", verdict, one.arrives, one.leaves, one.source, one.destination,
            to=one.pool, port_use=one.ports, name=one.name, place=one.place,
        )  # fmt: skip
        return _per_protocol(rule, one.services)
    rules: list[Rule] = []
    for stage in _exempt_stages(one):
        rule = Rule(
            stage,
            "keep",
            one.arrives,
            one.leaves,
            one.source,
            one.destination,
            name=one.name,
            place=one.place,
        )
        rules += _per_protocol(rule, one.services)
    return rules


def _exempt_stages(one: Exempt) -> tuple[Stage, ...]:
    if one.leaves is not None or one.at == "departure":
        return ("departure",)
    return ("arrival",) if one.at == "arrival" else ("arrival", "departure")


def _per_protocol(rule: Rule, services: Services | None) -> list[Rule]:
    if services is None:
        return [rule]
    return [msgspec.structs.replace(rule, protocol=each.protocol, ports=each.ports) for each in services]


class _Merged(msgspec.Struct, frozen=True, gc=False):
    """Neighbouring rules that differ in their services only, as one."""

    rule: Rule
    services: Services | None


def join(rules: Iterable[Rule]) -> tuple[tuple[Translation, ...], list[Rule]]:
    """Put stage rules together into translations, in normal order.

    Args:
        rules: Rules of both stages; the order within each stage counts.

    Returns:
        The translations, and the rules that say something an intent has no word for
        (a destination rewritten without naming the external address, for example).
    """
    unsaid: list[Rule] = []
    by_stage: dict[Stage, list[Rule]] = {"arrival": [], "departure": []}
    for rule in rules:
        (by_stage[rule.stage] if _has_word(rule) else unsaid).append(rule)
    arrival, departure = _merge_services(by_stage["arrival"]), _merge_services(by_stage["departure"])

    result: list[Translation] = []
    i = j = 0
    for a, d in [*_pairs(arrival, departure), (len(arrival), len(departure))]:
        result += [_on_arrival(each) for each in arrival[i:a]]
        result += [_on_departure(each) for each in departure[j:d]]
        if a < len(arrival):
            result.append(_two_way(arrival[a]))
        i, j = a + 1, d + 1
    return tuple(result), unsaid


def _has_word(rule: Rule) -> bool:
    if rule.stage == "departure" or rule.verdict == "keep":
        return True
    if rule.to_port is not None and rule.protocol not in PORT_PROTOCOLS:
        return False
    return bool(rule.destination and rule.destination.is_single and rule.to and rule.to.is_single)


def _without_service(rule: Rule) -> tuple[object, ...]:
    # Rules without a protocol never merge: each is a neighbourhood of its own.
    unique = None if rule.protocol else id(rule)
    return (
        rule.verdict, rule.arrives, rule.leaves, rule.source, rule.destination,
        rule.to, rule.to_port, rule.port_use, rule.name, unique,
    )  # fmt: skip


def _merge_services(rules: Sequence[Rule]) -> list[_Merged]:
    merged = []
    for _, neighbours in groupby(rules, key=_without_service):
        first, *more = neighbours
        services: Services | None = None
        if first.protocol is not None:
            services = (Service(first.protocol, first.ports),)
            if more or first.ports == ALL_PORTS:
                services = union_of_services([Service(each.protocol or "", each.ports) for each in (first, *more)])
        merged.append(_Merged(first, services))
    return merged


def _pairs(arrival: Sequence[_Merged], departure: Sequence[_Merged]) -> list[tuple[int, int]]:
    """Find which arrival rule and which departure rule are the two halves of one translation.

    Halves that stand in contradicting orders cannot be one entry of one list; the longest
    run that is in the same order in both stages is paired, the others stay halves.
    """
    waiting: dict[object, list[int]] = defaultdict(list)
    for position in range(len(departure) - 1, -1, -1):
        half = _departure_half(departure[position])
        if half is not None:
            waiting[half].append(position)
    candidates = []
    for position, each in enumerate(arrival):
        half = _arrival_half(each)
        if half is not None and waiting.get(half):
            candidates.append((position, waiting[half].pop()))
    return [candidates[k] for k in longest_rise([d for _, d in candidates])]


def _arrival_half(each: _Merged) -> object:
    rule = each.rule
    if rule.verdict == "keep":
        return ("keep", rule.name, rule.arrives, rule.source, rule.destination, each.services)
    if each.services is None and rule.source is None and rule.to_port is None:
        return ("static", rule.name, rule.arrives, rule.destination, rule.to)
    return None


def _departure_half(each: _Merged) -> object:
    rule = each.rule
    if rule.verdict == "keep" and rule.leaves is None:
        return ("keep", rule.name, rule.arrives, rule.source, rule.destination, each.services)
    plain = each.services is None and rule.arrives is None and rule.destination is None
    if rule.verdict == "rewrite" and plain and rule.port_use == "shared":
        return ("static", rule.name, rule.leaves, rule.to, rule.source)
    return None


def longest_rise(values: Sequence[int]) -> list[int]:
    """Return the indices of a longest strictly rising subsequence (patience sorting, n log n)."""
    tails: list[int] = []
    tail_indices: list[int] = []
    before: list[int] = []
    for index, value in enumerate(values):
        slot = bisect_left(tails, value)
        before.append(tail_indices[slot - 1] if slot else -1)
        if slot == len(tails):
            tails.append(value)
            tail_indices.append(index)
        else:
            tails[slot] = value
            tail_indices[slot] = index
    chain = []
    index = tail_indices[-1] if tail_indices else -1
    while index >= 0:
        chain.append(index)
        index = before[index]
    return chain[::-1]


def _on_arrival(each: _Merged) -> Translation:
    rule = each.rule
    if rule.verdict == "keep":
        return _exempt(each, "arrival")
    external, internal = _ends(rule)
    return Publish(external, internal, rule.name, rule.arrives, rule.source, each.services, rule.to_port, rule.place)


def _ends(rule: Rule) -> tuple[Address, Address]:
    """Return the external and the internal address of an arrival rule."""
    external = rule.destination.single if rule.destination else None
    internal = rule.to.single if rule.to else None
    assert external is not None and internal is not None  # `_has_word` lets no other rule pass
    return external, internal


def _on_departure(each: _Merged) -> Translation:
    rule = each.rule
    if rule.verdict == "keep":
        return _exempt(each, "departure")
    return Dynamic(
        rule.name, rule.arrives, rule.leaves, rule.source, rule.destination,
        each.services, rule.to, rule.port_use, rule.place,
    )  # fmt: skip


def _two_way(each: _Merged) -> Translation:
    rule = each.rule
    if rule.verdict == "keep":
        return _exempt(each, "both")
    external, internal = _ends(rule)
    return Static(external, internal, rule.name, rule.arrives, rule.place)


def _exempt(each: _Merged, at: Literal["arrival", "departure", "both"]) -> Exempt:
    rule = each.rule
    return Exempt(rule.name, rule.arrives, rule.leaves, rule.source, rule.destination, each.services, at, rule.place)


def overlap(left: Rule, right: Rule) -> bool:
    """Tell whether some packet matches both rules of a stage."""
    return (
        left.stage == right.stage
        and _sides_meet(left.arrives, right.arrives)
        and _sides_meet(left.leaves, right.leaves)
        and _sets_meet(left.source, right.source)
        and _sets_meet(left.destination, right.destination)
        and (left.protocol is None or right.protocol is None or left.protocol == right.protocol)
        and (left.ports is None or right.ports is None or bool(meet(left.ports, right.ports)))
    )


def takes_all(earlier: Rule, later: Rule) -> bool:
    """Tell whether every packet that matches `later` matches `earlier`, of the same stage, too."""
    return (
        earlier.stage == later.stage
        and _side_within(later.arrives, earlier.arrives)
        and _side_within(later.leaves, earlier.leaves)
        and _set_within(later.source, earlier.source)
        and _set_within(later.destination, earlier.destination)
        and (earlier.protocol is None or earlier.protocol == later.protocol)
        and (earlier.ports is None or (later.ports is not None and covers(earlier.ports, later.ports)))
    )


def _sides_meet(left: tuple[str, ...] | None, right: tuple[str, ...] | None) -> bool:
    return left is None or right is None or not set(left).isdisjoint(right)


def _sets_meet(left: AddressSet | None, right: AddressSet | None) -> bool:
    return left is None or right is None or bool(meet(left.spans, right.spans))


def _side_within(inner: tuple[str, ...] | None, outer: tuple[str, ...] | None) -> bool:
    return outer is None or (inner is not None and set(inner) <= set(outer))


def _set_within(inner: AddressSet | None, outer: AddressSet | None) -> bool:
    return outer is None or (inner is not None and covers(outer.spans, inner.spans))
