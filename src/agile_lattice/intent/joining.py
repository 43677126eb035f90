"""Stage rules put together again into translations, in one normal order.

`join(split(x))` is the normal form in which two lists are compared: the order *within* each
stage is kept, and order that means nothing (between a rule that speaks only on arrival and
one that speaks only on departure) is settled one way. What an intent can say shorter, such
as a reservation, a hairpin or a twice translation, is spelt out rule by rule.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from itertools import groupby
from operator import attrgetter

import msgspec

from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.services import PORT_PROTOCOLS, Service, Services, union_of_services
from agile_lattice.intent.stages import Rule, Stage, family_of
from agile_lattice.intent.translations import (
    Direction,
    Dynamic,
    Exempt,
    Intercept,
    Moment,
    Publish,
    Static,
    Translation,
)
from agile_lattice.packets.order import longest_run


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
    if rule.own is not None and (rule.destination is not None or rule.verdict == "ingress"):
        return False  # which of these addresses are the device's own decides
    if rule.verdict == "shift":
        return _shifts_a_prefix(rule)
    if rule.stage == "departure" or rule.verdict == "keep":
        return rule.to_port is None
    if rule.to_port is not None and rule.protocol not in PORT_PROTOCOLS:
        return False
    return rule.verdict == "ingress" or (rule.to is not None and rule.to.is_single)


def _shifts_a_prefix(rule: Rule) -> bool:
    """Tell whether a rule moves one prefix onto another of its length, whatever else a packet says."""
    arrival = rule.stage == "arrival"
    matched, other = (rule.destination, rule.source) if arrival else (rule.source, rule.destination)
    if matched is None or rule.to is None or other is not None or rule.protocol or rule.to_port is not None:
        return False
    if (rule.leaves if arrival else rule.arrives) is not None:
        return False
    ends = [list(each.prefixes()) for each in (matched, rule.to)]
    return all(len(each) == 1 for each in ends) and ends[0][0].length == ends[1][0].length


_besides_service = attrgetter(
    "verdict", "arrives", "leaves", "source", "destination", "own", "to", "to_port", "port_use", "rewrites_dns", "name"
)


def _neighbourhood(rule: Rule) -> object:
    # Rules without a protocol never merge: each is a neighbourhood of its own.
    return _besides_service(rule) if rule.protocol else id(rule)


def _merge_services(rules: Sequence[Rule]) -> list[_Merged]:
    if len({rule.name for rule in rules}) == len(rules):  # in most lists each has a name of its own
        return [_Merged(rule, _services((rule,))) for rule in rules]
    merged = []
    for _, namesakes in groupby(rules, key=attrgetter("name")):
        for _, neighbours in groupby(namesakes, key=_neighbourhood):
            members = [*neighbours]
            merged.append(_Merged(members[0], _services(members)))
    return merged


def _services(rules: Sequence[Rule]) -> Services | None:
    """Return the services of rules that differ in nothing else."""
    if rules[0].protocol is None:
        return None
    return union_of_services([Service(each.protocol or "", each.ports) for each in rules])


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
    for position, each in enumerate(arrival if waiting else ()):
        half = _arrival_half(each)
        if half is not None and waiting.get(half):
            candidates.append((position, waiting[half].pop()))
    return [candidates[k] for k in longest_run([d for _, d in candidates])]


def _arrival_half(each: _Merged) -> object:
    rule = each.rule
    if rule.verdict == "keep":
        return ("keep", rule.name, rule.arrives, rule.source, rule.destination, each.services)
    single = rule.destination is not None and (rule.verdict == "shift" or rule.destination.is_single)
    plain = each.services is None and rule.source is None and rule.to_port is None
    if rule.verdict in ("rewrite", "shift") and single and plain:
        return ("static", rule.verdict, rule.name, rule.arrives, rule.destination, rule.to)
    return None


def _departure_half(each: _Merged) -> object:
    rule = each.rule
    if rule.verdict == "keep" and rule.leaves is None:
        return ("keep", rule.name, rule.arrives, rule.source, rule.destination, each.services)
    plain = each.services is None and rule.arrives is None and rule.destination is None
    if rule.verdict in ("rewrite", "shift") and plain and rule.port_use == "shared":
        return ("static", rule.verdict, rule.name, rule.leaves, rule.to, rule.source)
    return None


def _on_arrival(each: _Merged) -> Translation:
    rule = each.rule
    if rule.verdict == "keep":
        return _exempt(each, "arrival")
    if rule.verdict == "shift":
        return _static(rule, rule.destination, rule.to, rule.arrives, "inbound")
    if rule.verdict == "ingress":
        return Intercept(
            rule.name, rule.arrives, rule.source, rule.destination, each.services, rule.to_port, place=rule.place
        )
    external = rule.destination or rule.own or AddressSet.everything(family_of(rule))
    return Publish(
        external, _single(rule.to), rule.name, rule.arrives, rule.source, each.services,
        rule.to_port, rule.rewrites_dns, place=rule.place,
    )  # fmt: skip


def _on_departure(each: _Merged) -> Translation:
    rule = each.rule
    if rule.verdict == "keep":
        return _exempt(each, "departure")
    if rule.verdict == "shift":
        return _static(rule, rule.to, rule.source, rule.leaves, "outbound")
    return Dynamic(
        rule.name, rule.arrives, rule.leaves, rule.source, rule.destination,
        each.services, rule.to, rule.port_use, place=rule.place,
    )  # fmt: skip


def _two_way(each: _Merged) -> Translation:
    if each.rule.verdict == "keep":
        return _exempt(each, "both")
    return _static(each.rule, each.rule.destination, each.rule.to, each.rule.arrives, "both")


def _exempt(each: _Merged, at: Moment) -> Exempt:
    rule = each.rule
    return Exempt(
        rule.name, rule.arrives, rule.leaves, rule.source, rule.destination, each.services, at, rule.own,
        place=rule.place,
    )  # fmt: skip


def _static(
    rule: Rule, outside: AddressSet | None, inside: AddressSet | None, facing: tuple[str, ...] | None, way: Direction
) -> Static:
    return Static(_prefix(outside), _prefix(inside), rule.name, facing, way, rule.rewrites_dns, place=rule.place)


def _prefix(addresses: AddressSet | None) -> Prefix:
    assert addresses is not None  # only a static shifts, and both its ends are prefixes
    [prefix] = addresses.prefixes()
    return prefix


def _single(addresses: AddressSet | None) -> Address:
    assert addresses is not None  # `_has_word` lets nothing else pass
    return Address(addresses.family, addresses.spans[0][0])
