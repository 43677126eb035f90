"""Rules held against the rules of a device by what they do, however they are written.

For each rule of the intent: the lines of the device that decide its packets, those that do the same and those that do
something else, with the packets. Then what lines of the device do with packets about which the intent says nothing.
Packets that cannot be are left out: those that would leave by an interface to which no route leads.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.rows import Row, redirected, rows_of
from agile_lattice.behaviour.stage_lists import LISTED, Listed
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN, Unknown
from agile_lattice.compare.pairs import Otherwise, Pairs
from agile_lattice.compare.plausible import Plausible
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.packets.boxes import Undecided
from agile_lattice.programs.lists import Unlisted
from agile_lattice.programs.model import TRANSLATED, Program

HOOKS: dict[Listed, str] = {"arrival": "arrival", "departure": "departure", "permits": "permit", "access": "access"}
Standing = Literal["same", "partly", "other", "nothing"]


class Counterpart(msgspec.Struct, frozen=True):
    """A rule of the intent, and what of the device does the same.

    Attributes:
        stage: Where it is asked.
        name: Its name; may be empty.
        place: Where it is written.
        does: What it does, in words.
        standing: Whether the device does the `same`, does it `partly`, does something `other`, or whether `nothing`
            comes to it.
        same: Lines of the device that do the same with some of its packets; nowhere for what needs no line.
        otherwise: What is treated otherwise.
        unless: What was not understood, and could decide about its packets before these; empty if nothing is.
        maybe: What may be treated otherwise, and on what that depends.
    """

    stage: Listed
    name: str
    place: Place
    does: str
    standing: Standing
    same: tuple[Place, ...]
    otherwise: tuple[Otherwise, ...]
    unless: str = ""
    maybe: tuple[Otherwise, ...] = ()

    @property
    def certain(self) -> bool:
        """Whether nothing that is not known could decide otherwise about its packets."""
        return not (self.unless or self.maybe)


class Beyond(msgspec.Struct, frozen=True):
    """What a line of the device does with packets about which no rule of the intent says anything."""

    stage: Listed
    packets: Otherwise


class Counterparts(msgspec.Struct, frozen=True):
    """The rules of a device held against those of its intent.

    Attributes:
        rules: The rules of the intent.
        beyond: What only the device does.
        undecided: What could not be compared, in words.
        stages: The lists that were compared.
        besides: Lines of the device that do what is wanted with packets about which no rule of it says anything.
    """

    rules: tuple[Counterpart, ...]
    beyond: tuple[Beyond, ...]
    undecided: tuple[str, ...] = ()
    stages: tuple[Listed, ...] = ()
    besides: tuple[Place, ...] = ()


def counterparts(
    intent: Device, there: Device, stages: Iterable[Listed] = LISTED, unknown: Unknown = NOTHING_UNKNOWN,
    program: Callable[[int], Program | None] = lambda family: None, families: Sequence[int] = (4, 6),
) -> Counterparts:  # fmt: skip
    """Hold the rules of a device against those of its intent.

    Args:
        intent: The device as it should be.
        there: As it is, with what nobody has looked at filled in.
        stages: Which lists.
        unknown: What of the device was not understood.
        program: Gives what decides packets of a family on it, where its rules are a program.
        families: Of which packets; of another one nothing is known of the device.
    """
    stages, intent, there = tuple(stages), with_learned(intent), with_learned(there)
    rules: dict[tuple[Listed, object], Counterpart] = {}
    beyond: dict[tuple[object, ...], Beyond] = {}
    undecided: list[str] = []
    besides: list[Place] = []
    routed = not any(unknown.of(part) for part in ("routes", "interfaces"))
    for stage in stages:
        for family in families:
            try:
                pairs = _pairs(intent, there, stage, family, routed, program(family))
            except (Undecided, Unlisted) as error:
                undecided.append(f"{stage}: {str(error).removeprefix('not decided: ')}")
                continue
            for number, row in enumerate(pairs.mine):
                if row.rule is None:
                    for each in pairs.otherwise(number):
                        key = stage, *_key(each)
                        known_ = beyond.get(key)
                        beyond[key] = Beyond(stage, _both(known_.packets, each) if known_ is not None else each)
                    besides += [each for each in pairs.same(number) if each.line]
                    continue
                known = stage, row.place.spot if row.place.line else row.rule
                found = _counterpart(stage, row, pairs.same(number), pairs.otherwise(number))
                rules[known] = _together(rules[known], found) if known in rules else found
    told = [
        replace(each, otherwise=_of_both(each.otherwise), maybe=_of_both(each.maybe), unless=_doubt(each, unknown))
        for each in rules.values()
    ]
    more = [
        Beyond(stage, each)
        for stage in stages
        for each in _of_both(one.packets for one in beyond.values() if one.stage == stage)
    ]
    return Counterparts(tuple(told), tuple(more), tuple(undecided), stages, tuple(_once(besides)))


def _pairs(intent: Device, there: Device, stage: Listed, family: int, routed: bool, program: Program | None) -> Pairs:
    space = common_space(intent, there, family)
    mine, its = rows_of(intent, stage, space), rows_of(there, stage, space, program)
    asks = any(dimension == TRANSLATED for row in its for dimension, _ in row.further)
    apart = redirected(program, space) if program is not None and asks else []
    return Pairs(mine, its, Plausible(there, stage, space, routed), program, apart)


def _doubt(rule: Counterpart, unknown: Unknown) -> str:
    """Tell what was not understood and could decide before the lines that were found for a rule; empty for nothing."""
    lines = [*rule.same, *(each.place for each in rule.otherwise)]
    return next((reason for each in lines if (reason := unknown.before(rule.stage, each))), "")


def _counterpart(stage: Listed, row: Row, same: Sequence[Place], found: Sequence[Otherwise]) -> Counterpart:
    otherwise = [each for each in found if not each.depends]
    open_ = [each for each in found if each.depends]
    name = row.rule.name if row.rule is not None else ""
    standing = _standing(bool(same), not all(each.stray for each in otherwise))
    lines = tuple(_once(same))
    return Counterpart(stage, name, row.place, row.does, standing, lines, tuple(otherwise), maybe=tuple(open_))


def _together(one: Counterpart, other: Counterpart) -> Counterpart:
    """Put together what was found for the parts of a rule: its services, and both families."""
    same, otherwise = (*one.same, *other.same), _once_each((*one.otherwise, *other.otherwise))
    standing = _standing(bool(same), not all(each.stray for each in otherwise))
    return replace(
        one, standing=standing, same=tuple(_once(same)), otherwise=otherwise,
        maybe=_once_each((*one.maybe, *other.maybe)),
    )  # fmt: skip


def _once_each(several: Iterable[Otherwise]) -> tuple[Otherwise, ...]:
    """Return what lines do otherwise, each once."""
    found: dict[object, Otherwise] = {}
    for each in several:
        key = _key(each)
        found[key] = _both(found[key], each) if key in found else each
    return tuple(found.values())


def _key(one: Otherwise) -> tuple[object, ...]:
    return one.place.file, one.place.line, one.does, one.among, one.depends, one.family


def _of_both(several: Iterable[Otherwise]) -> tuple[Otherwise, ...]:
    """Return what lines do otherwise, with what they do with the same packets of both families once."""
    found: dict[object, Otherwise] = {}
    for each in several:
        key = (*_key(each)[:-1], frozenset(each.packets))
        other = found.get(key)
        found[key] = each if other is None else replace(min(other, each, key=lambda one: one.stray), family=None)
    return tuple(found.values())


def _both(one: Otherwise, other: Otherwise) -> Otherwise:
    """Put together what a line does otherwise with some packets and with others."""
    first, second = sorted((one, other), key=lambda each: each.stray)
    packets = tuple(dict.fromkeys((*first.packets, *second.packets)))
    return replace(first, packets=packets, at_most=one.at_most or other.at_most)


def _standing(same: bool, otherwise: bool) -> Standing:
    if not otherwise:
        return "same" if same else "nothing"
    return "partly" if same else "other"


def _once(places: Iterable[Place]) -> Iterator[Place]:
    found = {(each.file, each.line): each for each in places}
    yield from (found[key] for key in sorted(found))
