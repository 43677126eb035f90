"""What a dialect states of its device's ways, and how facts are made to mean the same there.

    [semantics]
    order = "kinds"            # list: the first that matches decides; kinds: one-to-one before all others;
                               # ranks: the lowest written rank, of equal ones the most specific
    lists = "one"              # whether destination NAT and source NAT stand in one list or in separate ones
    permits-see = "external"   # whether permits see a destination's real or its external address
    sides = "marks"            # rules: each names interfaces; marks: an interface is outer or inner; zones
    answers = "itself"         # who answers for external addresses: declared, addresses (extra ones), itself
    unpermitted = "drops"      # what a device without any permit does with what would need one
    implied = ["..."]          # what is on without being said, in words
    groups = "apart"           # whether addresses and services are declared apart and used by name
    addresses = "sorted"       # whether its program prints the addresses of an interface in an order of its own
    interfaces = "set"         # whether its program prints every interface, or those only of which something is set
    state = "said"             # whether an interface of which nothing is said is up, or has to be brought up
    forwards = "said"          # whether it forwards packets by itself, or has to be told; likewise to filter by source
    texts = "later-wins"       # of several texts the one whose name comes later decides; else they must not contradict
    family = 4                 # the one address family that its rules are for, if the other has a program of its own

From these follow passes between facts and model, each a pair: `down` before rendering, `up` after reading. What
would not mean the same is refused.
"""

from __future__ import annotations

from typing import Any, Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.facts import Fact, ProxyFact, StaticNatFact
from agile_lattice.dialects.passes import Facts, Pass
from agile_lattice.dialects.passes.external import EXTERNAL
from agile_lattice.dialects.passes.families import only
from agile_lattice.dialects.passes.groups import APART, INLINE
from agile_lattice.dialects.passes.named import PASSES
from agile_lattice.dialects.passes.sides import MARKS, ZONES
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.answering import FAMILIES
from agile_lattice.intent.joining import join
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.stages import Rule, overlap, split
from agile_lattice.intent.translations import Static
from agile_lattice.packets.spans import merged, minus, size

STEP = 10


