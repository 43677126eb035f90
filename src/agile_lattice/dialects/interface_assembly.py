"""Interfaces put together from what several statements, and several texts, say of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.facts import AddressFact, DialFact, InterfaceFact
from agile_lattice.dialects.lowering import LEARNED, alike
from agile_lattice.dialects.passes.named import LOOPBACK, MARKED
from agile_lattice.dialects.reading.texts import Reading
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.vlan_assembly import counted_vlans, known_interfaces
from agile_lattice.intent.interfaces import Bridge, Dial, Interface, Secret
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import Place


def interfaces_of(
    facts: dict[str, list[Any]], zones: Mapping[str, str], sections: Collection[Section]
) -> tuple[Interface, ...]:
    """Put interfaces together from what texts say of them, in the order in which they are named.

    Args:
        facts: All facts.
        zones: The zone of each interface that is in one.
        sections: The sections that the texts speak of.
    """
    undialled = _undialled(facts, sections)
    known = known_interfaces(facts)
    held: dict[str, list[AddressFact]] = {name: [] for name in known}
    for address in facts.get("address", []):
        held.setdefault(address.interface, []).append(address)
    members = grouped(facts.get("member", []), "master")
    carried = grouped(counted_vlans(facts, known), "interface")
    resolvers = grouped(facts.get("interface-resolver", []), "interface")
    domains = grouped(facts.get("interface-search", []), "interface")
    dials: dict[str, DialFact] = {each.interface: each for each in facts.get("dial-up", [])}
    for name in (
        *members,
        *carried,
        *resolvers,
        *domains,
        *dials,
        *(each.interface for each in facts.get("member", [])),
    ):
        held.setdefault(name, [])
    interfaces = []
    for name, addresses in held.items():
        fact = known.get(name) or InterfaceFact(name, place=addresses[0].place if addresses else Place())
        dial = dials.get(name)
        key = "loopback" if fact.loopback else "address"
        spots = Place(fact.place.file, fact.place.line, {index: each.place for index, each in enumerate(addresses)})
        joins: dict[str | int, Place] = {
            "untagged" if each.untagged else "tagged": each.place for each in carried.get(name, [])
        }
        if dial:
            joins |= {"dial": dial.place, "mtu": dial.place.at("mtu")}
        place = Place(fact.place.file, fact.place.line, {**(fact.place.parts or {}), key: spots, **joins})
        vlans = tuple(sorted({each.vlan for each in carried.get(name, []) if not each.untagged}))
        is_bridge = fact.bridge or name in members or any(each.own for each in carried.get(name, []))
        joined = tuple(sorted({each.interface for each in members.get(name, [])}))
        interfaces.append(
            alike(
                Interface, fact, name=name, zone=zones.get(name, ""), place=place,
                addresses=tuple(each.address for each in addresses),
                learns=tuple(word for word, field in LEARNED.items() if getattr(fact, field)),
                dial=_dial(dial) if dial else None,
                mtu=dial.mtu if dial else fact.mtu,
                enabled=fact.enabled and not (dial and name in undialled),
                bridge=Bridge(joined, vlans) if is_bridge else None,
                tagged=() if is_bridge else vlans,
                resolvers=tuple(each.address for each in resolvers.get(name, [])),
                search=tuple(each.domain for each in domains.get(name, [])),
                untagged=next((each.vlan for each in carried.get(name, []) if each.untagged), None),
            )
        )  # fmt: skip
    return tuple(interfaces)


def masterless(facts: dict[str, list[Any]]) -> list[Leftover]:
    """Make members of those of which some text says that their master is a bridge; return what the others are."""
    bridges = {each.interface for each in facts.get("interface", []) if each.bridge}
    parts = facts.pop("masterless", [])
    facts["member"] = [*facts.get("member", []), *(each for each in parts if each.master in bridges)]
    reason = "nothing says that its master is a bridge, which could be a bond or a VRF"
    return [
        Leftover(each.place, f"{each.interface} as a part of {each.master}", (), reason, ("interfaces", "bridging"))
        for each in parts
        if each.master not in bridges
    ]


def not_brought_up(
    facts: dict[str, list[Any]], readings: Iterable[Reading], dialects: Iterable[Dialect]
) -> list[Leftover]:
    """Name the interfaces that some text configures and none brings up, where a system leaves them down then."""
    wanting = {each.name for each in dialects if each.semantics.state == "said"}
    told = {each.interface for each in facts.get("interface", []) if "enabled" in (each.place.parts or {})}
    found: dict[str, Place] = {}
    for reading in readings:
        if reading.dialect in wanting:
            named: list[Any] = [
                each for kind in ("interface", "address", "member") for each in reading.facts.get(kind, [])
            ]
            for each in named:
                found.setdefault(each.interface, each.place)
    reason = "nothing says that it is up, and what nobody brings up stays down"
    return [
        Leftover(place, f"interface {name}", (), reason, ("interfaces",))
        for name, place in found.items()
        if name not in told and name != LOOPBACK
    ]


def only_marked(facts: dict[str, list[Any]]) -> list[Leftover]:
    """Name the interfaces that are marked to be brought up while no text says how: the program knows none of them."""
    told = {each.interface for each in facts.get("address", [])} | {LOOPBACK}
    told |= {each.interface for each in facts.get("interface", []) if MARKED not in (each.place.parts or {})}
    reason = "it is marked to be brought up, and nothing says how"
    return [
        Leftover(each.place, f"interface {each.interface}", (), reason, ("interfaces",))
        for each in facts.get("interface", [])
        if each.interface not in told
    ]


def unknown_dials(facts: dict[str, list[Any]]) -> list[Leftover]:
    """Take out dial-up lines of which not all is known; return them, and the interfaces that dial nobody knows what."""
    lines: list[DialFact] = facts.get("dial-up", [])
    facts["dial-up"] = [each for each in lines if each.over and each.credentials]
    half = "nothing says over which interface it runs, or in which file its user name and password are"
    unnamed = "no text says what this interface dials: capture the file that it names, too"
    found = [(each, half) for each in lines if not (each.over and each.credentials)]
    known = {each.interface for each in lines}
    found += [(each, unnamed) for each in facts.get("interface", []) if each.dials and each.dials not in known]
    return [
        Leftover(each.place, f"the dial-up line {each.interface}", (), reason, ("interfaces", "dial-up"))
        for each, reason in found
    ]


def _undialled(facts: dict[str, list[Any]], sections: Collection[Section]) -> set[str]:
    """Return the lines that nothing dials when the system starts, as far as texts speak of it."""
    dialled = {each.dials for each in facts.get("interface", []) if each.enabled}
    return {each.interface for each in facts.get("dial-up", [])} - dialled if "interfaces" in sections else set()


def _dial(fact: DialFact) -> Dial:
    """Return what an interface dials: user and password are in one file."""
    secret = Secret("file", fact.credentials)
    return Dial(fact.over, secret, secret)


def grouped(facts: Iterable[Any], field: str) -> dict[str, list[Any]]:
    """Return facts by one of their fields."""
    found: dict[str, list[Any]] = {}
    for fact in facts:
        found.setdefault(getattr(fact, field), []).append(fact)
    return found
