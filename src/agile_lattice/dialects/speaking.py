"""What an intent has words for, of what was read; the rest is left over, each with its reason.

Rules that say `any interface but lan0`, or `eth*`, get the names that an intent has for these interfaces.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TypeVar

import msgspec

from agile_lattice.dialects.account import NO_PARENT
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.interface_names import includes, is_plain
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.translations import Static, Translation

T = TypeVar("T", Translation, Permit, Access)
SIDES, ENDS = ("arrives", "leaves", "facing"), ("source", "destination", "external", "internal", "pool")
NO_HOP = "it discards packets, and has a next hop: systems refuse that"
BY_PREFIX = "an intent translates IPv6 one to one only, by prefixes (RFC 6296)"


class Spoken:
    """What was read, in the words of an intent.

    Args:
        interfaces: All interfaces that are known, or named.
        all_known: Whether there are no others.

    Attributes:
        leftovers: What an intent has no word for, or not for all of it.
    """

    def __init__(self, interfaces: Sequence[Interface], all_known: bool) -> None:
        self.names, self.all_known = sorted(each.name for each in interfaces), all_known
        self.leftovers: list[Leftover] = []
        self.interfaces = tuple(map(self._interface, interfaces))

    def rules(self, rules: Iterable[T]) -> tuple[T, ...]:
        """Return rules with names; one that is about no known interface is left out."""
        return tuple(found for each in rules if (found := self._one(each)) is not None)

    def translations(self, translations: Iterable[Translation]) -> tuple[Translation, ...]:
        """Return translations with names, without those of IPv6 for which there is no word."""
        found = []
        for each in translations:
            if not isinstance(each, Static) and any(
                getattr(getattr(each, end, None), "family", 4) == 6 for end in ENDS
            ):
                self._leave(each.place, each.name or "a translation", BY_PREFIX)
            else:
                found.append(each)
        return self.rules(found)

    def routes(self, routes: Iterable[Route]) -> tuple[Route, ...]:
        """Return routes, without those that both discard packets and send them on."""
        found = []
        for each in routes:
            if each.discard is not None and (each.via is not None or each.interface is not None):
                self._leave(each.place, f"route {each.to}", NO_HOP)
            else:
                found.append(self._route(each))
        return tuple(found)

    def _route(self, one: Route) -> Route:
        """Leave out that a next hop is meant to be off the link, where it is on it."""
        via = one.via
        near = via is not None and any(
            each.name == one.interface and each.subnet_of(via) is not None for each in self.interfaces
        )
        return msgspec.structs.replace(one, off_link=False) if one.off_link and near else one

    def _leave(self, place: Place, what: str, reason: str) -> None:
        self.leftovers.append(Leftover(place, what, (), reason))

    def _interface(self, one: Interface) -> Interface:
        if one.vlan is None or one.parent:
            return one
        self._leave(one.place, f"VLAN {one.vlan} of {one.name}", NO_PARENT)
        return msgspec.structs.replace(one, vlan=None)

    def _one(self, rule: T) -> T | None:
        said = {
            field: sides
            for field in SIDES
            if (sides := getattr(rule, field, None)) and not all(is_plain(name) for name in sides)
        }
        if not said:
            return rule
        named = {field: tuple(each for each in self.names if includes(sides, each)) for field, sides in said.items()}
        if not self.all_known:
            taken = "; ".join(
                f"{_words(sides)}, taken as {', '.join(named[field]) or 'none'}" for field, sides in said.items()
            )
            reason = f"it is for {taken}: no text says which interfaces there are"
            self._leave(rule.place, rule.name or "a rule", reason)
        return msgspec.structs.replace(rule, **named) if all(named.values()) else None


def _words(sides: tuple[str, ...]) -> str:
    return " or ".join(f"any interface but {each[1:]}" if each.startswith("!") else each for each in sides)
