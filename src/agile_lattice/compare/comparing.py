"""A device held against its intent, section by section."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from agile_lattice.behaviour.links import asked_by, proxy, takes_part
from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.compare.applying import as_it_is, with_unshown
from agile_lattice.compare.by_effect import (
    STAGES_OF,
    by_what_they_do,
    not_told,
    only_told_by_rules,
    settled,
    told_by_rules,
)
from agile_lattice.compare.differences import (
    Comparison,
    Difference,
    Field,
    Gap,
    change_of,
    effect_of,
    field_differences,
    paired,
)
from agile_lattice.compare.doubts import beyond_program, unknown_of
from agile_lattice.compare.effects import judged
from agile_lattice.compare.identity import identified
from agile_lattice.compare.replies import matters
from agile_lattice.compare.rules import ACCESS, PERMITS, TRANSLATIONS, rule_gaps
from agile_lattice.compare.strangers import strangers
from agile_lattice.compare.witnesses import Sides
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.facts import AddressFact, ProxyFact
from agile_lattice.dialects.passes.families import of_family
from agile_lattice.dialects.reading.absent import LET, Absent
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.answering import answered_by, normal_answers
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import OWN_SETTINGS, SECTIONS, Answer, Device, Section, Settings, section_of_setting
from agile_lattice.intent.normal import normal, normal_routes
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.routes import Route
from agile_lattice.notation.plain import interface_data, route_data, settings_data
from agile_lattice.packets.spans import minus

IMPLIED = "not set in the intent: by default a device forwards packets and has no reverse path filter"


def sides_of(intent: Device, capture: Capture) -> Sides:
    """Return a device as it should be and as it was captured."""
    unknown = unknown_of(beyond_program(capture))
    return Sides(intent, as_it_is(intent, capture), unknown, capture.unseen_families, capture.programs)


def compare(intent: Device, capture: Capture) -> Comparison:
    """Hold what was read of a device against its intent.

    Args:
        intent: The device as it should be.
        capture: The device as it is; sections that its texts do not speak of are not compared.
    """
    return compared(intent, capture)[0]


def compared(intent: Device, capture: Capture) -> tuple[Comparison, list[Gap]]:
    """Compare as `compare` does; return besides the objects of each difference, in the same order."""
    unseen = [section for section in SECTIONS if section not in capture.sections]
    wanted = replace(intent, answers=normal_answers(intent)) if unseen else intent
    spoken = tuple(section for section in unseen if declares(wanted, section))
    sides = sides_of(intent, capture)
    by_hand = capture.by_hand or _unnamed(intent, capture)
    rules = by_what_they_do(sides, _lists_of(intent, capture)) if by_hand else None
    gaps = find_gaps(intent, capture)
    found = [gap for gap in gaps if told_by_rules(gap.difference, rules)]
    held = {id(gap) for gap in found}
    if rules is not None:
        found = list(settled(found, rules))
        found += only_told_by_rules(intent.name, rules, [gap.difference for gap in found])
    strange = strangers(intent, as_it_is(intent, capture))
    lines = {(each.place.file, each.place.line) for each in strange}
    found = [*judged(sides, [gap for gap in gaps if id(gap) not in held]), *found]
    found = [
        _for_strangers(gap) if (gap.difference.device.file, gap.difference.device.line) in lines else gap
        for gap in found
    ]
    differences = tuple(gap.difference for gap in found)
    left = (*not_told(capture.leftovers, rules), *strange)
    told = Comparison(
        intent.name, differences, left, spoken, capture.unseen_families, rules=rules, assumed=capture.assumed
    )
    return told, found


def _for_strangers(gap: Gap) -> Gap:
    """Take back that a rule has no effect which is for an interface that nobody knows."""
    one = gap.difference
    if one.effect != "no-effect":
        return gap
    note = "not decided for packets of an interface that nobody knows"
    return replace(gap, difference=replace(one, effect="may-change-traffic", note=note))


def _unnamed(intent: Device, capture: Capture) -> bool:
    """Tell whether no rule of a device has a name, though those of the intent have: what they do pairs them."""
    wanted, there = (
        [each.name for section in STAGES_OF if section in capture.sections for each in getattr(one, section)]
        for one in (intent, capture.device)
    )
    return any(wanted) and bool(there) and not any(there)


def _lists_of(intent: Device, capture: Capture) -> list[Listed]:
    """Return the lists of which both an intent and a capture say something."""
    stages: list[Listed] = []
    if "translations" in capture.sections:
        stages += ["arrival", "departure"]
    stages += ["permits"] * ("permits" in capture.sections and bool(intent.permits))
    stages += ["access"] * ("access" in capture.sections and bool(intent.access))
    return stages


def find_gaps(intent: Device, capture: Capture) -> list[Gap]:
    """Return the differences between a device and its intent, with the objects that differ."""
    there, seen = with_unshown(intent, capture), capture.sections
    if "interfaces" not in seen:
        there = replace(there, interfaces=intent.interfaces)
    if "translations" not in seen:
        # They tell which addresses only proxy ARP or ND is for.
        there = replace(there, translations=intent.translations)
    wanted, found = normal(intent), normal(there, answered_by(intent))
    for family in capture.unseen_families:
        other = 10 - family  # of which something is known
        wanted, found = normal(of_family(wanted, other)), normal(of_family(found, other))
    gaps: list[Gap] = []
    if "interfaces" in seen:
        gaps += _interfaces(intent, wanted, there, found, seen)
    if {"answers", "translations"} <= seen:
        gaps += _answers(wanted.answers or (), found.answers or ())
    if "routes" in seen:
        gaps += _routes(wanted.routes, normal_routes(there.routes, found.interfaces))
    if "translations" in seen:
        gaps += rule_gaps(TRANSLATIONS, wanted.translations, found.translations)
    if "permits" in seen:
        gaps += rule_gaps(PERMITS, wanted.permits, found.permits)
    if "access" in seen:
        # Mostly all of them let in, and then their order is nobody's concern.
        rules = rule_gaps(ACCESS, wanted.access, found.access)
        gaps += (each for each in rules if (each.difference.change, each.difference.effect) != ("moved", "no-effect"))
    absent = [
        each for each in capture.absent
        if each.section in seen and (getattr(intent, each.section) or each.lets == "answers")
    ]  # fmt: skip
    gaps += [_absent(each, there) for each in absent if matters(each, intent, there)]
    gaps += _settings(wanted.settings, found.settings, seen)
    return identified(intent.name, gaps)


def _absent(one: Absent, there: Device) -> Gap:
    """Return the difference that something does not pass which an intent means to pass without saying so."""
    rest = f", before {one.rest}," if one.rest.line else ""
    note = f"the rules{rest} are asked about {LET[one.lets]}, and may drop them"
    subject = f"{LET[one.lets]} in {'management' if one.section == 'access' else one.section}"
    return Gap(
        Difference("missing", one.section, subject, "may-change-traffic", note=note, device=one.place), None, one
    )


def declares(device: Device, section: Section) -> bool:
    """Tell whether an intent says anything of a section: where no text speaks of it, that is not compared."""
    if section == "interfaces":  # a name alone says nothing
        bare = (
            replace(each, tagged=(), untagged=None, bridge=each.bridge if each.bridge and each.bridge.members else None)
            for each in device.interfaces
        )
        return any(interface_data(each).keys() - {"zone", "description"} for each in bare)
    if section == "descriptions":
        return any(each.description for each in device.interfaces)
    if section == "dial-up":
        return any(each.dial for each in device.interfaces)
    if section == "bridging":
        return any(each.carried for each in device.interfaces)
    if section in OWN_SETTINGS:
        return getattr(device.settings, section) not in (None, ())
    if section == "settings":
        return bool(device.settings.common())
    return bool(getattr(device, section))


def _interfaces(
    intent: Device, wanted: Device, there: Device, found: Device, seen: Collection[Section]
) -> Iterator[Gap]:
    here = {each.name: each for each in wanted.interfaces}
    real = {each.name: each for each in found.interfaces}
    places = _address_places(intent.interfaces), _address_places(there.interfaces)
    for name in dict.fromkeys([*(each.name for each in intent.interfaces), *real]):
        left, right = here.get(name), real.get(name)
        subject = f"interface {name}"
        if right is None and left is not None:
            said = left.addresses or not left.enabled or left.mtu or left.description or left.bridge
            if said or takes_part(left, wanted):
                # Of an interface with nothing set, many systems say nothing.
                yield Gap(Difference("missing", "interfaces", subject, "may-change-traffic", intent=left.place), left)
        elif left is None and right is not None:
            shut = not right.enabled and found.is_bridged(right.name)
            joins = right.bridge is not None and right.bridge.members
            if right.addresses or right.learns or right.dial or joins or shut:
                # Ports that nothing is connected to, and a bare loopback, are on every system.
                yield Gap(
                    Difference("extra", "interfaces", subject, "may-change-traffic", device=right.place), None, right
                )
        elif left is not None and right is not None:
            dials = left.dial is not None
            fields = field_differences(_kept(left, seen, dials), _kept(right, seen, dials))
            if fields:
                first = fields[0].name
                difference = Difference(
                    "differs", "interfaces", subject, effect_of(fields), fields, "",
                    left.place.at(first), right.place.at(first),
                )  # fmt: skip
                yield Gap(difference, left, right)
            yield from _addresses(left, right, *places)
            yield from _order(intent.interface(name), there.interface(name), left, right)


def _order(mine: Interface | None, its: Interface | None, left: Interface, right: Interface) -> Iterator[Gap]:
    """Yield that addresses have another order, if they are the same ones: packets may leave with the first."""
    if mine is None or its is None or left.addresses != right.addresses:
        return
    own = {*left.addresses}
    for family in (4, 6):
        orders = [[each for each in one.addresses if each in own and each.family == family] for one in (mine, its)]
        if orders[0] == orders[1]:
            continue
        fields = (Field("order", *(", ".join(map(str, each)) for each in orders)),)
        note = "NAT to the interface address uses the first one"
        subject = f"addresses of {left.name}"
        difference = Difference(
            "moved", "interfaces", subject, "may-change-traffic", fields, note, mine.place, its.place
        )
        yield Gap(difference, left, right, implied=True)


def _kept(one: Interface, seen: Collection[Section], dials: bool) -> dict[str, Any]:
    """Return the settings of an interface of which the texts speak."""
    apart = {"address", "loopback"}
    if "descriptions" not in seen:
        apart.add("description")
    if "dial-up" not in seen and dials:
        apart |= {"dial", "mtu"}
    if "bridging" not in seen:
        one = replace(one, tagged=(), untagged=None, bridge=one.bridge and replace(one.bridge, vlans=()))
    settings = {"enabled": one.enabled, **interface_data(one)}
    return {name: value for name, value in settings.items() if name not in apart}


def _settings(wanted: Settings, found: Settings, seen: Collection[Section]) -> Iterator[Gap]:
    yield from _said_settings(wanted, found, seen)
    implied = _implied(wanted, found)
    if implied != wanted and "settings" in seen:
        here, real = (settings_data(replace(each.common(), host_name=each.host_name)) for each in (implied, found))
        fields = tuple(
            each for each in field_differences(here, real) if each not in field_differences(settings_data(wanted), real)
        )
        difference = Difference(
            "differs", "settings", "settings", "may-change-traffic", fields, IMPLIED, wanted.place, found.place
        )
        yield Gap(difference, implied, found, implied=True)


def _implied(wanted: Settings, found: Settings) -> Settings:
    """Return what an intent says of a device without saying so, where the device has something else."""
    return replace(
        wanted,
        forwarding4=True if wanted.forwarding4 is None and found.forwarding4 is False else wanted.forwarding4,
        forwarding6=True if wanted.forwarding6 is None and found.forwarding6 is False else wanted.forwarding6,
        reverse_path="off" if wanted.reverse_path is None and found.reverse_path else wanted.reverse_path,
    )


def _said_settings(wanted: Settings, found: Settings, seen: Collection[Section]) -> Iterator[Gap]:
    # What the intent does not say is whatever the system came with; helpers are there if they are wanted.
    here, real = settings_data(wanted), settings_data(found)
    here.setdefault("helpers", None)
    fields = field_differences(here, {name: value for name, value in real.items() if name in here})
    sections: tuple[Section, ...] = ("settings", *OWN_SETTINGS)
    for section in sections:
        own = tuple(each for each in fields if section_of_setting(each.name) == section)
        named = found.host_name and any(each.name == "host-name" for each in own)
        if own and (section in seen or named):
            left, right = wanted.place.at(own[0].name), found.place
            yield Gap(
                Difference("differs", section, section, "may-change-traffic", own, "", left, right), wanted, found
            )


def _address_places(interfaces: Iterable[Interface]) -> dict[tuple[str, Prefix], Place]:
    return {
        (one.name, address): one.place.at("loopback" if one.loopback else "address", index)
        for one in interfaces
        for index, address in enumerate(one.addresses)
    }


def _addresses(
    left: Interface,
    right: Interface,
    intended: Mapping[tuple[str, Prefix], Place],
    real: Mapping[tuple[str, Prefix], Place],
) -> Iterator[Gap]:
    def place(address: Prefix | None, places: Mapping[tuple[str, Prefix], Place]) -> Place:
        return places.get((left.name, address), NOWHERE) if address else NOWHERE

    missing = [each for each in left.addresses if each not in right.addresses]
    extra = [each for each in right.addresses if each not in left.addresses]
    pairs = paired(missing, extra, lambda each: (each.family, each.value))
    pairs += paired(missing, extra, lambda each: each.family, alone=True)
    for one, other in [*pairs, *((each, None) for each in missing), *((None, each) for each in extra)]:
        fields = (Field("address", str(one), str(other)),) if one and other else ()
        subject = f"address {one or other} on {left.name}"
        difference = Difference(
            change_of(one, other), "interfaces", subject, "may-change-traffic", fields, "",
            place(one, intended), place(other, real),
        )  # fmt: skip
        yield Gap(difference, one and AddressFact(left.name, one), other and AddressFact(left.name, other))


def _answers(wanted: Iterable[Answer], found: Iterable[Answer]) -> Iterator[Gap]:
    here, real = ({(each.interface, each.addresses.family): each for each in side} for side in (wanted, found))
    for interface, family in dict.fromkeys([*here, *real]):
        left, right = here.get((interface, family)), real.get((interface, family))
        for one, other, change in ((left, right, "missing"), (right, left, "extra")):
            spans = minus(one.addresses.spans, other.addresses.spans if other else ()) if one else ()
            for prefix in AddressSet(family, spans).prefixes() if one else ():
                subject = f"{proxy(family)} for {prefix.address if prefix.is_host else prefix} on {interface}"
                place = one.place.at(str(prefix)) if one else NOWHERE
                if change == "missing":
                    note = f"neighbours that ask for it ({asked_by(family)}) get no answer"
                    difference = Difference("missing", "answers", subject, "may-change-traffic", (), note, intent=place)
                    yield Gap(difference, ProxyFact(interface, prefix))
                else:
                    difference = Difference("extra", "answers", subject, "may-change-traffic", (), "", device=place)
                    yield Gap(difference, None, ProxyFact(interface, prefix))


def _routes(wanted: Iterable[Route], found: Iterable[Route]) -> Iterator[Gap]:
    missing, extra = list(wanted), list(found)
    paired(missing, extra, lambda each: each)
    pairs = paired(missing, extra, lambda each: (each.to, each.via, each.interface, each.discard))
    pairs += paired(missing, extra, lambda each: (each.to, each.distance), alone=True)
    pairs += paired(missing, extra, lambda each: each.to, alone=True)
    for one, other in [*pairs, *((each, None) for each in missing), *((None, each) for each in extra)]:
        route = one or other
        assert route is not None
        fields = field_differences(route_data(one), route_data(other)) if one and other else ()
        first = fields[0].name if fields else ""
        way = f" via {route.via}" if route.via and "via" not in [field.name for field in fields] else ""
        difference = Difference(
            change_of(one, other), "routes", f"route {route.destination}{way}", "may-change-traffic", fields, "",
            one.place.at(first) if one else NOWHERE, other.place if other else NOWHERE,
        )  # fmt: skip
        yield Gap(difference, one, other)
