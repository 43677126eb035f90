"""What an intent means to pass without saying so, looked for in a program: replies, and neighbour discovery."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.dialects.passes.matches import Match
from agile_lattice.dialects.passes.rulesets import Ruleset, chain_of
from agile_lattice.dialects.passes.walks import TooMuchError, Walk
from agile_lattice.dialects.program_facts import AbsentFact, BaseChainFact

# Solicitations and advertisements (RFC 4861). To the Linux kernel they belong to no connection.
NEIGHBOURS = Match(protocol="icmp6", ports=((135, 136),))


def note_replies(program: Ruleset, base: BaseChainFact, walk: Walk) -> None:
    """Note that a list does not let replies pass, if it drops anything that could be one.

    Args:
        program: The ruleset.
        base: A chain that the system asks.
        walk: The way of first packets through it.
    """
    if walk.reply_drop is not None:
        program.absent.append(AbsentFact(base.hook, walk.reply_drop, walk.replies))
        return
    if all(rule.verdict == "pass" for rule in walk.rules) and program.verdict(base) == "pass":
        return
    drops = [rule.place for rule in walk.rules if rule.verdict == "drop" and rule.protocol not in ("icmp", "icmp6")]
    if walk.replies is None:
        program.absent.append(AbsentFact(base.hook, base.place, None))
    elif walk.drops_before:
        program.absent.append(AbsentFact(base.hook, drops[0] if drops else base.place, walk.replies))


def note_neighbours(program: Ruleset, bases: Sequence[BaseChainFact]) -> None:
    """Note that what a device is asked by its neighbours in IPv6 may not come to it.

    Args:
        program: The ruleset.
        bases: The chains that are asked about packets for the device itself, and may drop any.
    """
    walk = Walk(program, bases, 6, "untracked", NEIGHBOURS)
    try:
        done = walk.follow()
    except TooMuchError:
        return  # which is told of these chains already
    dropped = walk.dropped()
    if dropped is None and not done and program.verdict(bases[-1]) == "drop":
        dropped = bases[-1].place
    if dropped is not None:
        program.absent.append(AbsentFact("access", dropped, None, "neighbours"))


def note_answers(program: Ruleset) -> None:
    """Note that the replies of the device itself may be dropped on their way out."""
    for base in program.bases:
        if base.hook == "output" and program.may_drop(chain_of(base)):
            found = next(_answers(program, replace(base, hook="access")), None)
            if found is not None:
                program.absent.append(found)


def _answers(program: Ruleset, base: BaseChainFact) -> Iterator[AbsentFact]:
    """Yield for each family where a chain may drop replies, and from where on they pass."""
    for family in (4, 6) if base.family == 0 else (base.family,):
        walk = Walk(program, (base,), family, "new", Match())
        try:
            walk.follow()
        except TooMuchError:
            yield AbsentFact("access", base.place, None, "answers")
            continue
        dropped = walk.reply_drop or walk.dropped(before=walk.replies)
        if dropped is None and walk.replies is None and program.verdict(base) == "drop":
            dropped = base.place
        if dropped is not None:
            yield AbsentFact("access", dropped, walk.replies, "answers")
