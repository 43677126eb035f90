"""Where to look for packets that a difference could change: all of them, and few others."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from agile_lattice.behaviour.images import with_spans
from agile_lattice.behaviour.matching import DESTINATION, SOURCE, Space
from agile_lattice.behaviour.proving import Parting
from agile_lattice.compare.differences import Gap
from agile_lattice.compare.witnesses import FAMILIES, Question, Sides
from agile_lattice.dialects.facts import AddressFact, ProxyFact
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Settings
from agile_lattice.intent.permits import Access, Permit, passages
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import split
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, merged

# Fields of which it is worked out what they do to packets; of an MTU, say, it is not.
OF_INTERFACES = frozenset({"enabled", "vlan", "parent", "instance", "order"})
OF_SETTINGS = frozenset({"forwarding", "reverse-path"})


def can_be_proven(sides: Sides, gap: Gap) -> bool:
    """Tell whether all that a difference does to packets is worked out, so that it can be proven to do nothing."""
    one = gap.wanted if gap.wanted is not None else gap.found
    if isinstance(one, Interface):
        # What a bridge does between its ports is not.
        return _fields(gap) == {"order"} or (
            _fields(gap) <= OF_INTERFACES and not any(each.is_bridged(one.name) for each in sides.devices)
        )
    return not isinstance(one, Settings) or _fields(gap) <= OF_SETTINGS


def _fields(gap: Gap) -> set[str]:
    return {each.name for each in gap.difference.fields}


def questions_of(sides: Sides, gap: Gap) -> list[Question]:
    """Return where a difference could be felt."""
    return [_question(sides, gap, family) for family in FAMILIES]


def _question(sides: Sides, gap: Gap, family: int) -> Question:
    space = sides.space(family)
    coming: list[Box] = []
    inside: list[Box] = []
    for one in (gap.wanted, gap.found):
        if isinstance(one, Access):
            own = _to_itself(sides, family)
            every = [space.box()] if lets_all_through(sides, gap) else []
            boxes = [*every, *(space.of_rule(rule) for rule in passages([one]) if space.speaks(rule))]
            inside += [with_spans(box, DESTINATION, meet(box[DESTINATION], own)) for box in boxes]
        elif isinstance(one, Permit):
            inside += [space.of_rule(rule) for rule in passages([one]) if space.speaks(rule)]
            if lets_all_through(sides, gap):
                coming.append(space.box())
        elif isinstance(one, Route):
            coming += _from_prefix(sides, space, one.to)
            inside += _to(space, one.to)
        elif isinstance(one, AddressFact):
            coming += [*_from_prefix(sides, space, one.address), space.box(arrives=[one.interface])]
            inside += [*_to(space, one.address), *leaving(sides, one.interface, family)]
        elif isinstance(one, ProxyFact):
            here = space.side([one.interface])
            coming += [(here, *box[1:]) for box in _to(space, one.address)]
            inside += _to(space, one.address)
        elif isinstance(one, Interface):
            names = [one.name, *_parts_of(sides, one.name)]
            coming.append(space.box(arrives=names))
            for each in one.addresses:
                coming += _from_prefix(sides, space, each)
                inside += _to(space, each)
            for name in names:
                inside += leaving(sides, name, family)
        elif isinstance(one, Settings):
            coming += [space.box()] * bool(_fields(gap) & OF_SETTINGS)
        elif one is not None:
            coming += _stage(space, one, "arrival")
            inside += _stage(space, one, "departure")
    return Question(family, *(tuple(box for box in boxes if all(box)) for boxes in (coming, inside)))


def _parts_of(sides: Sides, name: str) -> list[str]:
    """Return the interfaces that are VLANs of another, on either side."""
    return sorted({each.name for device in sides.devices for each in device.interfaces if each.parent == name})


def lets_all_through(sides: Sides, gap: Gap) -> bool:
    """Tell whether only one side has rules of the sort that differs: the other lets everything through."""
    section = gap.difference.section
    return section in ("permits", "access") and len({bool(getattr(each, section)) for each in sides.devices}) > 1


def _stage(space: Space, translation: Any, stage: str) -> list[Box]:
    return [space.of_rule(rule) for rule in split([translation]) if rule.stage == stage and space.speaks(rule)]


def _to(space: Space, prefix: Prefix) -> Iterator[Box]:
    if prefix.family == space.family:
        yield to_spans(space, ((prefix.first, prefix.last),))


def _from(sides: Sides, space: Space, spans: Spans) -> Iterator[Box]:
    """Yield the packets from some addresses, if the way back to them decides about any."""
    if space.family == 4 and any(each.filters_by for each in sides.devices):
        yield with_spans(space.box(), SOURCE, spans)


def _from_prefix(sides: Sides, space: Space, prefix: Prefix) -> Iterator[Box]:
    if prefix.family == space.family:
        yield from _from(sides, space, ((prefix.first, prefix.last),))


def question_about(sides: Sides, parting: Parting) -> list[Question]:
    """Return where packets could be treated differently because a stage differs."""
    found = []
    for family in FAMILIES if parting.family is None else (parting.family,):
        space = sides.space(family)
        coming: list[Box] = []
        inside: list[Box] = []
        if parting.region is not None:
            boxes = [box for match in parting.region.matches if all(box := space.of_match(match))]
            (coming if parting.part == "arrival" else inside).extend(boxes)
        elif parting.destinations is not None:
            box = to_spans(space, parting.destinations.spans)
            coming += [box, *_from(sides, space, parting.destinations.spans)]
            inside.append(box)
        elif parting.interface:
            coming.append(space.box(arrives=[parting.interface]))
            inside += leaving(sides, parting.interface, family)
        else:
            coming.append(space.box())
        found.append(Question(family, tuple(coming), tuple(inside)))
    return found


def to_spans(space: Space, spans: Spans) -> Box:
    """Return all packets to some addresses."""
    return with_spans(space.box(), DESTINATION, spans)


def leaving(sides: Sides, name: str, family: int) -> Iterable[Box]:
    """Return the packets that leave by an interface on either side, as they are after destination NAT."""
    spans = merged(span for each in sides.treating(family) for span in each.leading_to(name))
    return [to_spans(sides.space(family), spans)] if spans else []


def _to_itself(sides: Sides, family: int) -> Spans:
    """Return the destinations that are the device's own on either side."""
    return merged(
        (first, last)
        for each in sides.treating(family)
        for instance in {"", *(port.instance for port in each.device.interfaces)}
        for first, last, hop in each.topology.table(each.device.name, family, instance).within(
            *each.space.any_address[0]
        )
        if hop is not None and hop.means == "own"
    )
