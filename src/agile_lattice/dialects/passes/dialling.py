"""What a dial-up line can have where another program dials: nothing that has to wait until it is up."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import AddressFact, InterfaceFact
from agile_lattice.dialects.passes import Facts
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route

REASON = "this interface dials, and its line is not up yet when this would be set"


def only_dialled(facts: Facts, dialect: str) -> Facts:
    """Refuse addresses of lines that dial, what they would learn otherwise, and routes over them.

    Raises:
        Refusals: With each of them.
    """
    lines = {
        each.interface: each for each in facts.get("interface", []) if isinstance(each, InterfaceFact) and each.dials
    }
    refusals = [Refusal(dialect, subject, key, place, REASON) for subject, key, place in _held(facts, lines)]
    if refusals:
        raise Refusals(refusals)
    return facts


def _held(facts: Facts, lines: dict[str, InterfaceFact]) -> Iterator[tuple[str, str, Place]]:
    for address in facts.get("address", []):
        if isinstance(address, AddressFact) and address.interface in lines:
            yield f"interface {address.interface}", "address", address.place
    for route in facts.get("route", []):
        if isinstance(route, Route) and route.interface in lines:
            yield f"route {route.destination}", "interface", route.place.at("interface")
    for name, line in lines.items():
        if line.dhcp4 or line.dhcp6 or line.slaac:
            yield f"interface {name}", "learns", line.place.at("learns")
