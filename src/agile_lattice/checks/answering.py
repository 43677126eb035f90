"""Checks of what a device answers for besides its own addresses (ARP, neighbour discovery)."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.pools import Taken
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.answering import FAMILIES, connected, external_addresses
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.translations import Static
from agile_lattice.packets.spans import covers, meet, merged, minus

_ANSWERS = """\
interfaces: {wan0: {address: 203.0.113.2/28, answers: ANSWERS}, lan0: {address: 10.40.10.1/24}}
translations: [{to: wan0, source-becomes: {pool: 203.0.113.8/30}}]"""


@check(
    "not-answered",
    "error",
    "Neighbours on the link ask for an external address (ARP, ND); if nobody answers, its packets never come.",
    wrong=_ANSWERS.replace("ANSWERS", "203.0.113.8/31"),
    right=_ANSWERS.replace("ANSWERS", "203.0.113.8/30"),
)
def not_answered(design: Design) -> Iterator[Found]:
    """Find external addresses on a link of the device for which nobody answers: by its `answers`, or a prefix."""
    for device in design.devices:
        for family in FAMILIES:
            for interface in device.interfaces:
                if interface.answers is not None:
                    yield from _silent(device, interface, family)
        yield from _whole_prefixes(design, device)


def _silent(device: Device, interface: Interface, family: int) -> Iterator[Found]:
    """Yield the external addresses on a link that the `answers` of its interface leave out."""
    own = merged((each.value, each.value) for _, each, _ in own_addresses(device) if each.family == family)
    said = merged(span for each in interface.answers or () if each.family == family for span in each.spans)
    here = connected([interface], family)
    for one in device.translations:
        silent = minus(meet(external_addresses([one], family), here), merged((*said, *own)))
        if silent:
            yield Found(
                interface.place.at("answers"), translation_subject(device, one),
                f"nobody answers for {AddressSet(family, silent)} on {interface.name}",
                "Add it to `answers`, or leave `answers` out: it is derived then.",
            )  # fmt: skip


def _whole_prefixes(design: Design, device: Device) -> Iterator[Found]:
    """Yield external prefixes of IPv6 on a link of the device: they are not asked for one by one, but routed."""
    for one in device.translations:
        if not isinstance(one, Static) or one.external.family == 4 or one.external.is_host:
            continue
        if one.direction == "outbound":
            continue
        for interface in design.sides(device, one.facing):
            span = (one.external.first, one.external.last)
            if interface.answers is None and meet((span,), connected([interface], 6)):
                yield Found(
                    one.place.at("static"), translation_subject(device, one),
                    f"neighbours on {interface.name} ask for each address of {one.external} (ND), and nobody answers",
                    f"Have the prefix routed to {device.name}, or translate single addresses of it.",
                )  # fmt: skip


@check(
    "answers-too-much",
    "error",
    "A device that answers for addresses of others takes their packets; one that answers for its own twice is at odds"
    " with itself.",
    wrong=_ANSWERS.replace("ANSWERS", "203.0.113.0/28"),
    right=_ANSWERS.replace("ANSWERS", "203.0.113.8/30"),
    across=True,
)
def answers_too_much(design: Design) -> Iterator[Found]:
    """Find answers that hold an address of the device itself or of others, or everything on a shared link."""
    for device in design.devices:
        for interface in device.interfaces:
            for said in interface.answers or ():
                taken = Taken(design, device)
                what = _too_much(said, [each for each in interface.addresses if each.family == said.family], taken)
                if what:
                    yield Found(
                        interface.place.at("answers"), f"{device.name} {interface.name}",
                        f"it answers for {what}", "Name just the external addresses that the translations use.",
                    )  # fmt: skip


def _too_much(said: AddressSet, own: list[Prefix], taken: Taken) -> str:
    for each in own:
        inner = ((each.first + len(each.edges) // 2, each.last - len(each.edges) // 2),)
        if each.host_bits > 1 and covers(said.spans, inner):
            return f"all of {each.network}, also for its neighbours"
    mine = next((each for each in own if each.address in said), None)
    if mine is not None:
        return f"its own address {mine.address}"
    return next((f"{address}, {use}" for address, use in taken.within(said).items()), "")
