"""A device put together from facts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import PurePath
from typing import Any, cast

import msgspec

from agile_lattice.dialects.account import unused, without_parent
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.facts import (
    AddressSetFact,
    IncludedFact,
    ProxyFact,
    ServiceFact,
    SettingsFact,
    ZoneFact,
)
from agile_lattice.dialects.interface_assembly import (
    grouped,
    interfaces_of,
    masterless,
    not_brought_up,
    only_marked,
    unknown_dials,
)
from agile_lattice.dialects.lowering import alike
from agile_lattice.dialects.made_routes import out_of_the_ordinary
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.families import united, without_end
from agile_lattice.dialects.passes.groups import group_name, service_name
from agile_lattice.dialects.reading.absent import Absent
from agile_lattice.dialects.reading.including import NOT_HERE
from agile_lattice.dialects.reading.texts import Reading
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.several_texts import contradictions, in_order, meeting
from agile_lattice.dialects.speaking import Spoken
from agile_lattice.dialects.usual import Assumed
from agile_lattice.dialects.vlan_assembly import known_interfaces, put_in_vlans
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.answering import FAMILIES, external_addresses, parted_answers
from agile_lattice.intent.interface_names import is_plain
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.joining import join
from agile_lattice.intent.model import Answer, Device, Helped, Helper, HostEntry, Section, Settings
from agile_lattice.intent.permits import joined_access, joined_permits
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import Service, union_of_services
from agile_lattice.intent.stages import Rule, split
from agile_lattice.intent.translations import Translation
from agile_lattice.intent.vocabulary import Named
from agile_lattice.packets.spans import minus


class Capture(msgspec.Struct, frozen=True):
    """What was read of one device, from one text or several.

    Attributes:
        device: The device as its configuration has it.
        leftovers: What was not understood.
        sections: The sections that the texts speak of; of the others nothing is known.
        absent: What its lists of rules do not let pass, though an intent means that they do.
        sorts_addresses: Whether a program printed addresses in an order of its own.
        hides_bare: Whether no text tells of interfaces of which nothing is set.
        unseen_families: Address families of whose rules the texts do not speak, though of those of the other.
        by_hand: Whether rules are a program that somebody wrote, and not as a dialect writes them.
        programs: The facts of the rules that somebody wrote, by their kinds, for each text.
        assumed: Which of their conditions were taken for granted.
    """

    device: Device
    leftovers: tuple[Leftover, ...]
    sections: frozenset[Section]
    absent: tuple[Absent, ...] = ()
    unseen_families: tuple[int, ...] = ()
    sorts_addresses: bool = False
    hides_bare: bool = False
    by_hand: bool = False
    programs: tuple[Any, ...] = ()
    assumed: tuple[Assumed, ...] = ()


def assemble(name: str, dialects: Sequence[Dialect], readings: Iterable[Reading]) -> Capture:
    """Put a device together from what its texts say.

    Args:
        name: The device's name; if empty, the one that a text gives.
        dialects: Those that it speaks.
        readings: One for each text.
    """
    readings = in_order(_that_apply(list(readings)))
    facts: dict[str, list[Any]] = {}
    leftovers = [leftover for reading in readings for leftover in reading.leftovers]
    sections: set[Section] = set()
    for reading in readings:
        sections |= reading.sections
        for kind, members in reading.facts.items():
            facts.setdefault(kind, []).extend(members)
    leftovers += _wanting(readings)
    leftovers += [*masterless(facts), *_undeclared(facts), *unknown_dials(facts), *_not_here(readings, dialects)]
    leftovers += out_of_the_ordinary(facts, known_interfaces(facts))
    leftovers += [*not_brought_up(facts, readings, dialects), *only_marked(facts)]
    leftovers += [*unused(facts, dialects), *without_parent(known_interfaces(facts), readings)]
    by_hand = any(reading.by_hand for reading in readings)
    leftovers += [*meeting(readings), *contradictions(readings)]
    families = {reading.family for reading in readings if reading.family is not None}
    if families:
        facts |= {kind: united(facts.get(kind, [])) for kind in ("permit", "access")}
    translations, unsaid = join(facts.get("rule", []))
    written = {reading.file for reading in readings if reading.by_hand}
    leftovers += [_no_word(rule, rule.place.file in written) for rule in unsaid]
    alone = not any("bridging" in each.carries for each in dialects)  # no other text could say more of VLANs
    leftovers += put_in_vlans(facts, alone or "bridging" in sections)
    if alone and facts.get("vlan-member"):
        sections.add("bridging")
    hostnames = [fact.hostname for fact in facts.get("device", [])]
    answers: tuple[Answer, ...] | None = tuple(
        Answer(fact.interface, AddressSet.of(fact.address.network), fact.place)
        for fact in cast(list[ProxyFact], facts.get("proxy", []))
    )
    if any(reading.answers_itself for reading in readings):
        answers = None  # they follow from the translations, as in an intent
    device = Device(
        name or next(iter(hostnames), "device"),
        tuple(each.name for each in dialects),
        interfaces_of(facts, _zones(facts, dialects), sections),
        cast(tuple[Route, ...], tuple(facts.get("route", []))),
        translations,
        answers,
        # Of what somebody wrote each rule keeps its line.
        permits=tuple(one for each in _parts(facts.get("permit", []), by_hand) for one in joined_permits(each)),
        access=tuple(
            one for each in _parts(without_end(facts.get("access", [])), by_hand) for one in joined_access(each)
        ),
        settings=_settings(facts, next((each for each in hostnames if name and each != name), "")),
        named=tuple(_named(facts)),
    )
    files = {file: number for number, file in enumerate(dict.fromkeys(each.place.file for each in leftovers))}
    leftovers.sort(key=lambda each: (files[each.place.file], each.place.line))
    absent = tuple(each for reading in readings for each in reading.absent)
    unseen = sorted({family for each in dialects for family in each.rules_for} - families) if families else []
    sorts = any(each.sorts_addresses for each in readings)
    telling = [each.hides_bare for each in readings if "interfaces" in each.sections]
    hides = bool(telling) and all(telling)
    programs = tuple(each.program for each in readings if each.by_hand and each.program)
    return Capture(
        device, tuple(leftovers), frozenset(sections), absent, tuple(unseen), sorts, hides, by_hand, programs
    )


def _wanting(readings: Sequence[Reading]) -> Iterator[Leftover]:
    """Yield what takes no effect since no text of its dialect has what it wants besides."""
    told = {(each.dialect, word) for each in readings for word in each.given}
    for one in readings:
        yield from (left for word, left in one.wanting.items() if (one.dialect, word) not in told)


def _named(facts: Mapping[str, Sequence[Any]]) -> Iterator[Named]:
    """Yield what a device has a name for, but for names that only say what they stand for."""
    for group in cast(Sequence[AddressSetFact], facts.get("address-set", ())):
        if group.name != group_name(group.addresses):
            yield Named(group.name, group.addresses, place=group.place)
    for offer in cast(Sequence[ServiceFact], facts.get("service", ())):
        if offer.name != service_name(offer.protocol, offer.ports):
            yield Named(offer.name, service=Service(offer.protocol, offer.ports), place=offer.place)


def _zones(facts: Mapping[str, Sequence[Any]], dialects: Iterable[Dialect]) -> dict[str, str]:
    """Return the zone of each interface that is in one, by its name; a zone of one that is called alike is none."""
    if not any(each.semantics.sides == "zones" for each in dialects):
        return {}
    found: dict[str, set[str]] = {}
    for fact in cast(Sequence[ZoneFact], facts.get("zone", ())):
        found.setdefault(fact.interface, set()).add(fact.zone)
    return {name: next(iter(zones)) for name, zones in found.items() if len(zones) == 1 and name not in zones}


def _parts(rules: list[Any], by_hand: bool) -> list[list[Any]]:
    return [[each] for each in rules] if by_hand or not any(each.name for each in rules) else [rules]


def _undeclared(facts: dict[str, list[Any]]) -> list[Leftover]:
    """Take out helpers that nothing declares; return what they are."""
    known = [each for each in facts.get("helper", []) if each.name]
    lost = [each for each in facts.get("helper", []) if not each.name]
    facts["helper"] = known
    reason = "nothing declares this helper for this protocol"
    return [Leftover(each.place, "a helper", (), reason, ("helpers",)) for each in lost]


def _not_here(readings: Sequence[Reading], dialects: Iterable[Dialect]) -> Iterator[Leftover]:
    """Yield the statements that include files which are not among the texts."""
    carried = {each.name: each.carries for each in dialects}
    for reading in readings:
        others = [each.file for each in readings if each is not reading and each.dialect == reading.dialect]
        for fact in cast(Sequence[IncludedFact], reading.facts.get("included", ())):
            if not fact.found_in(others):
                yield Leftover(fact.place, fact.files, (), NOT_HERE, carried[reading.dialect])


def _that_apply(readings: Sequence[Reading]) -> list[Reading]:
    """Return readings without what units say of an interface that another one is about already."""
    first: dict[str, Reading] = {}
    for each in sorted(readings, key=_file_name):
        for interface in each.unit_of:
            first.setdefault(interface, each)
    return [_without(each, {name for name in each.unit_of if first[name] is not each}) for each in readings]


def _without(reading: Reading, interfaces: set[str]) -> Reading:
    """Return what a unit says, without what it says of some interfaces; one that is about no other says nothing."""
    if not interfaces:
        return reading
    alone = interfaces >= {*reading.unit_of}
    facts: Facts = {
        kind: [each for each in members if getattr(each, "interface", None) not in interfaces]
        for kind, members in reading.facts.items()
    }
    return msgspec.structs.replace(reading, facts={} if alone else facts)


def _file_name(reading: Reading) -> str:
    places = (getattr(each, "place", Place()) for members in reading.facts.values() for each in members)
    return next((PurePath(each.file).name for each in places if each.file), "")


def _settings(facts: dict[str, list[Any]], host_name: str) -> Settings:
    said = [each for each in facts.get("settings", []) if isinstance(each, SettingsFact)]
    found = alike(Settings, said[0]) if said else Settings()
    for each in said[1:]:  # several texts speak of some
        more = {name: getattr(each, name) for name in SettingsFact.__struct_fields__[:-1]}
        found = msgspec.structs.replace(found, **{name: value for name, value in more.items() if value is not None})
    identities = [each.identity for each in facts.get("identity", [])]
    hosts = grouped(facts.get("host", []), "name")
    return msgspec.structs.replace(
        found,
        host_name=host_name,
        identity=identities[0] if identities else None,
        resolvers=tuple(each.address for each in facts.get("resolver", [])),
        search=tuple(domain for each in facts.get("search", []) for domain in each.domains.split()),
        lookups=next((each.lookups for each in facts.get("lookups", [])), None),
        hosts=tuple(HostEntry(name, tuple(each.address for each in members)) for name, members in hosts.items()),
        helpers=_helpers(facts.get("helper", [])),
    )


def _helpers(facts: list[Any]) -> tuple[Helper, ...]:
    found = {
        name: union_of_services([Service(each.protocol, each.ports) for each in members])
        for name, members in grouped(facts, "name").items()
    }
    return tuple(sorted(Helper(cast(Helped, name), services) for name, services in found.items()))


def as_intent(capture: Capture) -> tuple[Device, tuple[Leftover, ...]]:
    """Say what was read in the words of an intent.

    Returns:
        The device without what it only answers for, since that follows from its translations, with
        every interface that is named anywhere, and with no name given to two translations; and
        the leftovers, with those answers that no translation explains.
    """
    interfaces, answers = parted_answers(capture.device)
    translations = capture.device.translations
    explained = {family: external_addresses(translations, family) for family in FAMILIES}
    unexplained = tuple(
        Leftover(each.place, f"an answer for {each.addresses} on {each.interface}", (), "no translation uses it")
        for each in answers
        if minus(each.addresses.spans, explained[each.addresses.family])
    )
    found = capture.device
    every = (*interfaces, *_only_named(found, {each.name for each in interfaces}))
    spoken = Spoken(every, "interfaces" in capture.sections)
    device = msgspec.structs.replace(
        found,
        interfaces=spoken.interfaces,
        routes=spoken.routes(found.routes),
        translations=_named_apart(spoken.translations(found.translations)),
        permits=spoken.rules(found.permits),
        access=spoken.rules(found.access),
        answers=None,
    )
    return device, (*capture.leftovers, *unexplained, *spoken.leftovers)


def _only_named(device: Device, known: set[str]) -> list[Interface]:
    """Return interfaces that are named and that no text described: an intent has to know them."""
    used = {route.interface: route.place for route in device.routes if route.interface}
    for one in device.interfaces:
        others = (one.parent, *(one.bridge.members if one.bridge is not None else ()))
        used.update(dict.fromkeys(filter(None, others), one.place))
    rules: list[Any] = [*split(device.translations), *device.permits, *device.access]
    for rule in rules:
        used.update(dict.fromkeys((*(rule.arrives or ()), *(getattr(rule, "leaves", None) or ())), rule.place))
    return [Interface(name, place=used[name]) for name in sorted(used) if name not in known and is_plain(name)]


def _named_apart(translations: Sequence[Translation]) -> tuple[Translation, ...]:
    """Number translations of one name: a system takes two of them, an intent does not."""
    count: Counter[str] = Counter()
    result = []
    for one in translations:
        count[one.name] += 1
        again = bool(one.name) and count[one.name] > 1
        result.append(msgspec.structs.replace(one, name=f"{one.name} ({count[one.name]})") if again else one)
    return tuple(result)


def _no_word(rule: Rule, in_program: bool) -> Leftover:
    what = f"a rule that rewrites destinations on {rule.stage} to {rule.to}"
    return Leftover(
        rule.place, rule.name or what, (),
        "an intent publishes one external address on one internal host; this rule does something else",
        ("translations",), rule.stage, in_program=in_program,
    )  # fmt: skip
