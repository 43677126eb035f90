"""The stages of a device as first-match lists of what they match and do."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import msgspec

from agile_lattice.behaviour.links import lent
from agile_lattice.behaviour.matching import DESTINATION, PORT, SOURCE, Space
from agile_lattice.behaviour.tables import Table
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import DISCOVERY, Passage, passages
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.stages import Rule, split
from agile_lattice.packets.actions import Action
from agile_lattice.packets.functions import Entry
from agile_lattice.packets.spans import Span, Spans, meet, merged

Listed = Literal["arrival", "permits", "departure", "access"]
LISTED: tuple[Listed, ...] = ("arrival", "permits", "departure", "access")
KEEP = Action("goes on")
DROP = Action("dropped")


class Line(msgspec.Struct, frozen=True, gc=False):
    """An entry of a stage, and what it comes from.

    Attributes:
        rule: The rule; `None` for what happens where none matches.
        own: The address of the interface that packets leave with, where the rule takes that.
    """

    entry: Entry
    rule: Rule | Passage | None = None
    own: Address | None = None

    @property
    def place(self) -> Place:
        """Where the rule is written; nowhere for what happens where none matches."""
        return self.rule.place if self.rule is not None else NOWHERE

    def __str__(self) -> str:
        action, rule = self.entry.action, self.rule
        if rule is None:
            return "unchanged" if action == KEEP else "dropped: no rule permits it"
        if isinstance(rule, Passage):
            return f"{rule.name or 'a permit'}: {'permitted' if rule.verdict == 'pass' else 'dropped'}"
        name = rule.name or "a rule"
        if action == KEEP:
            return f"{name}: unchanged"
        if rule.verdict == "egress" and self.own is None:
            return f"{name}: source becomes the address that the interface learns"
        what = "destination" if rule.stage == "arrival" else "source"
        port = f", port {rule.to_port}" if rule.to_port is not None else ""
        kept = ", ports kept" if rule.port_use == "kept" else ""
        return f"{name}: {what} becomes {self.own or rule.to}{port}{kept}{', DNS answers too' * rule.rewrites_dns}"


def lines(device: Device, part: Listed, space: Space, choice: int = 0) -> list[Line]:
    """Return a stage of a device, for packets of one family; the last line is for every packet.

    Args:
        device: The device, with what it learns.
        part: The stage.
        space: The packets.
        choice: Which of several equally good routes is taken, as in `Table`.
    """
    if part in ("arrival", "departure"):
        mine = [rule for rule in split(device.translations) if rule.stage == part and space.speaks(rule)]
        return [
            *(line for rule in mine for line in _of_rule(device, space, rule, choice)),
            Line(Entry(space.box(), KEEP)),
        ]
    rules = passages(device.permits if part == "permits" else device.access)
    found = [
        Line(Entry(space.of_rule(each), KEEP if each.verdict == "pass" else DROP), each)
        for each in rules
        if space.speaks(each)
    ]
    always = [Line(Entry(space.of_rule(DISCOVERY), KEEP))] if part == "access" and rules and space.family == 6 else []
    return [*always, *found, Line(Entry(space.box(), DROP if rules else KEEP))]


def _of_rule(device: Device, space: Space, rule: Rule, choice: int) -> Iterator[Line]:
    """Yield the lines of a rule: one, but where it takes an address of the interface, one for each of these."""
    box = space.of_rule(rule)
    if rule.verdict != "egress":
        yield Line(Entry(box, _action(rule)), rule)
        return
    for first, last in box[1]:
        for number in range(first, last + 1):
            name = space.names[number] if space.names else ""
            only = (box[0], ((number, number),), *box[2:])
            for own, towards in lends(device, name, space, choice):
                # One that has no address lends none, and leaves the source as it is.
                action = Action(("address of", name)) if own is None else Action("goes on", ((SOURCE, own.value),))
                to = only[DESTINATION] if towards is None else meet(only[DESTINATION], towards)
                if to:
                    yield Line(Entry((*only[:DESTINATION], to, *only[DESTINATION + 1 :]), action), rule, own)


def lends(device: Device, name: str, space: Space, choice: int) -> Iterator[tuple[Address | None, Spans | None]]:
    """Yield the addresses that an interface lends to packets, each with their destinations; `None` for all others."""
    one = device.interface(name)
    own = lent(one, space.family) if one is not None else []
    if one is not None and len(own) > 1:
        towards: dict[Address, list[Span]] = {}
        table = Table(device, space.family, one.instance, choice)
        for first, last, hop in table.within(*space.any_address[0]):
            if hop is None or hop.interface != name:
                continue
            for prefix in own:
                near = ((hop.next_hop.value,) * 2,) if hop.next_hop is not None else ((first, last),)
                if inside := meet(near, ((prefix.first, prefix.last),)):
                    towards.setdefault(prefix.address, []).extend([(first, last)] if hop.next_hop else inside)
        for address, spans in towards.items():
            if address != own[0].address:
                yield address, merged(spans)
    yield (own[0].address if own else None), None


def _action(rule: Rule) -> Action:
    if rule.verdict == "keep" or rule.to is None:
        return KEEP
    dimension = DESTINATION if rule.stage == "arrival" else SOURCE
    port = () if rule.to_port is None else ((PORT, rule.to_port),)
    said = {"DNS too": rule.rewrites_dns, "ports kept": rule.port_use == "kept"}
    verdict = ("goes on", *(words for words, so in said.items() if so)) if any(said.values()) else KEEP.verdict
    if rule.verdict == "shift":
        matched = rule.destination if rule.stage == "arrival" else rule.source
        assert matched is not None  # that is what it is shifted from
        offset = rule.to.spans[0][0] - matched.spans[0][0]
        return Action(verdict, port, ((dimension, offset),) if offset else ())
    if rule.to.is_single:
        return Action(verdict, ((dimension, rule.to.spans[0][0]), *port))
    return Action(("one of", rule.to.spans, verdict), port)
