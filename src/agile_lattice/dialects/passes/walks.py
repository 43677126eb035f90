"""The way of packets through the chains of a ruleset, as the list of rules that they come to."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.passes.matches import Match, Unclear, narrowed, passage_of
from agile_lattice.dialects.passes.rulesets import DEEPEST, Chain, Ruleset, chain_of, target_of
from agile_lattice.dialects.passes.tcp_flags import asked_of
from agile_lattice.dialects.program_facts import AsideFact, BaseChainFact, StepFact
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule

ANYONE = {family: AddressSet.of(Prefix(family, 0, 0)) for family in (4, 6)}
NOBODY = {family: AddressSet(family, ()) for family in (4, 6)}
IMAGE = "whether it applies depends on whether the destination of the packet was rewritten"
MOST_WORK = 60_000  # steps that are looked at for one list
KNOWN = ("established", "related")  # states that no first packet of a flow has
WITHOUT_EGRESS = ("access", "arrival")  # hooks at which it is not known where a packet leaves
STATES = frozenset({*KNOWN, "new", "invalid", "untracked"})


class TooMuchError(Exception):
    """There are too many ways through chains."""


class Walk:
    """The way of packets of one family and one state through chains, and the rules that it comes to.

    What passes in one chain that the system asks comes to the next one.

    Attributes:
        rules: What has been decided so far, in order.
    """

    def __init__(
        self, program: Ruleset, bases: Sequence[BaseChainFact], family: int, state: str, packets: Match,
        several: bool = False,
    ) -> None:  # fmt: skip
        self.program, self.bases, self.hook = program, bases, bases[0].hook
        self.asked = 0  # the number of the chain that is asked at the moment
        self.family, self.state, self.packets, self.several = family, state, packets, several
        self.work = 0
        self.rules: list[Any] = []
        self._unclear: list[tuple[int, StepFact, Unclear]] = []  # after how many rules, and why

    def follow(self) -> bool:
        """Follow all packets of this state through the chains that the system asks; tell whether all are decided."""
        return self._ask(0, self.packets)

    def _ask(self, number: int, packets: Match) -> bool:
        """Follow packets through a chain that the system asks, and those behind it; tell whether all are decided.

        Of one that is asked alone, the policy is left to others.
        """
        before, self.asked = self.asked, number
        decided = self._steps(chain_of(self.bases[number]), 0, packets, ())
        if not decided and len(self.bases) > 1:
            self.end(packets)
            decided = True
        self.asked = before
        return decided

    def _steps(self, chain: Chain, first: int, packets: Match, outer: tuple[tuple[Chain, int], ...]) -> bool:
        """Follow packets through the steps of a chain.

        Args:
            chain: The chain.
            first: The number of the first step.
            packets: Those that come there.
            outer: Where the chains go on that jumped here, the outermost first.

        Returns:
            Whether all of them are decided: else what comes to the end of the chain goes on in the one around it.
        """
        for number, step in enumerate(self.program.steps[chain][first:], first + 1):
            self.work += 1
            if self.work > MOST_WORK or len(outer) > DEEPEST:
                raise TooMuchError
            if step.verdict == "next" and not (step.unknown or step.untracked):
                continue
            try:
                here = self._here(step, packets)
                if here is None:
                    continue
                if step.verdict in ("jump", "goto"):
                    if target_of(step) not in self.program.chains:
                        raise Unclear(f"there is no chain {step.target!r} that could be read")
                    back = outer if step.verdict == "goto" else (*outer, (chain, number))
                    if self._steps(target_of(step), 0, here, back):
                        if here == packets:
                            return True
                    elif step.verdict == "goto":
                        if here == packets:
                            return False
                        self._go_on(here, outer)
                elif step.verdict == "return":
                    if here == packets:
                        return False
                    self._go_on(here, outer)
                else:
                    self.decide(self._led_to(step, outer), here)
                    if here == packets:
                        return True
            except Unclear as unclear:
                self._unclear.append((len(self.rules), step, unclear))
        return False

    def _led_to(self, step: StepFact, outer: tuple[tuple[Chain, int], ...]) -> StepFact:
        """Return a step with the lines whose jumps lead to it."""
        jumps = tuple(self.program.steps[chain][number - 1].place.line for chain, number in outer)
        return replace(step, place=replace(step.place, jumps=jumps)) if jumps else step

    def _here(self, step: StepFact, packets: Match) -> Match | None:
        """Return the packets that a step applies to; `None` if there are none.

        Raises:
            Unclear: If that is not told.
        """
        flags = asked_of(step, self.state not in KNOWN)
        if flags == "none" or not self.applies(step):
            return None
        mine = self.match(step)
        here = narrowed(packets, mine) if mine is not None else None
        if here is None:
            return None
        if step.untracked:
            raise Unclear("no connection is looked up for its packets")
        if step.beyond_lists:
            raise Unclear(f"it rewrites to {step.beyond_lists}")
        if step.unknown:
            raise Unclear(f"not recognised from {step.unknown.split()[0]!r} on")
        if step.unmodelled or flags == "some":
            more = step.unmodelled or "flags of TCP"
            raise Unclear(f"whether it applies depends on more than the header of a packet ({more})")
        if self.state not in (states_of(step) or STATES):
            raise Unclear(IMAGE)
        return here

    def _go_on(self, packets: Match, outer: tuple[tuple[Chain, int], ...]) -> None:
        """Follow some packets to their end, before the others go on in their chain: they skip the rest of it.

        So nothing has to be said of what they are not.
        """
        for depth in range(len(outer) - 1, -1, -1):
            if self._steps(*outer[depth], packets, outer[:depth]):
                return
        self.end(packets)

    def dropped(self) -> Place | None:
        """Return where packets may be dropped; `None` if nowhere."""
        places = [rule.place for rule in self.rules if rule.verdict == "drop"]
        places += [step.place for _, step, _ in self._unclear if step.verdict == "drop" or step.unknown or step.target]
        return next(iter(places), None)

    def certain(self, at_last: Sequence[Any] = ()) -> list[Any]:
        """Return the rules, and what happens behind them, before which nothing was unclear."""
        return [*self.rules, *at_last][: min((count for count, _, _ in self._unclear), default=None)]

    def settle(self) -> None:
        """Set aside what was not clear; tell whether the lines of the text part what comes before from what follows."""
        lines = [rule.place.line for rule in self.rules]
        most = [0, *accumulate(lines, max)]  # of those before a rule
        least = [*accumulate(reversed(lines), min)][::-1]
        for count, step, unclear in self._unclear:
            line = step.place.line
            ordered = most[count] < line and (count == len(lines) or least[count] > line)
            known = self.program.aside.get((step.place.file, line, self.hook))
            ordered = ordered and (known is None or known.ordered)
            self.program.aside[step.place.file, line, self.hook] = AsideFact(
                self.hook, str(unclear), step.place, ordered, bool(step.unknown or step.unread)
            )

    def applies(self, step: StepFact) -> bool:
        """Tell whether a step can apply to packets of this state."""
        if step.family not in (0, self.family) or step.only not in (None, self.family):
            return False
        asked = states_of(step)
        # What is known of a connection, besides its state, counts for its first packet and for replies.
        return asked is None or self.state in asked or (self.state in ("new", *KNOWN) and not asked <= STATES)

    def match(self, step: StepFact) -> Match | None:
        """Return what a step matches, with its sets in place of their names; `None` if that is nothing.

        Raises:
            Unclear: If it names a set that could not be read.
        """
        unread, ends = [], []
        for value in (step.source, step.destination):
            if isinstance(value, str):
                named = self.program.addresses_of(step, value)
                if named is None:
                    unread.append(value.removeprefix("!"))
                value = None if named is None else named.get(self.family, NOBODY[self.family])
            ends.append(value)
        if any(each is not None and (each.family != self.family or not each.spans) for each in ends):
            return None
        if step.protocol == ("icmp6" if self.family == 4 else "icmp"):
            return None
        early = self.hook in WITHOUT_EGRESS and step.leaves is not None
        if early and not any(each.startswith("!") for each in step.leaves or ()):
            return None  # packets have no egress interface there, so it matches none
        ports = step.ports
        if isinstance(ports, str):
            known = self.program.ports_of(step, ports)
            if known is None:
                unread.append(ports.removeprefix("!"))
            ports = known
        protocol = step.protocol if step.mask is None and step.flags is None else "tcp"
        match = Match(step.arrives, None if early else step.leaves, ends[0], ends[1], protocol, ports, step.own)
        if early:
            raise Unclear("it asks for the egress interface where packets have none")
        if unread:
            raise Unclear(f"there is no set {unread[0]!r} of which all members could be read")
        return match

    def decide(self, step: StepFact, match: Match) -> None:
        """Add the rule of a step for packets that come to it."""
        if self.hook in ("permit", "access"):
            if step.verdict not in ("pass", "drop"):
                raise Unclear(f"{step.verdict} in a chain that lets packets pass")
            if match.own is not None:
                raise Unclear("which addresses are the device's own is not asked in a list of permits")
            if step.verdict == "pass" and self.asked + 1 < len(self.bases):
                self._ask(self.asked + 1, match)
            else:
                self.rules.append(passage_of(step.verdict, match, step.name, step.place))
            return
        if step.verdict == "drop":
            raise Unclear("it drops packets in a chain that rewrites them")
        verdict = "keep" if step.verdict == "pass" else step.verdict
        if step.to is not None and step.to.family != self.family:
            raise Unclear("it rewrites to an address of the other family")
        source = match.source or (
            ANYONE[6] if self.family == 6 and match.destination is None and step.to is None else None
        )
        self.rules.append(
            Rule(
                self.hook, verdict, match.arrives, match.leaves, source, match.destination, match.protocol,  # type: ignore[arg-type]
                match.ports, step.to, step.to_port, name=step.name, own=match.own, place=step.place,  # type: ignore[arg-type]
            )
        )  # fmt: skip

    def end(self, packets: Match) -> None:
        """Add what becomes of packets that no step decides about."""
        base = self.bases[self.asked]
        if self.hook in ("permit", "access"):
            self.decide(StepFact(base.chain, self.program.verdict(base), place=at_last(base)), packets)
        elif self.several:
            raise Unclear("another chain is asked after it")
        else:
            self.decide(StepFact(base.chain, "keep", place=at_last(base)), packets)


def at_last(base: BaseChainFact) -> Place:
    """Return where is written what becomes of packets that no step of a chain decides about."""
    return replace(base.place, last=True)


def states_of(step: StepFact) -> frozenset[str] | None:
    """Return the states of a connection that a step asks for, with all others in place of those that it excludes.

    Words that are no state ask what was done to the packet before, such as `dnat`. None if it asks for nothing.
    """
    if step.states is None:
        return None
    excluded = {each[1:] for each in step.states if each.startswith("!")}
    return STATES - excluded if excluded else frozenset(step.states)
