"""The way of packets through the chains of a ruleset, as the list of rules that they come to."""

from __future__ import annotations

from typing import Any

from agile_lattice.dialects.passes.families import marked
from agile_lattice.dialects.passes.matches import Match, Unclear, narrowed
from agile_lattice.dialects.passes.rulesets import DEEPEST, Chain, Ruleset, target_of
from agile_lattice.dialects.program_facts import AsideFact, BaseChainFact, StepFact
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule

ANYONE = {family: AddressSet.of(Prefix(family, 0, 0)) for family in (4, 6)}
MOST_WORK = 200_000  # steps that are looked at for one list
KNOWN = frozenset({"established", "related"})  # states that no first packet of a flow has


class TooMuchError(Exception):
    """There are too many ways through chains."""


class Walk:
    """The way of packets of one family and one state through a chain, and the rules that it comes to.

    Attributes:
        rules: What has been decided so far, in order.
        replies: Where replies pass.
        drops_before: Whether something is dropped before.
    """

    def __init__(
        self, program: Ruleset, base: BaseChainFact, family: int, state: str, packets: Match, several: bool = False
    ) -> None:
        self.program, self.base, self.hook = program, base, base.hook
        self.family, self.state, self.packets, self.several = family, state, packets, several
        self.work = 0
        self.rules: list[Any] = []
        self.replies: Place | None = None
        self.drops_before = False
        self.reply_drop: Place | None = None  # where replies may be dropped before that
        self._known: set[str] = set()  # states of which everything passes
        self._unclear: list[tuple[int, StepFact, Unclear]] = []  # after how many rules, and why

    def follow(self, chain: Chain) -> bool:
        """Follow all packets of this state through a chain that the system asks; tell whether all are decided there."""
        return self._steps(chain, 0, self.packets, ())

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
            if step.verdict == "next" and not step.unknown:
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
                    self.decide(step, here)
                    if here == packets:
                        return True
            except Unclear as unclear:
                self._unclear.append((len(self.rules), step, unclear))
        return False

    def _here(self, step: StepFact, packets: Match) -> Match | None:
        """Return the packets that a step applies to; `None` if there are none.

        Raises:
            Unclear: If that is not told.
        """
        if not self.applies(step, packets):
            return None
        mine = self.match(step)
        here = narrowed(packets, mine) if mine is not None else None
        if here is not None and step.unknown:
            raise Unclear(f"not recognised from {step.unknown.split()[0]!r} on", here)
        if here is not None and step.unmodelled:
            raise Unclear(f"whether it applies depends on more than the header of a packet ({step.unmodelled})", here)
        return here

    def _go_on(self, packets: Match, outer: tuple[tuple[Chain, int], ...]) -> None:
        """Follow some packets to their end, before the others go on in their chain: they skip the rest of it.

        So nothing has to be said of what they are not.
        """
        for depth in range(len(outer) - 1, -1, -1):
            if self._steps(*outer[depth], packets, outer[:depth]):
                return
        self.end(packets)

    def settle(self) -> None:
        """Set aside what was not clear; tell whether the lines of the text part what comes before from what follows."""
        for count, step, unclear in self._unclear:
            line = step.place.line
            ordered = all(rule.place.line < line for rule in self.rules[:count]) and all(
                rule.place.line > line for rule in self.rules[count:]
            )
            known = self.program.aside.get((step.place.file, line, self.hook))
            ordered = ordered and (known is None or known.ordered)
            bounds = known.bounds if known is not None else ()
            if unclear.bound is not None and (known is None or bounds):
                bounds = (*bounds, marked(passage_of("pass", unclear.bound, "", step.place), self.family))
            else:
                bounds = ()
            self.program.aside[step.place.file, line, self.hook] = AsideFact(
                self.hook, str(unclear), step.place, ordered, bounds
            )

    def applies(self, step: StepFact, packets: Match) -> bool:
        """Tell whether a step can apply to first packets; note where replies pass."""
        if step.family not in (0, self.family) or step.only not in (None, self.family):
            return False
        if step.state is None or self.state in step.state:
            return True
        if self.replies is None and KNOWN & {*step.state}:
            if step.unknown:  # it may drop replies, which are not followed
                raise Unclear(f"not recognised from {step.unknown.split()[0]!r} on")
            if step.verdict == "drop" or (step.target and self.program.may_drop(target_of(step))):
                self.reply_drop = self.reply_drop or step.place
        if step.verdict == "pass" and packets == self.match(step) == Match() and not (step.unmodelled or step.unknown):
            self._known |= {*step.state}
            if self.replies is None and self._known >= KNOWN:
                self.replies = step.place
                self.drops_before = any(rule.verdict == "drop" for rule in self.rules)
        return False

    def match(self, step: StepFact) -> Match | None:
        """Return what a step matches, with its sets in place of their names; `None` if that is nothing."""
        ends = []
        for value in (step.source, step.destination):
            if isinstance(value, str):
                named = self.program.addresses.get(value)
                if named is None:
                    raise Unclear(f"there is no set {value!r} that could be read")
                value = named.get(self.family)
                if value is None:
                    return None
            ends.append(value)
        if any(each is not None and each.family != self.family for each in ends):
            return None
        if step.protocol == ("icmp6" if self.family == 4 else "icmp"):
            return None
        ports = step.ports
        if isinstance(ports, str):
            if ports not in self.program.ports:
                raise Unclear(f"there is no set {ports!r} that could be read")
            ports = self.program.ports[ports]
        return Match(step.arrives, step.leaves, ends[0], ends[1], step.protocol, ports, step.own)

    def decide(self, step: StepFact, match: Match) -> None:
        """Add the rule of a step for packets that come to it."""
        if self.hook in ("permit", "access"):
            if step.verdict not in ("pass", "drop"):
                raise Unclear(f"{step.verdict} in a chain that lets packets pass")
            if match.own is not None:
                raise Unclear("which addresses are the device's own is not asked in a list of permits")
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
        if self.hook in ("permit", "access"):
            self.rules.append(passage_of(self.program.verdict(self.base), packets, "", self.base.place))
        elif self.several:
            raise Unclear("another chain is asked after it")
        else:
            self.decide(StepFact(self.base.chain, "keep", place=self.base.place), packets)


def passage_of(verdict: str, match: Match, name: str, place: Place) -> Passage:
    """Return the rule of what passes for a match."""
    return Passage(
        verdict, match.arrives, match.leaves, match.source, match.destination, match.protocol, match.ports,  # type: ignore[arg-type]
        name=name, place=place,
    )  # fmt: skip


def match_of(rule: Passage) -> Match:
    """Return what such a rule matches."""
    return Match(rule.arrives, rule.leaves, rule.source, rule.destination, rule.protocol, rule.ports)
