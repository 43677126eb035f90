"""Checks of the replies to what is made reachable from outside, each with an example packet."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import ARRIVES, Space
from agile_lattice.behaviour.sample_packets import packets_of
from agile_lattice.behaviour.tables import Hop
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Device
from agile_lattice.intent.stages import Rule, family_of
from agile_lattice.intent.translations import Translation
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import meet

MOST_TRIED = 3  # packets of each translation

_PUBLISHED = """\
devices:
  quay:
    speaks: [frr, nftables]
    interfaces: {wan0: {address: 203.0.113.2/28}, pier0: {address: 10.40.20.1/24}}
    routes: [{to: default, via: 203.0.113.1}, {to: 10.41.10.0/24, via: 10.40.20.2}]
    translations:
      - {name: gate-reader, publish: 203.0.113.5, service: tcp/4433, on: 10.41.10.30, facing: wan0}
      - {name: out, to: wan0, source-becomes: interface}
  gate:
    speaks: frr
    interfaces: {sea0: {address: 198.51.100.2/29}, up0: {address: 10.40.20.2/24}, hall0: {address: 10.41.10.1/24}}
    routes: """

_SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
"""


@check(
    "answer-goes-elsewhere",
    "error",
    "A reply that leaves by another device or another provider than the packet came by is not translated back, and"
    " nobody takes it for the reply.",
    wrong=_PUBLISHED + "[{to: default, via: 198.51.100.1}, {to: 10.40.0.0/16, via: 10.40.20.1}]",
    right=_PUBLISHED + "[{to: default, via: 10.40.20.1}]",
    across=True,
)
def answer_goes_elsewhere(design: Design) -> Iterator[Found]:
    """Find published hosts whose replies do not come to those who asked, as far as a few packets show it."""
    for device, one, rule, hop in _published(design):
        here = [(arrives, found) for arrives, found in _walks(design, device, rule) if arrives != hop.interface]
        for arrives, found in here:
            if found.end in ("delivered", "forwarded") and found.reply == "lost":
                yield _not_answered(
                    device, one, arrives, found,
                    "Route the way back through this device, or translate the sources of what comes in, too.",
                )  # fmt: skip
                break


@check(
    "neighbour-answered-directly",
    "warning",
    "A host answers its neighbours directly and from its own address: whoever wrote to its external address does not"
    " take that for the reply.",
    wrong=_SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}",
    right=_SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11, facing: wan0, hairpin: lan0}",
    across=True,
)
def neighbour_answered_directly(design: Design) -> Iterator[Found]:
    """Find published hosts whose neighbours may write to the external address, and get no reply from it."""
    for device, one, rule, hop in _published(design):
        for arrives, found in _walks(design, device, rule, hop.interface) if hop.means == "connected" else ():
            if found.end == "delivered" and found.visits[-1].leaves == hop.interface and found.reply == "lost":
                yield _not_answered(
                    device, one, arrives, found,
                    f"Say by `facing` who may use it; or write `hairpin: {hop.interface}`, which translates the sources"
                    " of neighbours, too.",
                )  # fmt: skip
                break


def _published(design: Design) -> Iterator[tuple[Device, Translation, Rule, Hop]]:
    """Yield what makes a host reachable: the translation, what it does on arrival, and where the host is."""
    for device in design.devices:
        for one, rules in design.rules(device):
            rule = next((each for each in rules if each.stage == "arrival" and each.to is not None), None)
            if rule is None or rule.to is None:
                continue
            host = Address(rule.to.family, rule.to.spans[0][0])
            hop = design.topology.table(device.name, host.family).look_up(host.value)
            if hop is not None:
                yield device, one, rule, hop


def _walks(design: Design, device: Device, rule: Rule, arrives: str = "") -> Iterator[tuple[str, Walk]]:
    """Follow a few packets that a rule rewrites, of those that come in by one interface if one is named."""
    space = Space(device.interfaces, family_of(rule))
    box: Box = space.of_rule(rule)
    if arrives:
        number = space.numbers[arrives]
        box = (*box[:ARRIVES], meet(box[ARRIVES], ((number, number),)), *box[ARRIVES + 1 :])
    packets = packets_of(space, design.topology, device.name, box) if all(box) else ()
    honest = (each for each in packets if _is_there(design, device, *each))
    for came, header in islice(honest, MOST_TRIED):
        yield came, walk(design.topology, header, device.name, came)


def _is_there(design: Design, device: Device, arrives: str, header: Header) -> bool:
    """Tell whether the sender of a packet may be behind an interface: a private one only where the device knows it."""
    source = header.source
    if not Prefix.host(source).is_private:
        return True
    hop = design.topology.table(device.name, source.family).look_up(source.value)
    return hop is not None and arrives in {way.interface for way in hop.way.each}


def _not_answered(device: Device, one: Translation, arrives: str, found: Walk, remedy: str) -> Found:
    sent, got = found.visits[0].before, found.visits[-1].after
    what = f"the reply does not come back: {sent}, in {arrives}, gets to {got.destination}, but {found.obstacle}"
    return Found(one.place, translation_subject(device, one), what, remedy)
