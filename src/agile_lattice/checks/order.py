"""Checks of the order of translations: what earlier rules leave of later ones. Exact."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

import msgspec

from agile_lattice.behaviour.matching import Space
from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.publishing import published_already
from agile_lattice.checks.rulebook import Found, check
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Exempt, Translation
from agile_lattice.packets.boxes import Box, Undecided, count, overlap, remainder

_SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
translations:
"""


class Taken(msgspec.Struct, frozen=True):
    """What earlier rules do to one rule.

    Attributes:
        rule, box: The rule, and what it matches.
        takers: Earlier rules of its stage that match some of it, in order, each with its translation.
        left: What no earlier rule matches, as disjoint boxes; `None` if that was not decided.
    """

    rule: Rule
    box: Box
    takers: tuple[tuple[Translation, Rule, Box], ...]
    left: tuple[Box, ...] | None


class _Earlier:
    """Earlier rules of a device, kept so that those which could meet a rule are found without trying every one.

    A rule for a single address is met by rules for that address and by general ones only.
    """

    def __init__(self) -> None:
        self.by_address: dict[tuple[str, Address], list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)
        self.general: dict[str, list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)
        self.all: dict[str, list[tuple[int, Translation, Rule, Box]]] = defaultdict(list)

    def add(self, owner: Translation, rule: Rule, box: Box) -> None:
        """Remember a rule."""
        entry = len(self.all[rule.stage]), owner, rule, box
        self.all[rule.stage].append(entry)
        address = _single(rule)
        (self.general[rule.stage] if address is None else self.by_address[rule.stage, address]).append(entry)

    def meeting(self, rule: Rule, box: Box) -> Iterator[tuple[Translation, Rule, Box]]:
        """Yield earlier rules that match some packet of a rule, in order."""
        address = _single(rule)
        if address is None:
            near = self.all[rule.stage]
        else:
            near = sorted(
                [*self.general[rule.stage], *self.by_address.get((rule.stage, address), ())], key=lambda each: each[0]
            )
        for _, owner, earlier, its in near:
            if overlap(its, box) is not None:
                yield owner, earlier, its


def _single(rule: Rule) -> Address | None:
    addresses = rule.destination if rule.stage == "arrival" else rule.source
    return addresses.single if addresses is not None else None


def taken_rules(
    space: Space, rules: Iterable[tuple[Translation, list[Rule]]]
) -> Iterator[tuple[Translation, list[Taken]]]:
    """Yield every translation with what earlier ones do to its rules."""
    earlier = _Earlier()
    for one, members in rules:
        results = []
        for rule in members:
            box = space.of_rule(rule)
            takers = tuple(earlier.meeting(rule, box))
            left: tuple[Box, ...] | None
            try:
                left = tuple(remainder([box], (each[2] for each in takers)))
            except Undecided:
                left = None
            results.append(Taken(rule, box, takers, left))
        for taken in results:
            earlier.add(one, taken.rule, taken.box)
        yield one, results


@check(
    "never-reached",
    "error",
    "The first rule that matches decides; a rule that earlier ones take everything from does nothing.",
    wrong=_SIDES
    + "- {name: all-out, to: wan0, source-becomes: interface}\n"
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}",
    right=_SIDES
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}\n"
    + "- {name: all-out, to: wan0, source-becomes: interface}",
)
def never_reached(design: Design) -> Iterator[Found]:
    """Find rules of which earlier rules, alone or together, take every packet."""
    for device in design.devices:
        for one, results in taken_rules(design.space(device), design.rules(device)):
            if any(each.left is None for each in results):
                yield Found(
                    one.place, translation_subject(device, one),
                    "whether a packet reaches it was not decided: too many earlier rules cross it",
                    "Split the list, or make the rules before it plainer.", unknown=True,
                )  # fmt: skip
            elif results and all(each.takers and not each.left for each in results):
                takers = list(dict.fromkeys(_named(owner) for each in results for owner, _, _ in each.takers))
                if not published_already(one, [owner for each in results for owner, _, _ in each.takers]):
                    yield Found(
                        one.place, translation_subject(device, one),
                        f"no packet reaches it: {_listed(takers)} {'takes' if len(takers) == 1 else 'take'} them all",
                        f"Put it before {takers[0].partition(' (')[0]}, or remove it.",
                    )  # fmt: skip


