"""Addresses and services that are declared apart and used by name."""

from __future__ import annotations

from collections.abc import Collection
from itertools import chain, count
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.facts import AddressSetFact, Fact, ServiceFact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.intent.addresses import AddressSet, spell_range
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.services import spell_ports
from agile_lattice.intent.stages import Rule

SETS = ("source", "destination", "to")
KINDS = ("rule", "permit", "access")


def group_name(addresses: AddressSet) -> str:
    """Return a name that says what it stands for."""
    spelt = "_".join(spell_range(addresses.family, span) for span in addresses.spans[:2])
    more = f"_and-{len(addresses.spans) - 2}-more-{hash_of(addresses)}" if len(addresses.spans) > 2 else ""
    return f"net-{spelt.replace(':', '.')}{more}"


def hash_of(addresses: AddressSet) -> int:
    """Return a number that tells long lists apart; the same in every process."""
    number = 0
    for first, last in addresses.spans:
        number = (number * 1000003 + first * 31 + last) % 1_000_000_007
    return number


def service_name(protocol: str, spans: Any) -> str:
    """Return a name that says what it stands for."""
    if spans is None:
        return f"any-{protocol}"
    return f"{protocol}-{'_'.join(spell_ports(span) for span in spans)}"


def _free(name: str, taken: Collection[str]) -> str:
    """Return a name that nothing else has."""
    numbered = (f"{name}-{number}" for number in count(2))
    return next(each for each in chain([name], numbered) if each not in taken)


def used_in(facts: Facts) -> set[Any]:
    """Return the sets of addresses and the services that rules use."""
    rules = [each for kind in KINDS for each in facts.get(kind, []) if isinstance(each, Rule | Passage)]
    sets = {getattr(each, field, None) for each in rules for field in SETS}
    return (sets | {(each.protocol, each.ports) for each in rules if each.protocol is not None}) - {None}


def stands_for(fact: Fact) -> Any:
    """Return what a declared name stands for, as `used_in` has it."""
    return (fact.protocol, fact.ports) if isinstance(fact, ServiceFact) else getattr(fact, "addresses", None)


def _down(facts: Facts, dialect: str) -> Facts:
    known_groups = [each for each in facts.get("address-set", []) if isinstance(each, AddressSetFact)]
    known_offers = [each for each in facts.get("service", []) if isinstance(each, ServiceFact)]
    groups: dict[str, Fact] = {each.name: each for each in known_groups if not each.spare}
    offers: dict[str, Fact] = {each.name: each for each in known_offers if not each.spare}
    # What a device has a name for already goes by that name; else by the intent's, if nothing else is called so.
    group_names: dict[AddressSet, str] = {}
    for group in sorted(known_groups, key=lambda each: each.spare):
        if not group.spare or group.name not in groups:
            group_names.setdefault(group.addresses, group.name)
    offer_names: dict[Any, str] = {}
    for offer in sorted(known_offers, key=lambda each: each.spare):
        if not offer.spare or offer.name not in offers:
            offer_names.setdefault((offer.protocol, offer.ports), offer.name)
    changed: Facts = {}
    for kind in KINDS:
        members: list[Fact] = []
        for fact in facts.get(kind, []):
            assert isinstance(fact, Rule | Passage)
            named: dict[str, Any] = {}
            for field in SETS:
                addresses = getattr(fact, field, None)
                if addresses is not None:
                    name = group_names.setdefault(addresses, _free(group_name(addresses), groups))
                    groups.setdefault(name, AddressSetFact(name, addresses, place=fact.place))
                    named[field] = name
            if fact.protocol is not None:
                service = fact.protocol, fact.ports
                name = offer_names.setdefault(service, _free(service_name(*service), offers))
                offers.setdefault(name, ServiceFact(name, fact.protocol, fact.ports, place=fact.place))
                named |= {"protocol": name, "ports": None}
            members.append(replace(fact, **named))
        changed[kind] = members
    return {**facts, **changed, "address-set": list(groups.values()), "service": list(offers.values())}


def _up(facts: Facts) -> Facts:
    groups = {fact.name: fact.addresses for fact in facts.get("address-set", []) if isinstance(fact, AddressSetFact)}
    offers = {fact.name: fact for fact in facts.get("service", []) if isinstance(fact, ServiceFact)}
    changed: Facts = {}
    lost: list[Fact] = []
    for kind in KINDS:
        members: list[Fact] = []
        for fact in facts.get(kind, []):
            assert isinstance(fact, Rule | Passage)
            meant: dict[str, Any] = {}
            known = True
            for field in SETS:
                name = getattr(fact, field, None)
                if isinstance(name, str):
                    meant[field] = groups.get(name)
                    known = known and name in groups
            if fact.protocol is not None:
                offer = offers.get(fact.protocol)
                known = known and offer is not None
                meant |= {"protocol": offer.protocol, "ports": offer.ports} if offer is not None else {}
            (members if known else lost).append(replace(fact, **meant) if known else fact)
        changed[kind] = members
    return {**facts, **changed, "lost": lost}


APART = Pass(_down, _up)
# Where nothing is declared apart, names have no place.
INLINE = Pass(lambda facts, dialect: {**facts, "address-set": [], "service": []}, lambda facts: facts)
