"""What a running system made of its addresses by itself, and what it learned, held against what it is told."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import AddressFact, Fact, InterfaceFact, LearnedAddressFact, MadeRouteFact
from agile_lattice.dialects.lowering import LEARNED
from agile_lattice.dialects.passes.named import LOOPBACK
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.model import Section
from agile_lattice.intent.routes import Route

ITSELF = (Prefix.parse("127.0.0.0/8"), Prefix.parse("::1/128"), Prefix.parse("fe80::/10"), Prefix.parse("ff00::/8"))
Links = set[tuple[Prefix, str | None]]
ANYWHERE: tuple[Section, ...] = ("interfaces", "routes", "answers")


def out_of_the_ordinary(facts: dict[str, list[Any]], known: Mapping[str, InterfaceFact]) -> list[Leftover]:
    """Take out what a system made by itself; return what does not follow from its addresses, and what is missing.

    Args:
        facts: All facts; changed.
        known: What all texts together say of each interface.
    """
    routes: list[MadeRouteFact] = facts.pop("made-route", [])
    learned: list[LearnedAddressFact] = facts.pop("learned-address", [])
    addresses: list[AddressFact] = facts.get("address", [])
    learning = {name for name, each in known.items() if any(getattr(each, field) for field in LEARNED.values())}
    found = [_learned(each) for each in learned if each.interface not in learning]
    found += [_learned(each) for each in routes if each.by != "kernel" and each.interface not in learning]
    if routes and addresses:
        # Addresses that were learned explain routes, too.
        found += _unexplained([each for each in routes if each.by == "kernel"], [*addresses, *learned], facts)
        found += _missing(routes, addresses, known, facts)
    return found


def _unexplained(
    routes: list[MadeRouteFact], addresses: list[AddressFact | LearnedAddressFact], facts: Mapping[str, list[Any]]
) -> Iterator[Leftover]:
    """Yield routes of the kernel that follow from no address."""
    hosts = {Prefix.host(each.address.address) for each in addresses}
    links: Links = {(each.address.network, each.interface) for each in addresses}
    links |= {(each.to, each.interface) for each in facts.get("route", []) if isinstance(each, Route)}
    whole = [each.address.network for each in addresses if each.interface == LOOPBACK]
    for each in routes:
        usual = each.to in hosts or any(net.contains(each.to) for net in (*ITSELF, *(whole if each.own else ())))
        if not usual and (each.own or (each.to, each.interface) not in links):
            yield _left(each, "the system has it for no address that it shows")


def _missing(
    routes: list[MadeRouteFact],
    addresses: list[AddressFact],
    known: Mapping[str, InterfaceFact],
    facts: Mapping[str, list[Any]],
) -> Iterator[Leftover]:
    """Yield addresses without the routes that a system makes of them: of families of which all its routes are shown."""
    shown = {each.to.family for each in routes if each.own}
    own = [each.to for each in routes if each.own]
    links: Links = {(each.to, each.interface) for each in routes if not each.own}
    links |= {(each.to, each.interface) for each in facts.get("route", []) if isinstance(each, Route)}
    for each in addresses:
        one, on = each.address, known.get(each.interface)
        if one.family not in shown or on is None or not on.enabled:
            continue
        # A new address of IPv6 is the device's own only when nobody else turned out to have it (RFC 4862).
        if one.family == 4 and not any(to.contains(one.address) for to in own):
            yield _left(each, "the system does not take packets to it: its local route is gone")
        if not (one.is_host or each.interface == LOOPBACK or (one.network, each.interface) in links):
            yield _left(each, f"the system has no route to {one.network} there, though that is its subnet")


def _learned(one: MadeRouteFact | LearnedAddressFact) -> Leftover:
    return _left(one, f"it was learned, and nothing says that {one.interface} learns anything")


def _left(one: Fact, reason: str) -> Leftover:
    [kind] = [each for each in FACTS.values() if each.record is type(one)]
    return Leftover(one.place, kind.describe(one), (), reason, ANYWHERE)
