"""Chains for all packets that come in or go out, counted as chains for the packets that an intent tells apart.

A packet has to pass every chain on its way. So a chain for all that comes in is one more chain for what is forwarded,
and one more for what is for the device itself; a chain for all that goes out is one more for what is forwarded, and for
what the device sends. That holds where it sees the same headers as those chains do. Where it may see others, since
addresses are rewritten in between, or where something in it was not understood, nothing is claimed of what it may drop.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.dialects.passes.matches import Match, Unclear, image_of, match_of, narrowed
from agile_lattice.dialects.passes.rulesets import HOOKS, Ruleset, chain_of
from agile_lattice.dialects.passes.walks import STATES, Walk, states_of
from agile_lattice.dialects.program_facts import BaseChainFact, StepFact
from agile_lattice.intent.stages import Rule, family_of

ASKED_ABOUT = {"incoming": ("permit", "access"), "outgoing": ("permit", "output")}
# When the Linux kernel does what changes how packets look, or what is known of them.
TRACKED, DESTINATIONS, SOURCES = -200, -100, 100


def placed(program: Ruleset, rules: Sequence[Rule]) -> None:
    """Count chains that may drop what comes in or goes out as chains that an intent knows, or set them aside.

    Args:
        program: The ruleset, whose chains are changed.
        rules: Its lists of rules that rewrite packets.
    """
    found = []
    for base in program.bases:
        hooks = ASKED_ABOUT.get(base.hook)
        if hooks is None:
            found.append(base)
        elif program.may_drop(chain_of(base)):
            apart = [*_sees_others(program, base, rules)]
            for what, reason in apart:
                for hook in HOOKS if base.hook == "incoming" else ("permit", "departure"):
                    program.put_aside(what, hook, reason)
            if not apart:
                found += [replace(base, hook=hook) for hook in hooks]
    program.bases = found


def _sees_others(
    program: Ruleset, base: BaseChainFact, rules: Sequence[Rule]
) -> Iterator[tuple[BaseChainFact | StepFact, str]]:
    """Yield the steps of a chain that may see other headers than the chains for forwarded packets do, and why."""
    if base.rank in (TRACKED, DESTINATIONS, SOURCES):
        yield base, "another part of the system has its priority, and which is asked first is not told"
    incoming = base.hook == "incoming"
    before, after = incoming and base.rank < DESTINATIONS, not incoming and base.rank > SOURCES
    known = not any(each.hook in ("arrival", "departure") for each in program.aside.values())
    walks = [Walk(program, (base,), family, "new", Match()) for family in (4, 6) if base.family in (0, family)]
    for step in program.reached(chain_of(base)):
        states = states_of(step) or frozenset()
        if step.unknown:
            yield step, f"not recognised from {step.unknown.split()[0]!r} on, where packets come in or go out"
        elif step.untracked:
            yield step, "no connection is looked up for its packets, so that they are not new where rules ask for that"
        elif step.verdict not in ("pass", "drop", "jump", "goto", "return", "next"):
            yield step, "it rewrites packets in a chain that lets them pass"
        elif incoming and base.rank < TRACKED and states:
            yield step, "it asks for the state of a connection before that is known"
        elif before and not states <= STATES:
            yield step, "it asks whether the destination was rewritten before that is done"
        elif before and not (known and all(_of_others(walk, step, rules) for walk in walks)):
            yield step, "it asks for the destination before that is rewritten"
        elif after and step.source is not None and not (known and all(each.stage == "arrival" for each in rules)):
            yield step, "it asks for the source after that is rewritten"
        elif step.leaves is not None if incoming else step.arrives is not None:
            yield step, "it asks for an interface that may not be known there"


def _of_others(walk: Walk, step: StepFact, rules: Sequence[Rule]) -> bool:
    """Tell whether a step matches no packet whose destination is rewritten, neither before nor after that."""
    if step.destination is None and step.ports is None and step.own is None:
        return True
    try:
        mine = walk.match(step)
        return mine is None or all(
            narrowed(mine, each) is None
            for rule in rules if rule.stage == "arrival" and family_of(rule) == walk.family and rule.verdict != "keep"
            for each in (replace(match_of(rule), own=rule.own), image_of(rule))
        )  # fmt: skip
    except Unclear:
        return False
