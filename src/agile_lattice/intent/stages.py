"""Translations as the two rule lists that a packet passes: on arrival and on departure.

A translation of the intent speaks in one or both of them: a two-way static rewrites
destinations on arrival and sources on departure. `split` takes the one list of the
intent apart into stage rules, one per protocol; `joining.join` puts them together again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.permits import Passage, real_services
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import FAMILY_OF_ICMP, Services
from agile_lattice.intent.translations import Dynamic, Exempt, Intercept, Own, Publish, Static, Translation, Twice
from agile_lattice.packets.spans import Spans, meet, minus

Stage = Literal["arrival", "departure"]
Verdict = Literal["keep", "rewrite", "shift", "egress", "ingress"]


class Rule(msgspec.Struct, frozen=True, gc=False):
    """One rule of one stage; the first that matches decides.

    Attributes:
        stage: On arrival destinations are rewritten, on departure sources.
        verdict: `keep` the packet as it is, `rewrite` to `to`, `shift` by the offset between what
            matched and `to`, or rewrite to the address of the `egress` interface, or of the `ingress` interface.
        protocol: One of `services.PROTOCOLS`; `None` for any.
        ports: Destination ports, or types of ICMP; `None` for any.
        to: New addresses.
        to_port: New destination port; `None` if it is kept.
        port_use: `shared` or `kept`, as in `translations.Dynamic`.
        rewrites_dns: As in `translations.Static`.
        rank: Its place where order is written as a number; `None` where the order is that of the list.
        own: If the destination has to be an address of the `interface` of arrival, or any of the `device`.
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
    rewrites_dns: bool = False
    name: str = ""
    rank: int | None = None
    own: Own | None = None
    place: Place = NOWHERE


def split(translations: Iterable[Translation]) -> list[Rule]:
    """Take translations apart into stage rules, in their order.

    That ports are kept needs no promise where one host has an address to itself: nobody else could take its port.
    """
    rules = [rule for one in translations for rule in _RULES_OF[type(one)](one)]
    promised = [rule for rule in rules if rule.port_use == "kept" and _one_to_one(rule)]
    if not promised:
        return rules
    kept = {id(each) for each in promised if not any(_shows_others(rule, each) for rule in rules)}
    return [replace(rule, port_use="shared") if id(rule) in kept else rule for rule in rules]


def _one_to_one(rule: Rule) -> bool:
    return all(each is not None and each.is_single for each in (rule.source, rule.to))


def _shows_others(rule: Rule, one: Rule) -> bool:
    """Tell whether a rule may show other hosts as the address of one that has it to itself."""
    if rule.stage == "arrival" or rule.verdict == "keep" or rule.source == one.source:
        return False
    return rule.to is None or one.to is None or bool(meet(rule.to.spans, one.to.spans))


def _exempt_rules(one: Exempt) -> list[Rule]:
    rules: list[Rule] = []
    for stage in _exempt_stages(one):
        rule = Rule(
            stage, "keep", one.arrives, one.leaves, one.source, one.destination, name=one.name, own=one.own,
            place=one.place,
        )  # fmt: skip
        rules += _per_protocol(rule, one.services)
    return rules


def _static_rules(one: Static) -> list[Rule]:
    outside, inside = AddressSet.of(one.external), AddressSet.of(one.internal)
    verdict: Verdict = "rewrite" if one.external.is_host else "shift"
    rules = []
    if one.direction != "outbound":
        arrival = Rule(
            "arrival", verdict, one.facing, destination=outside, to=inside, rewrites_dns=one.rewrites_dns,
            name=one.name, place=one.place,
        )  # fmt: skip
        rules.append(arrival)
        rules += _hairpin(arrival, one.hairpin, inside, None)
    if one.direction != "inbound":
        rules.append(Rule("departure", verdict, None, one.facing, inside, to=outside, name=one.name, place=one.place))
    return rules


def _publish_rules(one: Publish) -> list[Rule]:
    # By position, and at once for each service: a device can have very many of these.
    inside = AddressSet.of(one.internal)
    named = None if isinstance(one.external, str) else one.external
    own = one.external if isinstance(one.external, str) else None
    outside = None if named == AddressSet.everything(one.internal.family) else named
    rules = [
        Rule(
            "arrival", "rewrite", one.facing, None, one.source, outside, protocol, ports,
            inside, one.internal_port, "shared", one.rewrites_dns, one.name, None, own, one.place,
        )
        for protocol, ports in _protocols(one.services)
    ]  # fmt: skip
    if not one.hairpin:
        return rules
    arrival = replace(rules[0], protocol=None, ports=None)
    for rule in _hairpin(arrival, one.hairpin, inside, real_services(one)):
        rules += _per_protocol(rule, one.services if rule.stage == "arrival" else real_services(one))
    return rules


