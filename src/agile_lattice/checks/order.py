"""Checks of the order of translations: what earlier rules leave of later ones. Exact."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.behaviour.shadowing import Taken
from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.publishing import published_already
from agile_lattice.checks.rulebook import Found, check
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Exempt, Translation
from agile_lattice.packets.boxes import Box, count, overlap, remainder

_SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
translations:
"""


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
        for one, results in design.taken(device):
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
        for one, results in design.taken(device):
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
        if common[2:] == box[2:] and taken.rule.verdict != "keep":
            continue  # an exception, at least on the sides that the later rule is for
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
