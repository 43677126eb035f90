"""Two configurations of one device compared for every packet of IPv4: stage by stage, exactly.

If all stages are the same function, the devices are. Where a stage differs, the packets that it treats differently are
given as boxes; whether such a packet comes to that stage at all is for a walk to tell.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import msgspec

from agile_lattice.behaviour.matching import Packet, Space, is_of_ipv4
from agile_lattice.behaviour.tables import Hop, Table
from agile_lattice.intent.addresses import BITS, Address, AddressSet
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal
from agile_lattice.intent.permits import Passage, passages
from agile_lattice.intent.services import Service
from agile_lattice.intent.stages import Rule, Stage, split
from agile_lattice.packets.boxes import Box, Undecided
from agile_lattice.packets.functions import Action, Entry, differing
from agile_lattice.packets.spans import Spans, merged, minus

Part = Literal["arrival", "way", "permits", "departure", "access", "answers"]
KEEP: Action = ("keep",)
PASS, DROP = ("pass",), ("drop",)


class Parting(msgspec.Struct, frozen=True):
    """Packets that one stage of two devices treats differently.

    Attributes:
        part: The stage.
        box: The packets, in the dimensions of `matching.Space`; `None` where only destinations count.
        destinations: The destinations, where only they count.
        example: One of the packets; `None` where only destinations count.
        left, right: What each device does with them, in words.
    """

    part: Part
    left: str
    right: str
    box: Box | None = None
    destinations: AddressSet | None = None
    example: Packet | None = None


class Proof(msgspec.Struct, frozen=True):
    """What was found out about two devices.

    Attributes:
        partings: Where stages differ; if there are none and nothing is undecided, the devices are the same.
        undecided: What could not be decided, in words.
        entries: How many rules and routes were compared, on both sides together.
    """

    partings: tuple[Parting, ...]
    undecided: tuple[str, ...]
    entries: int

    @property
    def same(self) -> bool:
        """Whether every packet is treated the same."""
        return not self.partings and not self.undecided


def prove(left: Device, right: Device) -> Proof:
    """Compare two configurations of one device, for every packet.

    Args:
        left: The one; all that it answers for must be said or follow from its translations.
        right: The other, likewise.
    """
    names = dict.fromkeys(each.name for device in (left, right) for each in device.interfaces)
    space = Space([Interface(name) for name in names])
    partings: list[Parting] = []
    undecided: list[str] = []
    sides = _Side(left, space), _Side(right, space)
    parts: tuple[Part, ...] = ("arrival", "permits", "departure", "access")
    for part in parts:
        mine, its = sides[0].entries(part), sides[1].entries(part)
        try:
            regions = differing([each for each, _ in mine], [each for each, _ in its])
        except Undecided as error:
            undecided.append(f"{part}: {error}")
            continue
        partings += [
            Parting(part, mine[each.left][1], its[each.right][1], each.box, None, space.example(each.box))
            for each in regions
        ]
    instances = {one.instance for device in (left, right) for one in device.interfaces}
    instances |= {one.instance for device in (left, right) for one in device.routes}
    for instance in sorted({"", *instances}):
        for family in (4, 6):
            partings += _ways(left, right, family, instance)
    partings += _answers(left, right)
    if _of_ipv6(left) != _of_ipv6(right):
        undecided.append("rules of IPv6: they are not the same, and only those of IPv4 are compared packet by packet")
    for name in ("forwarding4", "forwarding6", "reverse_path"):
        said, there = getattr(left.settings, name), getattr(right.settings, name)
        if said is not None and said != there:
            undecided.append(f"settings: {name} is not the same, and what follows from it is not worked out")
    entries = sum(len(each.routes) + len(each.translations) + len(each.permits) for each in (left, right))
    return Proof(tuple(partings), tuple(undecided), entries)


class _Side:
    """One device's stages as first-match lists, each entry with its words."""

    def __init__(self, device: Device, space: Space) -> None:
        self.device, self.space = device, space

    def entries(self, part: Part) -> list[tuple[Entry, str]]:
        if part in ("arrival", "departure"):
            stage: Stage = "arrival" if part == "arrival" else "departure"
            own = [rule for rule in split(self.device.translations) if rule.stage == stage and is_of_ipv4(rule)]
            found = [pair for rule in own for pair in self.rule(rule)]
            return [*found, (Entry(self.space.box(), KEEP), "stays as it is")]
        rules = passages(self.device.permits if part == "permits" else self.device.access)
        mine = [each for each in rules if is_of_ipv4(each)]
        boxes = [(self.passage(each), each) for each in mine]
        # One that names an interface which neither device has, or an empty list of addresses, matches nothing.
        listed = [(Entry(box, (each.verdict,)), _named(each)) for box, each in boxes if all(box)]
        rest = DROP if rules else PASS
        return [*listed, (Entry(self.space.box(), rest), "is dropped: nothing permits it" if rules else "passes")]

    def passage(self, rule: Passage) -> Box:
        service = Service(rule.protocol, rule.ports) if rule.protocol else None
        return self.space.box(rule.arrives, rule.leaves, rule.source, rule.destination, service)

    def rule(self, rule: Rule) -> Iterator[tuple[Entry, str]]:
        """Yield the entries of a rule: one, but where it takes the address of the interface, one for each of them."""
        box = self.space.of_rule(rule)
        if not all(box):
            return  # it names interfaces that neither device has
        if rule.verdict != "egress":
            yield Entry(box, _action(rule)), _becomes(rule)
            return
        for first, last in box[1]:
            for number in range(first, last + 1):
                own = self.own(self.space.names[number]) if self.space.names else None
                action: Action = KEEP if own is None else ("set", ((own.value, own.value),), None)
                only: Spans = ((number, number),)
                words = f"{rule.name or 'a rule'}: source becomes {own}" if own else "stays as it is"
                yield Entry((box[0], only, *box[2:]), action), words

    def own(self, name: str) -> Address | None:
        """Return the address that an interface lends to packets that leave by it."""
        one = self.device.interface(name)
        return next((each.address for each in one.addresses if each.family == 4), None) if one is not None else None


