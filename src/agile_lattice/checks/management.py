"""Checks of management: who may reach the device itself."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import takewhile

from msgspec.structs import replace

from agile_lattice.checks.design import Design
from agile_lattice.checks.permits import DEVICE, for_itself, never_reached, permit_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Access, derived_permits
from agile_lattice.intent.places import Place


@check(
    "management-open",
    "error",
    "What everybody on a public side can try to log in to, somebody will.",
    wrong=DEVICE + "    management: [{service: tcp/22}]",
    right=DEVICE
    + "    management: [{from: office, service: tcp/22}, {from: sea, source: 198.51.100.7, service: tcp/22}]",
)
def management_open(design: Design) -> Iterator[Found]:
    """Find management access from public sides that names no sources."""
    for device in design.devices:
        for access in device.access:
            if access.source is None and not access.deny and design.faces_public(device, _left(device, access)):
                what = access.services[0] if access.services else "everything"
                yield Found(
                    access.place, permit_subject(device, access),
                    f"{what} of the device is open to everybody on a public side",
                    "Name the sides (`from`) or the sources (`source`) that may use it.",
                )  # fmt: skip


def _left(device: Device, access: Access) -> tuple[str, ...]:
    """Return the interfaces of an entry on which none before it denies all that it lets in."""
    names = access.arrives if access.arrives is not None else tuple(each.name for each in device.interfaces)
    before = takewhile(lambda each: each is not access, device.access)
    denied = [
        each for each in before if each.deny and replace(each, arrives=None).covers(replace(access, arrives=None))
    ]
    return tuple(name for name in names if not any(each.arrives is None or name in each.arrives for each in denied))


@check(
    "taken-and-kept-out",
    "error",
    "What a device takes for itself still has to get past its own `management`; what does not is dropped.",
    wrong=DEVICE
    + """      - {name: web-proxy, intercept: true, from: office, service: tcp/80, port: 3128}
    management: [{from: office, service: tcp/22}]""",
    right=DEVICE
    + """      - {name: web-proxy, intercept: true, from: office, service: tcp/80, port: 3128}
    management: [{from: office, service: [tcp/22, tcp/3128]}]""",
)
def taken_and_kept_out(design: Design) -> Iterator[Found]:
    """Find what is intercepted, or published on the device itself, and not let in."""
    for device in design.devices:
        space, told = design.space(device), list[Place]()  # once, of however many interfaces
        for needed in derived_permits(device.translations):
            boxes = space.of_permit(needed) if for_itself(design, device, needed) else []
            if (
                boxes
                and not any(map(needed.place.same_as, told))
                and not any(design.lets_pass(device, box, "access") for box in boxes)
            ):
                told.append(needed.place)
                yield Found(
                    needed.place, f"{device.name} translation {needed.name}".rstrip(),
                    f"`management` lets nothing of it in, such as {space.example(boxes[0])}",
                    "Add an entry to `management` for its sources, at the port on which the device takes them.",
                )  # fmt: skip


@check(
    "management-before-sources",
    "error",
    "Access that is opened before its list of sources is filled is open to nobody or, on many systems, to everybody.",
    wrong=DEVICE + "    management: [{from: sea, source: admins, service: tcp/22}]",
    right=DEVICE.replace("admins: []", "admins: [198.51.100.7]")
    + "    management: [{from: sea, source: admins, service: tcp/22}]",
)
def management_before_sources(design: Design) -> Iterator[Found]:
    """Find management access whose list of sources has no members."""
    for device in design.devices:
        for access in device.access:
            if access.source is not None and not access.source.spans and not access.deny:
                yield Found(
                    access.place.at("source"), permit_subject(device, access),
                    "its list of sources has no members yet",
                    "Fill the list first.",
                )  # fmt: skip


@check(
    "management-never-reached",
    "warning",
    "The first entry that matches decides; one that denies behind another that lets in keeps nobody out.",
    wrong=DEVICE
    + """    management:
      - {name: ssh, from: office, service: tcp/22}
      - {name: not-the-kiosk, from: office, source: 10.40.10.66, service: tcp/22, deny: true}""",
    right=DEVICE
    + """    management:
      - {name: not-the-kiosk, from: office, source: 10.40.10.66, service: tcp/22, deny: true}
      - {name: ssh, from: office, service: tcp/22}""",
)
def management_never_reached(design: Design) -> Iterator[Found]:
    """Find entries of management of which earlier ones with another verdict take every packet."""
    yield from never_reached(design, "access")


@check(
    "management-for-nobody",
    "error",
    "What no entry matches is dropped: where all entries deny, nobody reaches the device any more.",
    wrong=DEVICE + "    management: [{from: sea, deny: true}]",
    right=DEVICE + "    management: [{from: sea, deny: true}, {from: office}]",
)
def management_for_nobody(design: Design) -> Iterator[Found]:
    """Find devices whose entries of management all deny."""
    for device in design.devices:
        if device.access and all(each.deny for each in device.access):
            yield Found(
                device.access[0].place, f"{device.name} management",
                "all entries deny, so that nobody reaches the device",
                "Add an entry for those who may, such as `{from: ZONE}` for everybody there.",
            )  # fmt: skip
