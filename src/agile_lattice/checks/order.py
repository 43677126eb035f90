"""Checks of the order of translations: what earlier rules leave of later ones. Exact."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

import msgspec

from agile_lattice.behaviour.shadowing import Member, Ordered
from agile_lattice.checks.design import Design, translation_subject
from agile_lattice.checks.publishing import published_already
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.stages import Rule
from agile_lattice.intent.translations import Exempt, Translation
from agile_lattice.packets.boxes import count, overlap, remainder
from agile_lattice.packets.shadows import Shadow

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
    for each in _translations(design):
        subject = translation_subject(each.within.device, each.one)
        if any(shadow.unknown for _, shadow in each.members):
            yield Found(
                each.one.place, subject, "whether a packet reaches it was not decided: too many earlier rules cross it",
                "Split the list, or make the rules before it plainer.", unknown=True,
            )  # fmt: skip
        elif all(shadow.takers for _, shadow in each.members):
            takers = {id(owner): owner for owner in each.takers if owner is not each.one}
            if not published_already(each.one, takers.values()):
                named = [_named(owner) for owner in takers.values()]
                takes = f"{_listed(named)} {'takes' if len(named) == 1 else 'take'} them all"
                example = each.within.space.example(each.first.box)
                yield Found(
                    each.one.place, subject, f"no packet reaches it: {takes}, such as {example}",
                    f"Put it before {named[0].partition(' (')[0]}, or remove it.",
                )  # fmt: skip


class _Judged(msgspec.Struct):
    """A translation with its rules of all stages, and what is left of each.

    Attributes:
        within, first: The list that its first rule stands in, and that rule.
        takers: What takes packets from it, where nothing is left.
    """

    within: Ordered
    first: Member
    one: Translation
    members: list[tuple[Rule, Shadow]]
    takers: list[Translation]


def _translations(design: Design) -> Iterable[_Judged]:
    found: dict[int, _Judged] = {}
    for each in design.lists:
        for member, shadow in zip(each.members, each.shadows, strict=True):
            if isinstance(member.owner, Translation) and isinstance(member.rule, Rule):
                if not all(member.box):
                    continue  # it names an interface that is not there
                judged = found.setdefault(id(member.owner), _Judged(each, member, member.owner, [], []))
                judged.members.append((member.rule, shadow))
                owners = (each.members[at].owner for at in shadow.takers)
                judged.takers += [owner for owner in owners if isinstance(owner, Translation)]
    return found.values()


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
    said: set[int] = set()
    for each in design.lists:
        by: dict[int, list[Member]] = defaultdict(list)
        for at, before in each.crossed or ():
            if _crosses(each.members[at], each.members[before]) and not each.shadows[at].takers:
                by[at].append(each.members[before])
        for at, takers in by.items():
            later, owner = each.members[at], takers[0].owner
            common = overlap(takers[0].box, later.box)
            if common is None or not isinstance(later.owner, Translation) or id(later.owner) in said:
                continue
            assert isinstance(owner, Translation)
            said.add(id(later.owner))
            share = 100 * count([common]) / count([later.box])
            portion = "less than 1 %" if share < 1 else f"{share:.0f} %"
            more = f"; {len(takers) - 1} more take others" if len(takers) > 1 else ""
            yield Found(
                later.owner.place, translation_subject(each.device, later.owner),
                f"{_named(owner)} takes {portion} of its packets, such as {each.space.example(common)}{more}",
                "Leave it if that is meant; otherwise narrow the earlier rule, or change the order.",
            )  # fmt: skip


def _crosses(later: Member, earlier: Member) -> bool:
    """Tell whether it matters that an earlier rule takes some packets of a later one."""
    if not isinstance(earlier.rule, Rule) or not isinstance(later.rule, Rule):
        return False
    same = _effect(earlier.rule) == _effect(later.rule)
    return not same and earlier.owner is not later.owner and not isinstance(earlier.owner, Exempt)


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