def _named(one: Translation) -> str:
    return f"{one.name or 'an earlier rule'} ({one.place})"


def _listed(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


@check(
    "partly-taken",
    "note",
    "Where two rules cross, the earlier one decides. That may be meant; if so, it is worth saying in the names.",
    wrong=_SIDES
    + "- {name: web-out, to: wan0, service: tcp/443, source-becomes: {pool: 203.0.113.4}}\n"
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}",
    right=_SIDES
    + "- {name: staff-web, to: wan0, source: 10.40.10.0/24, service: tcp/443, source-becomes: {pool: 203.0.113.4}}\n"
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}",
)
def partly_taken(design: Design) -> Iterator[Found]:
    """Find rules of which an earlier one with another effect takes some packets, and reaches beyond.

    An earlier rule that lies wholly within a later one is the usual way to make an exception.
    """
    for device in design.devices:
        space = design.space(device)
        for one, results in taken_rules(space, design.rules(device)):
            found = next((each for taken in results if taken.left for each in _crossing(taken)), None)
            if found is not None:
                owner, box, share = found
                yield Found(
                    one.place, translation_subject(device, one),
                    f"{_named(owner)} takes {share} of its packets, such as {space.example(box)}",
                    "Leave it if that is meant; otherwise narrow the earlier rule, or change the order.",
                )  # fmt: skip


def _crossing(taken: Taken) -> Iterator[tuple[Translation, Box, str]]:
    for owner, earlier, box in taken.takers:
        common = overlap(box, taken.box)
        if common is None or _effect(earlier) == _effect(taken.rule) or isinstance(owner, Exempt):
            continue
        if common == box and taken.rule.verdict != "keep":
            continue  # an exception
        share = 100 * count([common]) / count([taken.box])
        yield owner, common, "less than 1 %" if share < 1 else f"{share:.0f} %"


def _effect(rule: Rule) -> tuple[object, ...]:
    return rule.verdict, rule.to, rule.to_port


@check(
    "exemption-too-broad",
    "warning",
    "An exemption takes its packets from every later rule; one that is broader than its purpose lets private sources"
    " out where they should have been translated.",
    wrong=_SIDES
    + "- {name: tunnel, exempt: true, to: wan0, source: 10.40.10.0/25, for: {peer: 10.99.0.0/16}}\n"
    + "- {to: wan0, source-becomes: interface}",
    right=_SIDES
    + "- {name: tunnel, exempt: true, to: wan0, destination: 10.99.0.0/16, for: {peer: 10.99.0.0/16}}\n"
    + "- {to: wan0, source-becomes: interface}",
)
def exemption_too_broad(design: Design) -> Iterator[Found]:
    """Find exemptions whose match takes more than what they are said to be for."""
    for device in design.devices:
        space = design.space(device)
        for one, rules in design.rules(device):
            if not isinstance(one, Exempt) or one.goal is None:
                continue
            services = one.goal.services if one.goal.services is not None else (None,)
            meant = [space.box(destination=one.goal.peer, service=each) for each in services]
            if one.goal.peer is not None:
                meant += [space.box(source=one.goal.peer, service=each) for each in services]
            for rule in rules:
                beyond = remainder([space.of_rule(rule)], meant)
                if beyond:
                    yield Found(
                        one.place, translation_subject(device, one),
                        f"it also exempts what it is not for, such as {space.example(beyond[0])}",
                        "Add the peer or the service that it is for to its match.",
                    )  # fmt: skip
                    break
