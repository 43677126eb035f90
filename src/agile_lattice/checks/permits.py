"""Checks of permits."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import DESTINATION, LEAVES
from agile_lattice.behaviour.shadowing import Member, Ordered
from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.leaving import PRIVATE_SPACE
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import BITS, Address
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Access, Permit, derived_permits
from agile_lattice.intent.translations import Publish, Sides
from agile_lattice.notation.identity import object_key
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.shadows import Shadow
from agile_lattice.packets.spans import covers, meet, merged

DEVICE = """\
zones: {sea: {exposure: public}, office: {exposure: own}}
names: {networks: {admins: []}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces: {wan0: {zone: sea, address: 203.0.113.2/28}, lan0: {zone: office, address: 10.40.10.1/24}}
    routes: [{to: default, via: 203.0.113.1}]
    translations:
      - {to: sea, source-becomes: interface}
"""
_PUBLISHED = DEVICE + "      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: sea}\n"


def permit_subject(device: Device, one: Permit | Access) -> str:
    """Name a permit, or an entry of management, in a finding."""
    return f"{device.name} {'permit' if isinstance(one, Permit) else 'management'} {object_key(one)}"


@check(
    "published-not-permitted",
    "error",
    "A published service that the permits drop looks like a dead host; permits see the real address and port.",
    wrong=_PUBLISHED + "    permits: [{from: sea, to: office, destination: 203.0.113.5, service: tcp/443}]",
    right=_PUBLISHED + "    permits: [{derive: translations}, {from: office, to: sea}]",
)
def published_not_permitted(design: Design) -> Iterator[Found]:
    """Find translations towards inside of which the permits let nothing through."""
    for device in design.devices:
        if not device.permits:
            continue
        space = design.space(device)
        # Where nothing is denied, a permit of the very same match lets all of it pass.
        plain = set() if any(each.deny for each in device.permits) else {_match(each) for each in device.permits}
        for needed in derived_permits(device.translations):
            if _match(needed) in plain or for_itself(design, device, needed):
                continue
            wanted = [_way_taken(design, device, needed, box) for box in space.of_permit(needed)]
            if wanted and not any(design.lets_pass(device, box) for box in wanted):
                yield Found(
                    needed.place, f"{device.name} translation {needed.name}".rstrip(),
                    f"the permits let nothing of it through, such as {space.example(wanted[0])}",
                    "Add `{derive: translations}` to the permits, or a permit for its real address and port.",
                )  # fmt: skip


def for_itself(design: Design, device: Device, needed: Permit) -> bool:
    """Tell whether what a translation needs is for an address of the device: then management decides about it."""
    only = needed.destination.single if needed.destination is not None else None
    return only is not None and design.holder(device, only) is not None


def _way_taken(design: Design, device: Device, needed: Permit, box: Box) -> Box:
    """Return packets to an internal host, as they leave towards it."""
    space, target = design.space(device), needed.destination
    way = design.way_out(device, Address(target.family, target.spans[0][0])) if target is not None else None
    return box if way is None else with_spans(box, LEAVES, space.side([way.name]))


def _match(one: Permit) -> tuple[object, ...]:
    return one.arrives, one.leaves, one.source, one.destination, one.services


@check(
    "permit-never-reached",
    "warning",
    "The first permit that matches decides; one that earlier ones take everything from says what is not so.",
    wrong=DEVICE
    + """    permits:
      - {name: office-out, from: office, to: sea}
      - {name: no-printers, from: office, to: sea, source: 10.40.10.64/26, deny: true}""",
    right=DEVICE
    + """    permits:
      - {name: no-printers, from: office, to: sea, source: 10.40.10.64/26, deny: true}
      - {name: office-out, from: office, to: sea}""",
)
def permit_never_reached(design: Design) -> Iterator[Found]:
    """Find permits of which earlier ones with another verdict, alone or with others, take every packet."""
    yield from never_reached(design, "permits")


def never_reached(design: Design, part: Listed) -> Iterator[Found]:
    """Find rules of the lists of one stage of which earlier ones with another verdict take every packet."""
    for members in _by_owner(design, part):
        within, member, _ = members[0]
        takers = {id(of.members[at].owner): of.members[at] for of, _, shadow in members for at in shadow.takers}
        owners = [each.owner for each in takers.values() if isinstance(each.owner, Permit | Access)]
        assert isinstance(member.owner, Permit | Access)
        if all(shadow.takers for _, _, shadow in members) and any(each.deny != member.owner.deny for each in owners):
            names = ", ".join(f"{each.name or 'an earlier one'} ({each.place})" for each in owners)
            box = member.box if part == "permits" else _to_itself(within, member.box)
            yield Found(
                member.owner.place, permit_subject(within.device, member.owner),
                f"no packet reaches it: {names} {'takes' if len(owners) == 1 else 'take'} them all, such as"
                f" {within.space.example(box)}",
                "Put it before them, or remove it.",
            )  # fmt: skip


def _to_itself(within: Ordered, box: Box) -> Box:
    """Return what of some packets is for the device itself, if it has an address."""
    own = [own for one in within.device.interfaces for own in one.addresses if own.family == within.space.family]
    there = meet(box[DESTINATION], merged((each.value, each.value) for each in own))
    return with_spans(box, DESTINATION, there) if there else box


@check(
    "private-from-public",
    "warning",
    "From a public side nobody comes with a private source (RFC 1918 section 3), and no answer would get there.",
    wrong=DEVICE
    + "      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: sea, source: 10.9.0.0/16}",
    right=DEVICE
    + "      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: sea, source: 192.0.2.0/24}",
)
def private_from_public(design: Design) -> Iterator[Found]:
    """Find what is published or permitted to private sources on public sides only."""
    for device in design.devices:
        rules: list[tuple[str, Permit | Publish, Sides | None]] = [
            (permit_subject(device, one), one, one.arrives) for one in device.permits if not one.deny and not one.origin
        ]
        rules += [
            (translation_subject(device, one), one, one.facing)
            for one in device.translations if isinstance(one, Publish)
        ]  # fmt: skip
        for subject, one, names in rules:
            sides = design.sides(device, names) if names else []
            public = bool(sides) and all(design.exposure(each) == "public" for each in sides)
            if public and one.source is not None and covers(PRIVATE_SPACE, one.source.spans):
                yield Found(
                    one.place.at("source"), subject, f"{one.source} is private, and {sides[0].name} is a public side",
                    "Name the public addresses of these peers, or the side that they come from.",
                )  # fmt: skip


@check(
    "permit-repeated",
    "warning",
    "A permit that says what an earlier one says was mostly copied to be changed, and the change forgotten.",
    wrong=DEVICE
    + """    permits:
      - {name: tides, from: office, to: sea, destination: 192.0.2.64/27}
      - {name: weather, from: office, to: sea, destination: 192.0.2.64/27}""",
    right=DEVICE
    + """    permits:
      - {name: tides, from: office, to: sea, destination: 192.0.2.64/27}
      - {name: weather, from: office, to: sea, destination: 198.51.100.192/28}""",
)
def permit_repeated(design: Design) -> Iterator[Found]:
    """Find permits that match just what an earlier one of the same verdict does."""
    for device in design.devices:
        seen: dict[tuple[object, ...], Permit] = {}
        for one in device.permits:
            first = seen.setdefault((one.deny, *_match(one)), one)
            if first is not one and (one.origin, one.name) != (first.origin, first.name):
                yield Found(
                    one.place, permit_subject(device, one),
                    f"it says the same as {first.name or 'an earlier one'} ({first.place})",
                    "Change what it was copied for, or remove it.",
                )  # fmt: skip


def _by_owner(design: Design, part: Listed) -> list[list[tuple[Ordered, Member, Shadow]]]:
    """Return the rules of each permit or entry of management, of both families, with what is left of them."""
    found: dict[int, list[tuple[Ordered, Member, Shadow]]] = defaultdict(list)
    for each in design.lists:
        for member, shadow in zip(each.members, each.shadows, strict=True):
            if each.part == part and all(member.box):
                found[id(member.owner)].append((each, member, shadow))
    return list(found.values())


@check(
    "permit-without-translation",
    "warning",
    "From a public side private addresses cannot be reached but by a translation: the permit is left over, or the"
    " translation forgotten.",
    wrong=DEVICE + "    permits: [{from: sea, to: office, destination: 10.40.10.11, service: tcp/443}]",
    right=_PUBLISHED + "    permits: [{from: sea, to: office, destination: 10.40.10.11, service: tcp/443}]",
)
def permit_without_translation(design: Design) -> Iterator[Found]:
    """Find permits from public sides to private destinations that no translation leads to."""
    for device in design.devices:
        arrivals = [rule for _, rules in design.rules(device) for rule in rules if rule.stage == "arrival"]
        led = {
            family: merged(span for each in arrivals if each.to and each.to.family == family for span in each.to.spans)
            for family in BITS
        }
        for permit in device.permits:
            sides = design.sides(device, permit.arrives) if permit.arrives else []
            public = bool(sides) and all(design.exposure(each) == "public" for each in sides)
            to = permit.destination
            if permit.deny or not public or to is None or not all(each.is_private for each in to.prefixes()):
                continue
            if not meet(led[to.family], to.spans):
                yield Found(
                    permit.place, permit_subject(device, permit), f"no translation leads to {to}",
                    "Publish the host, or take the permit out.",
                )  # fmt: skip


@check(
    "any-to-any",
    "warning",
    "A permit for everything from the public side is no permit but an open door.",
    wrong=DEVICE + "    permits: [{from: sea}]",
    right=DEVICE + "    permits: [{from: office, to: sea}]",
)
def any_to_any(design: Design) -> Iterator[Found]:
    """Find permits, from a public side or from anywhere, that name neither source, destination nor service."""
    for device in design.devices:
        for permit in device.permits:
            named = permit.source or permit.destination or permit.services
            if not permit.deny and not named and design.faces_public(device, permit.arrives):
                yield Found(
                    permit.place, permit_subject(device, permit),
                    "it lets everything in from a public side, from any source to any destination",
                    "Name the sides, the destination and the service that are meant.",
                )  # fmt: skip