def _hairpin(arrival: Rule, clients: tuple[str, ...], inside: AddressSet, services: Services | None) -> list[Rule]:
    """Return what lets inside clients use the external address (RFC 4787 section 6).

    Destinations are rewritten for them too. A client on the host's own segment must be shown
    to the host as the device, or the host would answer it directly, from another address.
    """
    if not clients:
        return []
    rules = [] if arrival.arrives is None else [replace(arrival, arrives=clients)]
    for name in clients:
        rules.append(
            Rule("departure", "egress", (name,), (name,), None, inside, name=arrival.name, place=arrival.place)
        )
    return rules


def _dynamic_rules(one: Dynamic) -> list[Rule]:
    rule = Rule(
        "departure", "rewrite" if one.pool else "egress", one.arrives, one.leaves, one.source, one.destination,
        None, None, one.pool, None, one.ports, False, one.name, None, None, one.place,
    )  # fmt: skip
    if not one.reserved or one.pool is None:
        return _per_protocol(rule, one.services)
    rules: list[Rule] = []
    for each in one.reserved:
        held = replace(rule, source=AddressSet.of(each.internal), to=AddressSet.of(each.external))
        rules += _per_protocol(held, one.services)
    # What is reserved is for nobody else.
    free = minus(one.pool.spans, AddressSet.of(*(each.external for each in one.reserved)).spans)
    if free:
        rules += _per_protocol(replace(rule, to=AddressSet(one.pool.family, free)), one.services)
    return rules


def _twice_rules(one: Twice) -> list[Rule]:
    meant = AddressSet.of(one.new_destination)
    arrival = Rule(
        "arrival", "rewrite", one.arrives, None, one.source, AddressSet.of(one.destination),
        to=meant, name=one.name, place=one.place,
    )  # fmt: skip
    departure = Rule(
        "departure", "rewrite" if one.pool else "egress", one.arrives, one.leaves, one.source, meant,
        to=one.pool, port_use=one.ports, name=one.name, place=one.place,
    )  # fmt: skip
    return [*_per_protocol(arrival, one.services), *_per_protocol(departure, one.services)]


def _intercept_rules(one: Intercept) -> list[Rule]:
    verdict: Verdict = "ingress" if one.taken_at is None else "rewrite"
    to = None if one.taken_at is None else AddressSet.of(one.taken_at)
    rule = Rule(
        "arrival", verdict, one.arrives, None, one.source, one.destination, to=to, to_port=one.port, name=one.name,
        place=one.place,
    )  # fmt: skip
    return _per_protocol(rule, one.services)


def _exempt_stages(one: Exempt) -> tuple[Stage, ...]:
    if one.leaves is not None or one.at == "departure":
        return ("departure",)
    return ("arrival",) if one.at == "arrival" or one.own is not None else ("arrival", "departure")


_RULES_OF: dict[type[Translation], Callable[[Any], list[Rule]]] = {
    Static: _static_rules,
    Publish: _publish_rules,
    Dynamic: _dynamic_rules,
    Twice: _twice_rules,
    Exempt: _exempt_rules,
    Intercept: _intercept_rules,
}


def _protocols(services: Services | None) -> list[tuple[str | None, Spans | None]]:
    return [(None, None)] if services is None else [(each.protocol, each.ports) for each in services]


def _per_protocol(rule: Rule, services: Services | None) -> list[Rule]:
    if services is None:
        return [rule]
    return [replace(rule, protocol=each.protocol, ports=each.ports) for each in services]


def family_of(rule: Rule) -> int:
    """Return the family that a rule is for; one that names no addresses is for IPv4 (RFC 3022)."""
    named = rule.source or rule.destination or rule.to
    return named.family if named is not None else 4


def named_families(one: Rule | Passage) -> set[int]:
    """Return the families of what a rule names: of addresses, and of the messages that only one family has."""
    sets = (one.source, one.destination)
    named = {each.family for each in sets if each is not None}
    return named | {FAMILY_OF_ICMP[one.protocol]} if one.protocol in FAMILY_OF_ICMP else named


def overlap(left: Rule, right: Rule) -> bool:
    """Tell whether some packet matches both rules of a stage."""
    return (
        left.stage == right.stage
        and len(named_families(left) | named_families(right)) < 2
        and _sides_meet(left.arrives, right.arrives)
        and _sides_meet(left.leaves, right.leaves)
        and _sets_meet(left.source, right.source)
        and _sets_meet(left.destination, right.destination)
        and (left.protocol is None or right.protocol is None or left.protocol == right.protocol)
        and (left.ports is None or right.ports is None or bool(meet(left.ports, right.ports)))
    )


def _sides_meet(left: tuple[str, ...] | None, right: tuple[str, ...] | None) -> bool:
    return left is None or right is None or not set(left).isdisjoint(right)


def _sets_meet(left: AddressSet | None, right: AddressSet | None) -> bool:
    return left is None or right is None or bool(meet(left.spans, right.spans))
