"""What an intent means to pass without saying so, looked for in a program: replies, and neighbour discovery."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.dialects.passes.families import marked
from agile_lattice.dialects.passes.matches import Match
from agile_lattice.dialects.passes.rulesets import Ruleset
from agile_lattice.dialects.passes.walks import KNOWN, TooMuchError, Walk, at_last
from agile_lattice.dialects.program_facts import AbsentFact, BaseChainFact
from agile_lattice.intent.permits import Passage

# Solicitations and advertisements (RFC 4861). To the Linux kernel they belong to no connection.
NEIGHBOURS = Match(protocol="icmp6", ports=((135, 136),))


def note_replies(program: Ruleset, base: BaseChainFact, family: int) -> None:
    """Note that a chain does not let replies pass.

    Args:
        program: The ruleset.
        base: A chain that the system asks.
        family: The family of packets.
    """
    program.absent += _dropped(program, (base,), family, KNOWN, Match(), "replies")


def note_neighbours(program: Ruleset, bases: Sequence[BaseChainFact]) -> None:
    """Note that what a device is asked by its neighbours in IPv6 may not come to it.

    Args:
        program: The ruleset.
        bases: The chains that are asked about packets for the device itself, and may drop any.
    """
    program.absent += _dropped(program, bases, 6, ("untracked",), NEIGHBOURS, "neighbours")


def note_answers(program: Ruleset) -> None:
    """Note that the replies of the device itself may be dropped as they leave it."""
    for base in program.bases:
        if base.hook == "output":
            for family in (4, 6) if base.family == 0 else (base.family,):
                access = (replace(base, hook="access"),)
                program.absent += _dropped(program, access, family, KNOWN[:1], Match(), "answers")


def once(absent: Iterable[AbsentFact]) -> Iterator[AbsentFact]:
    """Yield what may be dropped once for each place, with what is certain of both families and all states."""
    found: dict[tuple[str, str, str, int], AbsentFact] = {}
    for each in absent:
        key = each.hook, each.lets, each.place.file, each.place.line
        known = found.get(key)
        found[key] = (
            each
            if known is None
            else replace(
                known, rules=(*known.rules, *each.rules), family=known.family if known.family == each.family else None
            )
        )
    yield from found.values()


def _dropped(
    program: Ruleset, bases: Sequence[BaseChainFact], family: int, states: Sequence[str], packets: Match, lets: str
) -> Iterator[AbsentFact]:
    """Yield where packets of some states may be dropped on their way through chains, for the first such state."""
    for state in states:
        walk = Walk(program, bases, family, state, packets)
        try:
            done = walk.follow()
        except TooMuchError:
            yield AbsentFact(bases[0].hook, bases[0].place, lets, family=family)
            return
        behind = [] if done else [Passage(program.verdict(bases[-1]), place=at_last(bases[-1]))]
        dropped = walk.dropped() or next((each.place for each in behind if each.verdict == "drop"), None)
        if dropped is not None:
            certain = walk.certain(behind) if state == states[0] else []
            yield AbsentFact(bases[0].hook, dropped, lets, tuple(marked(each, family) for each in certain), family)
            return