class Semantics(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """What a dialect states of its device's ways; see the module."""

    order: Literal["list", "kinds", "ranks"] = "list"
    lists: Literal["separate", "one"] = "separate"
    permits_see: Literal["real", "external"] = "real"
    sides: Literal["rules", "marks", "zones"] = "rules"
    answers: Literal["declared", "addresses", "itself"] = "declared"
    unpermitted: Literal["passes", "drops"] = "passes"
    implied: tuple[str, ...] = ()
    groups: Literal["inline", "apart"] = "inline"
    addresses: Literal["kept", "sorted"] = "kept"
    interfaces: Literal["all", "set"] = "all"
    state: Literal["up", "said"] = "up"
    texts: Literal["agree", "later-wins"] = "agree"
    forwards: Literal["itself", "said"] = "itself"
    family: Literal[4, 6] | None = None


def passes_of(semantics: Semantics, named: tuple[str, ...]) -> tuple[Pass, ...]:
    """Return the passes of a dialect, in the order in which they are taken on the way down."""
    stated: list[Pass] = [] if semantics.family is None else [only(semantics.family)]
    if semantics.answers == "itself":
        stated.append(Pass(_itself_down, lambda facts: facts))
    elif semantics.answers == "addresses":
        stated.append(PASSES["answers-are-addresses"])
    if semantics.unpermitted == "drops":
        stated.append(Pass(_open_down, _open_up))
    if semantics.permits_see == "external":
        stated.append(EXTERNAL)
    if semantics.order == "kinds":
        stated.append(Pass(_kinds_down, _kinds_up))
    if semantics.order == "ranks":
        stated.append(Pass(_ranks_down, _ranks_up))
    if semantics.sides == "zones":
        stated.append(ZONES)
    if semantics.sides == "marks":
        stated.append(MARKS)
    stated.append(APART if semantics.groups == "apart" else INLINE)
    return (*stated, *(PASSES[name] for name in named))


def _rules(facts: Facts) -> list[Rule]:
    return [fact for fact in facts.get("rule", []) if isinstance(fact, Rule)]


def _refuse(refusals: list[Refusal]) -> None:
    if refusals:
        raise Refusals(refusals)


# Answers that the device gives by itself.


def _itself_down(facts: Facts, dialect: str) -> Facts:
    """Leave out what the device answers for anyhow: external addresses that its translations use."""
    known = [fact.to if fact.stage == "departure" else fact.destination for fact in _rules(facts)]
    used = {
        family: merged(span for each in known if each is not None and each.family == family for span in each.spans)
        for family in FAMILIES
    }
    reason = "it answers by itself for what its translations use, and for nothing else"
    _refuse(
        [
            Refusal(dialect, f"{fact.proxy} for {fact.address} on {fact.interface}", "answers", fact.place, reason)
            for fact in facts.get("proxy", [])
            if isinstance(fact, ProxyFact)
            and minus(((fact.address.first, fact.address.last),), used[fact.address.family])
        ]
    )
    return {**facts, "proxy": []}


# A device that drops whatever no permit lets pass needs one for everything, where the intent has none.


def _open_down(facts: Facts, dialect: str) -> Facts:
    return facts if facts.get("permit") else {**facts, "permit": [Passage()]}


def _open_up(facts: Facts) -> Facts:
    permits = facts.get("permit")
    if not permits:
        return {**facts, "permit": [Passage("drop")]}  # nothing passes, and in the model that has to be said
    return {**facts, "permit": []} if permits == [Passage()] else facts


# Order by kind: one-to-one translations before all others.


def _kinds_down(facts: Facts, dialect: str) -> Facts:
    translations, _ = join(_rules(facts))
    twins: list[Fact] = []
    others: list[Rule] = []
    refusals = []
    for one in translations:
        if not isinstance(one, Static) or one.direction != "both" or one.rewrites_dns:
            others += split([one])
            continue
        passed = next((rule for rule in others for half in split([one]) if overlap(rule, half)), None)
        if passed is not None:
            reason = (
                f"one-to-one translations come first there, and {passed.name or 'a rule'} before it takes some packets"
            )
            refusals.append(Refusal(dialect, f"translation {one.name}", "", one.place, reason))
        twins.append(StaticNatFact(one.external, one.internal, one.facing, one.name, None, one.place))
    _refuse(refusals)
    return {**facts, "static-nat": twins, "rule": list(others)}


def _kinds_up(facts: Facts) -> Facts:
    twins = [fact for fact in facts.get("static-nat", []) if isinstance(fact, StaticNatFact)]
    statics = [Static(each.external, each.internal, each.name, each.facing, place=each.place) for each in twins]
    return {**facts, "static-nat": [], "rule": [*split(statics), *facts.get("rule", [])]}


# Order by written ranks.


def _ranks_down(facts: Facts, dialect: str) -> Facts:
    ranked = {
        kind: [replace(fact, rank=STEP * (index + 1)) for index, fact in enumerate(facts.get(kind, []))]
        for kind in ("rule", "permit", "access")
    }
    return {**facts, **ranked}


def _ranks_up(facts: Facts) -> Facts:
    ordered: Facts = {}
    for kind in ("rule", "permit", "access"):
        members = [fact for fact in facts.get(kind, []) if isinstance(fact, Rule | Passage)]
        members.sort(key=by_rank)
        ordered[kind] = [replace(fact, rank=None) for fact in members]
    return {**facts, **ordered}


def by_rank(fact: Any) -> tuple[int, ...]:
    """Return when a rule or a permit is looked at: by its rank, and of equal ranks the most specific first."""
    whole = 1 << 128
    sets = (size(each.spans) if isinstance(each, AddressSet) else whole for each in (fact.destination, fact.source))
    return (fact.rank or 0, *sets, size(fact.ports) if fact.ports else 1 << 16, fact.protocol is None)
