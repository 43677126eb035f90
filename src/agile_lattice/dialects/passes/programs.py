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
from agile_lattice.dialects.passes.families import marked, united
from agile_lattice.dialects.passes.matches import Match, narrowed
from agile_lattice.dialects.passes.rulesets import HOOKS, Ruleset, chain_of
from agile_lattice.dialects.passes.walks import TooMuchError, Walk, match_of, passage_of
from agile_lattice.dialects.program_facts import AbsentFact, BaseChainFact
from agile_lattice.intent.permits import Passage

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
    found = {kind: members for kind, members in facts.items() if kind not in KINDS}
    for hook in HOOKS:
        kind = hook if hook in ("permit", "access") else "rule"
        found[kind] = [*found.get(kind, []), *_list_of(program, hook)]
    return {**found, "aside": cast(list[Fact], [*program.aside.values()]), "absent": cast(list[Fact], program.absent)}


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
    filters = hook in ("permit", "access")
    asked = sorted(bases, key=lambda each: int(each.priority))
    if filters:
        dropping = [each for each in asked if program.may_drop(chain_of(each))]
        if len(dropping) > 1:
            for each in dropping:
                program.put_aside(each, hook, "another chain is asked as well, and a packet has to pass both")
            return []
        asked = dropping
    else:
        for each in asked:
            if program.verdict(each) == "drop":
                program.put_aside(each, hook, "it drops what it does not rewrite")
        asked = [each for each in asked if program.steps[chain_of(each)]]
        if len({each.priority for each in asked}) < len(asked):
            for each in asked:
                program.put_aside(each, hook, "another chain has its priority, and which is asked first is not told")
            return []
    rules: list[Any] = []
    for base in asked:
        walk = Walk(program, base, family, "new", Match(), len(asked) > 1)
        try:
            walk.follow(chain_of(base))
        except TooMuchError:
            program.put_aside(base, hook, "there are too many ways through its chains")
            return []
        walk.settle()
        rules += walk.rules
        if filters:
            if program.verdict(base) == "pass":
                rules.append(Passage(place=base.place))
            while hook == "access" and rules and match_of(rules[-1]) == Match() and rules[-1].verdict == "drop":
                del rules[-1]  # what no rule matches is dropped anyhow, and an intent has no word for it
            if not rules:
                rules.append(Passage("drop", place=base.place))
            _note_replies(program, base, walk, rules)
            rules = [*_strays(program, base, hook, family, rules), *rules]
    return rules


def _strays(program: Ruleset, base: BaseChainFact, hook: str, family: int, others: Sequence[Passage]) -> list[Passage]:
    """Return the rules for ICMP that belongs to nothing, if steps tell it apart and do something else with it."""
    states = {state for steps in program.steps.values() for each in steps for state in each.state or ()}
    if not states & {"new", "invalid", "untracked"}:
        return []
    walk = Walk(program, base, family, "invalid", STRAY[family])
    done = walk.follow(chain_of(base))
    walk.settle()
    end = program.verdict(base)
    passing = [each for each in others if each.verdict == "pass" and narrowed(match_of(each), STRAY[family])]
    if end == "drop" and not passing and all(each.verdict == "drop" for each in walk.rules):
        return []
    return [*walk.rules, *([] if done else [passage_of(end, STRAY[family], "", base.place)])]


def _note_replies(program: Ruleset, base: BaseChainFact, walk: Walk, rules: Sequence[Any]) -> None:
    """Note that a list does not let replies pass, if it drops anything that could be one."""
    if walk.reply_drop is not None:
        program.absent.append(AbsentFact(base.hook, walk.reply_drop, walk.replies))
        return
    if all(rule.verdict == "pass" for rule in rules) and program.verdict(base) == "pass":
        return
    drops = [rule.place for rule in rules if rule.verdict == "drop" and rule.protocol not in ("icmp", "icmp6")]
    if walk.replies is None:
        program.absent.append(AbsentFact(base.hook, base.place, None))
    elif walk.drops_before:
        program.absent.append(AbsentFact(base.hook, drops[0] if drops else base.place, walk.replies))
