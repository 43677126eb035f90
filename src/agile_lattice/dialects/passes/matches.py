"""What steps of a program match: sets of packets that are said field by field, and narrowed."""

from __future__ import annotations

from typing import Any

import msgspec

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.interface_names import includes, is_plain
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Spans, meet

Names = tuple[str, ...]


class Unclear(Exception):
    """Something cannot be said in lists of rules; the text says what."""


class Match(msgspec.Struct, frozen=True):
    """Packets, by what they have in each field; `None` for anything.

    Attributes:
        arrives, leaves: Interfaces: `!lan0` is any other one, `eth*` any whose name begins so.
        own: If the destination is an address of the ingress `interface`, or any of the `device`.
    """

    arrives: Names | None = None
    leaves: Names | None = None
    source: AddressSet | None = None
    destination: AddressSet | None = None
    protocol: str | None = None
    ports: Spans | None = None
    own: str | None = None


def narrowed(one: Match, other: Match) -> Match | None:
    """Return the packets that two matches have in common; `None` if there are none.

    Raises:
        Unclear: If these cannot be said.
    """
    found: dict[str, Any] = {}
    for field in ("arrives", "leaves"):
        names = _names(getattr(one, field), getattr(other, field))
        if names == ():
            return None
        found[field] = names
    for field in ("source", "destination"):
        left, right = getattr(one, field), getattr(other, field)
        both = (
            left if right is None else right if left is None else AddressSet(left.family, meet(left.spans, right.spans))
        )
        if both is not None and not both.spans:
            return None
        found[field] = both
    if None not in (one.protocol, other.protocol) and one.protocol != other.protocol:
        return None
    if None not in (one.own, other.own) and one.own != other.own:
        raise Unclear("it asks for the device's own addresses in two ways")
    ports = one.ports if other.ports is None else other.ports if one.ports is None else meet(one.ports, other.ports)
    if ports == ():
        return None
    return Match(**found, protocol=one.protocol or other.protocol, ports=ports, own=one.own or other.own)


def _names(one: Names | None, other: Names | None) -> Names | None:
    if one is None or other is None or one == other:
        return one if other is None else other
    for names, others in ((one, other), (other, one)):
        if all(is_plain(each) for each in names):
            return tuple(each for each in names if includes(others, each))
    raise Unclear(f"it asks for {', '.join(one)} and {', '.join(other)} at once")


def passage_of(verdict: str, match: Match, name: str, place: Place) -> Passage:
    """Return the rule of what passes for a match."""
    return Passage(
        verdict, match.arrives, match.leaves, match.source, match.destination, match.protocol, match.ports,  # type: ignore[arg-type]
        name=name, place=place,
    )  # fmt: skip


def match_of(rule: Passage | Rule) -> Match:
    """Return what a rule matches, but for addresses that it calls the device's own."""
    return Match(rule.arrives, rule.leaves, rule.source, rule.destination, rule.protocol, rule.ports)


def image_of(rule: Rule) -> Match:
    """Return what a rule makes of packets that arrive."""
    port = None if rule.to_port is None else ((rule.to_port, rule.to_port),)
    return Match(destination=rule.to, protocol=rule.protocol, ports=port or rule.ports)
