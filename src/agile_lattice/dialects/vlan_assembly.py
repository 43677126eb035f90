"""Which VLANs the ports of a bridge are in (IEEE 802.1Q), from what several texts say of it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import msgspec

from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import InterfaceFact, MemberFact, VlanMemberFact
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.places import Place


def known_interfaces(facts: Mapping[str, list[Any]]) -> dict[str, InterfaceFact]:
    """Return what all texts together say of each interface, in the order in which they are named."""
    known: dict[str, InterfaceFact] = {}
    for fact in facts.get("interface", []):
        known[fact.interface] = _united(known[fact.interface], fact) if fact.interface in known else fact
    return known


def put_in_vlans(facts: dict[str, list[Any]], known: bool) -> list[Leftover]:
    """Put each port of which no text says its VLANs in the one that its bridge has for it.

    Args:
        facts: All facts; changed.
        known: Whether the texts say all that is said of VLANs in bridges.

    Returns:
        What an intent has no word for: a VLAN with a tag on one way only, a port that is in the VLAN of the bridge and
        in others, and a bridge that keeps VLANs apart while no text says who is in any.
    """
    said: list[VlanMemberFact] = facts.get("vlan-member", [])
    found = [one_way(fact) for fact in said if fact.pvid != fact.untagged]
    if not known:
        return found
    held = {each.interface for each in said}
    for bridge in known_interfaces(facts).values():
        if not bridge.by_vlan:
            continue
        ports = list(_ports(bridge, facts.get("member", [])))
        if bridge.default_vlan is None:
            found += [] if held.intersection(ports) else [_unsaid(bridge)]
            continue
        place = bridge.place.at("default_vlan")
        found += [_besides(bridge, port, place) for port in ports if port in held]
        facts["vlan-member"] = [
            *facts.get("vlan-member", []),
            *(
                VlanMemberFact(port, bridge.default_vlan, True, True, port == bridge.interface, place)
                for port in ports
                if port not in held
            ),
        ]
    return found


def counted_vlans(facts: Mapping[str, list[Any]], known: Mapping[str, InterfaceFact]) -> Iterator[VlanMemberFact]:
    """Yield the VLANs that count: all members of a bridge that does not keep them apart are said to be in 1."""
    masters = {each.interface: known.get(each.master) for each in facts.get("member", [])}
    for fact in facts.get("vlan-member", []):
        bridge = masters.get(fact.interface) or known.get(fact.interface)
        if fact.pvid == fact.untagged and (bridge is None or bridge.by_vlan or not bridge.bridge):
            yield fact


def one_way(fact: VlanMemberFact) -> Leftover:
    """Return a VLAN that has a tag in one direction only."""
    return _left(
        fact.place, FACTS["vlan-member"].describe(fact), "it has no tag on one way only, and an intent cannot say so"
    )


def _ports(bridge: InterfaceFact, members: Iterable[MemberFact]) -> Iterator[str]:
    yield bridge.interface
    yield from (each.interface for each in members if each.master == bridge.interface)


def _unsaid(bridge: InterfaceFact) -> Leftover:
    reason = "it keeps VLANs apart (IEEE 802.1Q), and no text says which of them its ports are in"
    return _left(bridge.place, f"bridge {bridge.interface}", reason)


def _besides(bridge: InterfaceFact, port: str, place: Place) -> Leftover:
    reason = f"{bridge.interface} puts {port} in this VLAN, too, unless something takes it out again"
    return _left(place, f"VLAN {bridge.default_vlan} on {port}", reason)


def _left(place: Place, what: str, reason: str) -> Leftover:
    return Leftover(place, what, (), reason, ("bridging",))


def _united(one: InterfaceFact, other: InterfaceFact) -> InterfaceFact:
    """Put together what two texts say of one interface: the places tell which fields each speaks of."""
    parts = {**(one.place.parts or {}), **(other.place.parts or {})}
    said = {
        field: getattr(other, field) for field in InterfaceFact.__struct_fields__ if field in (other.place.parts or {})
    }
    return msgspec.structs.replace(one, **said, place=Place(one.place.file, one.place.line, parts))