def _action(rule: Rule) -> Action:
    if rule.verdict == "keep" or rule.to is None:
        return KEEP
    if rule.verdict == "shift":
        matched = rule.destination if rule.stage == "arrival" else rule.source
        assert matched is not None  # that is what it is shifted from
        return ("shift", rule.to.spans[0][0] - matched.spans[0][0], rule.to_port)
    if rule.to.is_single:
        return ("set", rule.to.spans, rule.to_port)
    return ("one of", rule.to.spans, rule.port_use)


def _becomes(rule: Rule) -> str:
    name = rule.name or "a rule"
    if rule.verdict == "keep":
        return f"{name}: stays as it is"
    what = "destination" if rule.stage == "arrival" else "source"
    port = f", port {rule.to_port}" if rule.to_port is not None else ""
    return f"{name}: {what} becomes {rule.to}{port}"


def _named(rule: Passage) -> str:
    return f"{rule.name or 'a permit'}: {'passes' if rule.verdict == 'pass' else 'is dropped'}"


def _of_ipv6(device: Device) -> object:
    """Return the rules that packets of IPv6 can match, as they are."""
    settled = normal(device)

    def speaks(rule: Rule | Passage) -> bool:
        sets = [each for each in (rule.source, rule.destination, getattr(rule, "to", None)) if each is not None]
        return rule.protocol != "icmp" and all(each.family == 6 for each in sets)

    translated = [each for each in split(settled.translations) if any(
        one is not None and one.family == 6 for one in (each.source, each.destination, each.to))]  # fmt: skip
    plain = [msgspec.structs.replace(each, name="", log=False) for each in passages(settled.permits) if speaks(each)]
    managed = [msgspec.structs.replace(each, name="") for each in passages(settled.access) if speaks(each)]
    return [msgspec.structs.replace(each, name="") for each in translated], plain, managed


def _ways(left: Device, right: Device, family: int, instance: str) -> Iterator[Parting]:
    """Compare forwarding tables interval by interval."""
    tables = Table(left, family, instance), Table(right, family, instance)
    cuts = sorted({*tables[0].starts, *tables[1].starts})
    top = 1 << BITS[family]
    runs: dict[tuple[str, str], list[tuple[int, int]]] = {}
    for first, end in zip(cuts, [*cuts[1:], top], strict=True):
        mine, its = (_means(each.look_up(first)) for each in tables)
        if mine != its:
            runs.setdefault((mine, its), []).append((first, end - 1))
    for (mine, its), spans in runs.items():
        yield Parting("way", mine, its, None, AddressSet(family, merged(spans)))


def _means(hop: Hop | None) -> str:
    if hop is None:
        return "no route"
    if hop.means == "own":
        return "the device itself"
    if hop.means == "discard":
        return "discarded"
    return f"to {hop.next_hop}, by {hop.interface}" if hop.next_hop is not None else f"on the link of {hop.interface}"


def _answers(left: Device, right: Device) -> Iterator[Parting]:
    """Compare what the devices answer for, besides their own addresses."""
    mine, its = ({one.interface: one.addresses for one in normal(each).answers or ()} for each in (left, right))
    for name in sorted({*mine, *its}):
        here, there = (each[name].spans if name in each else () for each in (mine, its))
        if missing := minus(here, there):
            yield Parting("answers", f"answers on {name}", "does not answer", None, AddressSet(4, missing))
        if extra := minus(there, here):
            yield Parting("answers", "does not answer", f"answers on {name}", None, AddressSet(4, extra))
