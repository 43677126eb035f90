"""Rulesets that are programs: chains with jumps, returns and sets of names, read as lists of rules.

What is made of a program is one list for each place where the system asks it, as an intent has them: the first rule
that matches decides. A step that jumps stands there as the steps of the other chain, each narrowed to what the jump
matches. Packets that return from a chain skip the rest of it: they are followed to their end first, so that whatever
comes behind it in the list is only asked about others.

What cannot be said in such lists is not guessed: the step is set aside with its reason, and from there on nothing is
claimed of what it could match. The first packet of a flow is looked at, as everywhere: one of a connection that is
known already is a reply. (ICMP errors that belong to nothing are `invalid` to the Linux kernel.)
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

from msgspec.structs import replace

from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.early_and_late import placed
from agile_lattice.dialects.passes.families import marked, united
from agile_lattice.dialects.passes.implied import note_answers, note_neighbours, note_replies, once
from agile_lattice.dialects.passes.matches import Match, match_of, narrowed, passage_of
from agile_lattice.dialects.passes.rulesets import Ruleset, chain_of
from agile_lattice.dialects.passes.walks import TooMuchError, Walk, at_last, states_of
from agile_lattice.dialects.program_facts import BaseChainFact
from agile_lattice.intent.permits import DISCOVERY, Passage
from agile_lattice.intent.stages import Rule

KINDS = ("base-chain", "policy", "step", "chain", "port-set", "address-set")
# ICMP that asks for nothing and belongs to nothing: all but requests, and but neighbour and router discovery.
STRAY = {
    4: Match(protocol="icmp", ports=((0, 7), (9, 12), (14, 14), (16, 16), (18, 255))),
    6: Match(protocol="icmp6", ports=((0, 127), (129, 129), (138, 138), (140, 142), (144, 150), (153, 255))),
}


def of_one_family(facts: Facts, family: int) -> Facts:
    """Return the facts of a program all of whose tables are for one family."""
    here = {kind: [replace(fact, family=family) for fact in facts.get(kind, [])] for kind in KINDS[:4]}
    here["base-chain"] = [replace(fact, alone=True) for fact in here["base-chain"]]
    return {**facts, **{kind: members for kind, members in here.items() if members}}


def flattened(facts: Facts) -> Facts:
    """Return facts with lists of rules in place of a program."""
    if not (facts.get("base-chain") or facts.get("step")):
        return facts
    program = Ruleset(facts)
    program.set_homeless_aside()
    found = {kind: members for kind, members in facts.items() if kind not in KINDS or kind == "address-set"}
    rules = [*_list_of(program, "arrival"), *_list_of(program, "departure")]
    placed(program, cast(list[Rule], rules))
    note_answers(program)
    lists = {"rule": rules, "permit": _list_of(program, "permit"), "access": _list_of(program, "access")}
    found |= {kind: [*found.get(kind, []), *members] for kind, members in lists.items()}
    return {
        **found,
        "aside": cast(list[Fact], [*program.aside.values()]),
        "absent": cast(list[Fact], [*once(program.absent)]),
    }


def _list_of(program: Ruleset, hook: str) -> list[Fact]:
    """Return the rules of one place where the program is asked, for both families."""
    bases = [each for each in program.bases if each.hook == hook]
    families = [family for family in (4, 6) if any(each.family in (0, family) for each in bases)]
    lists = {family: _of_family(program, hook, [each for each in bases if each.family in (0, family)], family)
             for family in families}  # fmt: skip
    if hook in ("arrival", "departure") or not families:
        return [rule for family in families for rule in lists[family]]
    if bases[0].alone:
        return lists[families[0]]
    # A family that no chain is asked about passes.
    return [*united([marked(rule, family) for family in families for rule in lists[family]])]


def _of_family(program: Ruleset, hook: str, bases: Sequence[BaseChainFact], family: int) -> list[Any]:
    """Return the rules of one place for packets of one family, without that they are for this family."""
    asked = sorted(bases, key=lambda each: each.rank)
    if hook in ("permit", "access"):
        # Only those that may drop something count, in any order: a packet has to pass all of them.
        return _filtered(program, hook, [each for each in asked if program.may_drop(chain_of(each))], family)
    for each in asked:
        if program.verdict(each) == "drop":
            program.put_aside(each, hook, "it drops what it does not rewrite")
    asked = [each for each in asked if program.steps[chain_of(each)]]
    if len({each.rank for each in asked}) < len(asked):
        for each in asked:
            program.put_aside(each, hook, "another chain has its priority, and which is asked first is not told")
        return []
    rules: list[Any] = []
    for base in asked:
        walk = _walked(program, (base,), family, len(asked) > 1)
        if walk is None:
            return []
        walk.settle()
        rules += walk.rules
    return rules


def _walked(program: Ruleset, bases: Sequence[BaseChainFact], family: int, several: bool = False) -> Walk | None:
    """Follow first packets through chains that the system asks; None if there are too many ways."""
    walk = Walk(program, bases, family, "new", Match(), several)
    try:
        walk.follow()
    except TooMuchError:
        for base in bases:
            program.put_aside(base, base.hook, "there are too many ways through its chains")
        return None
    return walk


def _filtered(program: Ruleset, hook: str, bases: Sequence[BaseChainFact], family: int) -> list[Passage]:
    """Return the rules of chains that let packets pass or drop them: a packet has to pass all."""
    walk = _walked(program, bases, family) if bases else None
    if walk is None:
        return []
    walk.settle()
    rules = walk.rules
    if program.verdict(bases[-1]) == "pass":
        rules.append(Passage(place=at_last(bases[-1])))
    if hook == "access":
        rules = [each for each in rules if each.verdict == "drop" or not _of_neighbours(each)]
    if not rules:
        rules.append(Passage("drop", place=at_last(bases[0])))
    for base in bases:
        note_replies(program, base, family)
    if hook == "access" and family == 6:
        note_neighbours(program, bases)
    return [*_strays(program, bases, family, rules), *rules]


def _of_neighbours(rule: Passage) -> bool:
    """Tell whether a rule is about neighbour discovery only, which an intent does not mention."""
    return narrowed(match_of(rule), match_of(DISCOVERY)) == match_of(rule)


def _strays(program: Ruleset, bases: Sequence[BaseChainFact], family: int, others: Sequence[Passage]) -> list[Passage]:
    """Return the rules for ICMP that belongs to nothing, if steps tell it apart and do something else with it."""
    states = {state for steps in program.steps.values() for each in steps for state in states_of(each) or ()}
    if not states & {"new", "invalid", "untracked"}:
        return []
    walk = Walk(program, bases, family, "invalid", STRAY[family])
    done = walk.follow()
    walk.settle()
    last = passage_of(program.verdict(bases[-1]), STRAY[family], "", at_last(bases[-1]))
    found = [*walk.rules, *([] if done else [last])]
    return [] if _told(found, family) == _told([*others, last], family) else found


def _told(rules: Sequence[Passage], family: int) -> list[tuple[str, Match]]:
    """Return what rules do with ICMP that belongs to nothing, up to the one that all of it comes to at the latest.

    What does the same right before that one says nothing more.
    """
    found: list[tuple[str, Match]] = []
    for each in rules:
        here = narrowed(match_of(each), STRAY[family])
        if here is not None:
            found.append((each.verdict, here))
        if here == STRAY[family]:
            break
    while len(found) > 1 and found[-2][0] == found[-1][0]:
        del found[-2]
    return found
