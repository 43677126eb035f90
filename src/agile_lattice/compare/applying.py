"""A device as it would be with some of its differences closed, and everything else left as it is."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any, TypeVar

from msgspec.structs import replace

from agile_lattice.compare.differences import Gap
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.facts import AddressFact, ProxyFact
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.answering import answered_by, normal_answers, with_answers
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import OWN_SETTINGS, Answer, Device, Section, Settings, section_of_setting
from agile_lattice.intent.normal import settled
from agile_lattice.intent.permits import passages
from agile_lattice.intent.places import NOWHERE
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import split
from agile_lattice.notation.plain import interface_data
from agile_lattice.packets.spans import minus

T = TypeVar("T")


# Sections that packets feel, by the field of a device that holds them.
FELT: dict[Section, str] = {
    "interfaces": "interfaces",
    "routes": "routes",
    "translations": "translations",
    "permits": "permits",
    "access": "access",
    "settings": "settings",
}
FELT_SETTINGS: tuple[Section, ...] = ("helpers",)  # sections of their own, kept among the settings


def as_it_is(intent: Device, capture: Capture) -> Device:
    """Return what was read of a device, with what it only answers for set apart from its own addresses.

    Of sections that no text speaks of it has what the intent says: nothing is known of them. So it is with the order
    of addresses, where a program sorts what it prints.
    """
    there, sections = with_unshown(intent, capture), capture.sections
    if capture.sorts_addresses:
        there = replace(there, interfaces=tuple(_in_order(one, intent.interface(one.name)) for one in there.interfaces))
    unseen: dict[str, Any] = {
        field: getattr(intent, field) for section, field in FELT.items() if section not in sections
    }
    if "settings" in unseen:
        own = {each: getattr(there.settings, each) for each in OWN_SETTINGS}
        unseen["settings"] = replace(intent.settings, **own)
    for section in FELT_SETTINGS:
        if section not in sections:
            settings = unseen.get("settings", there.settings)
            unseen["settings"] = replace(settings, **{section: getattr(intent.settings, section)})
    if "bridging" not in sections and "interfaces" in sections:
        unseen["interfaces"] = _with_bridging(intent, there)
    if "dial-up" not in sections and "interfaces" in sections:
        unseen["interfaces"] = _with_dials(intent, unseen.get("interfaces", there.interfaces))
    if "answers" not in sections:
        # They follow from translations, but not from every rule that somebody wrote: it may rewrite what is for others.
        unseen["answers"] = normal_answers(intent) if capture.by_hand else None
    there = replace(there, **unseen)
    interfaces, answers = with_answers(there, answered_by(intent))
    return replace(there, interfaces=tuple(interfaces), answers=answers)


def with_unshown(intent: Device, capture: Capture) -> Device:
    """Return what was read of a device, and of its intent the bare interfaces where its program prints no such."""
    there = capture.device
    if not capture.hides_bare:
        return there
    bare = [each for each in intent.interfaces if not interface_data(each).keys() - {"zone"}]
    unshown = (replace(each, place=NOWHERE) for each in bare if there.interface(each.name) is None)
    return replace(there, interfaces=(*there.interfaces, *unshown))


def _in_order(one: Interface, meant: Interface | None) -> Interface:
    """Return an interface with its addresses in the order of another, as far as that has them."""
    order = {address: at for at, address in enumerate(meant.addresses if meant is not None else ())}
    return replace(one, addresses=tuple(sorted(one.addresses, key=lambda each: order.get(each, len(order)))))


def _with_bridging(intent: Device, there: Device) -> tuple[Interface, ...]:
    """Return the interfaces of a device with the VLANs that those of the intent carry in bridges."""
    meant = {each.name: each for each in intent.interfaces}
    found = []
    for one in there.interfaces:
        same = meant.get(one.name)
        if same is not None:
            bridge = replace(one.bridge, vlans=same.bridge.vlans) if one.bridge and same.bridge else one.bridge
            one = replace(one, tagged=same.tagged, untagged=same.untagged, bridge=bridge)
        found.append(one)
    return tuple(found)


def _with_dials(intent: Device, interfaces: Iterable[Interface]) -> tuple[Interface, ...]:
    """Return interfaces of which those that dial in, by the intent, do it."""
    meant = {each.name: each for each in intent.interfaces if each.dial is not None}
    return tuple(
        replace(one, dial=meant[one.name].dial, mtu=meant[one.name].mtu) if one.name in meant else one
        for one in interfaces
    )


def closed(intent: Device, there: Device, gaps: Sequence[Gap]) -> Device:
    """Return a device with differences closed.

    Args:
        intent: The device as it should be.
        there: The device as it is; see `as_it_is`.
        gaps: The differences to be closed.
    """
    by_section: dict[Section, list[Gap]] = {}
    for each in gaps:
        by_section.setdefault(each.difference.section, []).append(each)
    interfaces = _interfaces(intent, there, by_section.get("interfaces", []))
    parts = {name for each in interfaces for name in (each.parent, *(each.bridge.members if each.bridge else ()))}
    missing = (parts | _named(intent, by_section)) - {each.name for each in interfaces}
    interfaces += [each for each in intent.interfaces if each.name in missing]
    changed: dict[str, Any] = {"interfaces": tuple(interfaces)}
    if "answers" in by_section:
        changed["answers"] = _answers(there.answers or (), by_section["answers"])
    if "routes" in by_section:
        changed["routes"] = _routes(intent, there, by_section["routes"])
    for section in ("translations", "permits", "access"):
        if section in by_section:
            changed[section] = getattr(intent, section)
    settings = _settings(intent.settings, there.settings, by_section)
    for gap in gaps:
        if gap.implied and isinstance(gap.wanted, Settings):
            settings = _settings(gap.wanted, settings, ("settings",))
    return replace(there, settings=settings, named=intent.named, **changed)


def _interfaces(intent: Device, there: Device, gaps: Iterable[Gap]) -> list[Interface]:
    named = {each.name: each for each in intent.interfaces}
    # The zone is a label that a text may need to name.
    found = {
        each.name: replace(each, zone=named[each.name].zone) if each.name in named else each
        for each in there.interfaces
    }
    # Addresses are added in the order of the intent: packets of the device's own leave with the first.
    order: dict[tuple[str, Prefix | None], int] = {
        (one.name, each): at for one in intent.interfaces for at, each in enumerate(one.addresses)
    }
    for gap in sorted(gaps, key=lambda each: order.get(_address_of(each), -1)):
        wanted, other = gap.wanted, gap.found
        if isinstance(wanted or other, AddressFact):
            name = (wanted or other).interface
            found[name] = _with_address(found[name], wanted, other)
        elif gap.implied:
            continue  # the order of addresses, which nothing that is typed changes
        elif other is None:
            new = replace(named[wanted.name], extra=(), answers=None)
            # A bare loopback is there, and has an MTU that nobody set.
            bare = found.get(wanted.name)
            found[wanted.name] = replace(new, mtu=bare.mtu) if bare is not None and new.mtu is None else new
        elif wanted is None:
            if other.parent or other.bridge:
                del found[other.name]
            else:
                found[other.name] = replace(found[other.name], addresses=(), learns=(), enabled=True)
        else:
            fields = {each.name: getattr(named[wanted.name], each.name) for each in gap.difference.fields}
            found[wanted.name] = replace(found[wanted.name], **fields)
    # What left its bridge has lost what it carried there.
    left = (
        _members(there.interfaces)
        - _members(found.values())
        - {each.name for each in intent.interfaces if each.carried}
    )
    return [replace(each, tagged=(), untagged=None) if each.name in left else each for each in found.values()]


def _members(interfaces: Iterable[Interface]) -> set[str]:
    return {member for each in interfaces if each.bridge for member in each.bridge.members}


def _named(device: Device, sections: Collection[str]) -> set[str]:
    """Return the interfaces that routes and rules of some sections name."""
    rules = [
        *(split(device.translations) if "translations" in sections else ()),
        *(passages(device.permits) if "permits" in sections else ()),
        *(passages(device.access) if "access" in sections else ()),
    ]
    routed = {each.interface for each in device.routes if each.interface} if "routes" in sections else set()
    return routed | {name for each in rules for name in (*(each.arrives or ()), *(each.leaves or ()))}


def _address_of(gap: Gap) -> tuple[str, Prefix | None]:
    wanted = gap.wanted
    return (wanted.interface, wanted.address) if isinstance(wanted, AddressFact) else ("", None)


def _with_address(one: Interface, wanted: AddressFact | None, found: AddressFact | None) -> Interface:
    new = wanted.address if wanted is not None else None
    if found is None:
        return replace(one, addresses=(*one.addresses, new)) if new else one
    places = [new if each == found.address else each for each in one.addresses]
    return replace(one, addresses=tuple(each for each in places if each is not None))


def _answers(there: Iterable[Answer], gaps: Iterable[Gap]) -> tuple[Answer, ...]:
    found = list(there)
    for gap in gaps:
        if isinstance(gap.wanted, ProxyFact):
            found.append(Answer(gap.wanted.interface, AddressSet.of(gap.wanted.address)))
        elif isinstance(gap.found, ProxyFact):
            found = [_less(each, gap.found) for each in found]
    return tuple(each for each in found if each.addresses.spans)


def _less(one: Answer, gone: ProxyFact) -> Answer:
    if one.interface != gone.interface or one.addresses.family != gone.address.family:
        return one
    left = minus(one.addresses.spans, AddressSet.of(gone.address).spans)
    return replace(one, addresses=AddressSet(one.addresses.family, left))


def _routes(intent: Device, there: Device, gaps: Iterable[Gap]) -> tuple[Route, ...]:
    """Close differences of routes: a way that goes, goes with all its spellings."""
    gone = {_way(each.found) for each in gaps if each.found is not None}
    come = {each.wanted for each in gaps if each.wanted is not None}
    kept = [
        route
        for route, plain in zip(there.routes, settled(there.routes, there.interfaces), strict=True)
        if _way(plain) not in gone
    ]
    for route, plain in zip(intent.ways, settled(intent.ways, intent.interfaces), strict=True):
        if plain in come:
            come.discard(plain)
            kept.append(route)
    return tuple(kept)


def _way(route: Route) -> tuple[object, ...]:
    return route.instance, route.to, route.via, route.interface, route.discard is not None


def _settings(wanted: Settings, there: Settings, sections: Collection[str]) -> Settings:
    """Set what an intent says in some sections."""
    names = [each for each in wanted.__struct_fields__ if section_of_setting(each) in sections and each != "place"]
    unsaid = Settings()
    said = {
        each: getattr(wanted, each)
        for each in names
        if each in FELT_SETTINGS or getattr(wanted, each) != getattr(unsaid, each)
    }
    return replace(there, **said)
