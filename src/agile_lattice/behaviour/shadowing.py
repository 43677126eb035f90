"""What earlier rules leave of later ones, for the lists of many devices at once. Exact."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.matching import DESTINATION, PORT, SOURCE, Space
from agile_lattice.behaviour.stage_lists import LISTED, Listed
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Access, Passage, Permit, passages
from agile_lattice.intent.stages import Rule, split
from agile_lattice.intent.translations import Translation
from agile_lattice.packets.boxes import Box, Undecided
from agile_lattice.packets.shadows import Shadow, crossings, meetings, shadows

FIELDS = ((0,), (1,), (2, PORT), (SOURCE,), (DESTINATION,))  # what a reader takes for one thing to match
WIDTHS = (2, SOURCE, DESTINATION, PORT)  # an exception is narrower in these: its sides may be any
Owner = Translation | Permit | Access


class Member(msgspec.Struct, frozen=True, gc=False):
    """A rule of a list.

    Attributes:
        owner: What it stands for in the intent.
        rule, box: The rule, and what it matches.
    """

    owner: Owner
    rule: Rule | Passage
    box: Box


class Ordered(msgspec.Struct, frozen=True):
    """A list of rules, and what earlier ones do to later ones.

    Attributes:
        device, part, space: Whose it is, which stage, and what the boxes mean.
        members: The rules.
        shadows: What is left of each.
        crossed: Positions of rules and of earlier ones that match all of it but in one field, and more besides; `None`
            if there are too many to tell.
    """

    device: Device
    part: Listed
    space: Space
    members: tuple[Member, ...]
    shadows: tuple[Shadow, ...]
    crossed: tuple[tuple[int, int], ...] | None


def ordered(devices: Sequence[Device], examples: bool = False) -> list[Ordered]:
    """Work out all lists of some devices of a network; with `examples`, shadows show some of what is left."""
    found = []
    owned = [(device, part, rules) for device in devices for part, rules in _owned(device).items() if rules]
    for family in (4, 6):
        spaces = {device.name: Space(device.interfaces, family) for device in devices}
        lists = [
            (device, part, space, members)
            for device, part, rules in owned
            for space in [spaces[device.name]]
            if (members := tuple(Member(*each, space.of_rule(each[1])) for each in rules if space.speaks(each[1])))
        ]
        boxes = [[each.box for each in members] for *_, members in lists]
        results = _together(boxes, family if examples else None)
        for (device, part, space, members), left, crossed in zip(lists, *results, strict=True):
            found.append(Ordered(device, part, space, members, left, crossed))
    return found


def _owned(device: Device) -> dict[Listed, list[tuple[Owner, Rule | Passage]]]:
    """Return the rules of each list of a device, with what they stand for."""
    found: dict[Listed, list[tuple[Owner, Rule | Passage]]] = {part: [] for part in LISTED}
    for one in device.translations:
        for rule in split([one]):
            found[rule.stage].append((one, rule))
    for permit in device.permits:
        found["permits"] += [(permit, rule) for rule in passages([permit])]
    for access in device.access:
        found["access"] += [(access, rule) for rule in passages([access])]
    return found


Crossed = tuple[tuple[int, int], ...]


def _together(
    lists: Sequence[Sequence[Box]], family: int | None
) -> tuple[list[tuple[Shadow, ...]], list[Crossed | None]]:
    """Look at many lists at once; if that is too much, at one after the other. The family is for examples."""
    # Which list a box is in is one more dimension.
    liked = [(), *Space([], family).liked] if family is not None else None
    boxes = [(((number, number),), *box) for number, members in enumerate(lists) for box in members]
    fields = [[at + 1 for at in field] for field in FIELDS]
    widths = [at + 1 for at in WIDTHS]
    starts = [0]
    for members in lists:
        starts.append(starts[-1] + len(members))
    crossed: list[list[tuple[int, int]]] = [[] for _ in lists]
    try:
        left = shadows(boxes, liked)
        for later, earlier in crossings(boxes, fields, widths):
            number = boxes[later][0][0][0]
            crossed[number].append((later - starts[number], earlier - starts[number]))
    except Undecided:
        if len(lists) == 1:
            return [_alone(boxes, liked)], [None]
        apart = [_together([each], family) for each in lists]
        return [left for [left], _ in apart], [pairs for _, [pairs] in apart]
    ours = [tuple(_apart(each, start) for each in left[start:end]) for start, end in pairwise(starts)]
    return ours, [tuple(each) for each in crossed]


def _apart(shadow: Shadow, start: int) -> Shadow:
    """Return a shadow as of its list alone."""
    some = shadow.some[1:] if shadow.some is not None else None
    return replace(shadow, takers=tuple(at - start for at in shadow.takers), some=some)


def _alone(boxes: Sequence[Box], liked: Sequence[Sequence[int]] | None) -> tuple[Shadow, ...]:
    try:
        return tuple(shadows(boxes, liked))
    except Undecided:
        return (Shadow(unknown=True),) * len(boxes)


class Taking(msgspec.Struct, frozen=True):
    """That a rule takes packets from a later one.

    Attributes:
        earlier, later: Their positions.
        all: Whether nothing is left of the later one, and this one has a part in that.
    """

    earlier: int
    later: int
    all: bool


def taking(rules: Ordered) -> list[Taking]:
    """Return which rules of a list take packets from which; rules of one owner are left out, as they are one.

    Raises:
        Undecided: If there are too many to look at.
    """
    return [
        Taking(earlier, later, earlier in rules.shadows[later].takers)
        for later, earlier in meetings([each.box for each in rules.members])
        if rules.members[earlier].owner is not rules.members[later].owner
    ]
