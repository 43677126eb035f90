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

from collections import defaultdict
from collections.abc import Sequence
from typing import Any, cast

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.facts import AddressSetFact, Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.families import marked, united
from agile_lattice.dialects.passes.matches import Match, Unclear, narrowed
from agile_lattice.dialects.program_facts import BaseChainFact, ChainFact, PolicyFact, PortSetFact, StepFact
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule

KINDS = ("base-chain", "policy", "step", "chain", "port-set", "address-set")
HOOKS = ("arrival", "departure", "permit", "access")
ANYONE = {family: AddressSet.of(Prefix(family, 0, 0)) for family in (4, 6)}
MOST_WORK = 200_000  # steps that are looked at for one list
DEEPEST = 32  # chains that jump to one another
KNOWN = frozenset({"established", "related"})  # states that no first packet of a flow has
# ICMP that asks for nothing and belongs to nothing: all but requests, and but neighbour and router discovery.
STRAY = {
    4: Match(protocol="icmp", ports=((0, 7), (9, 12), (14, 14), (16, 16), (18, 255))),
    6: Match(protocol="icmp6", ports=((0, 127), (129, 129), (138, 138), (140, 142), (144, 150), (153, 255))),
}
Chain = tuple[str, int, str]  # its table, the family of that, and its name


class TooMuchError(Exception):
    """There are too many ways through chains."""


class AsideFact(msgspec.Struct, frozen=True):
    """A step, or a whole chain, of which it is not worked out what it does.

    Attributes:
        hook: Where it is asked.
        reason: Why not.
        ordered: Whether all that is decided before it stands before it in the text, and all else behind it.
        bounds: What packets it could be about at most; nothing if that is not known.
    """

    hook: str
    reason: str
    place: Place
    ordered: bool = False
    bounds: tuple[Passage, ...] = ()


class AbsentFact(msgspec.Struct, frozen=True):
    """That a list does not let replies pass, or only behind rules that may drop them.

    Attributes:
        place: Where the list begins.
        rest: Where they pass at last; `None` if they never do.
    """

    hook: str
    place: Place
    rest: Place | None


def of_one_family(facts: Facts, family: int) -> Facts:
    """Return the facts of a program all of whose tables are for one family."""
    here = {kind: [replace(fact, family=family) for fact in facts.get(kind, [])] for kind in KINDS[:4]}
    here["base-chain"] = [replace(fact, alone=True) for fact in here["base-chain"]]
    return {**facts, **{kind: members for kind, members in here.items() if members}}


def flattened(facts: Facts) -> Facts:
    """Return facts with lists of rules in place of a program."""
    if not (facts.get("base-chain") or facts.get("step")):
        return facts
    program = _Program(facts)
    program.set_homeless_aside()
    found = {kind: members for kind, members in facts.items() if kind not in KINDS}
    for hook in HOOKS:
        kind = hook if hook in ("permit", "access") else "rule"
        found[kind] = [*found.get(kind, []), *program.list_of(hook)]
    return {**found, "aside": cast(list[Fact], [*program.aside.values()]), "absent": cast(list[Fact], program.absent)}


class _Program:
    """A ruleset.

    Attributes:
        aside: What is not worked out, by where it stands and where it is asked.
        absent: Lists that do not let replies pass.
    """

    def __init__(self, facts: Facts) -> None:
        self.bases = [each for each in facts.get("base-chain", []) if isinstance(each, BaseChainFact)]
        self.steps: dict[Chain, list[StepFact]] = defaultdict(list)
        for each in facts.get("step", []):
            if isinstance(each, StepFact):
                self.steps[_chain(each)].append(each)
        self.policies = {_chain(each): each for each in facts.get("policy", []) if isinstance(each, PolicyFact)}
        self.chains = {_chain(each) for each in facts.get("chain", []) if isinstance(each, ChainFact)}
        self.addresses: dict[str, dict[int, AddressSet]] = defaultdict(dict)
        self.ports = {each.name: each.ports for each in facts.get("port-set", []) if isinstance(each, PortSetFact)}
        for one in facts.get("address-set", []):
            if isinstance(one, AddressSetFact):
                self.addresses[one.name][one.addresses.family] = one.addresses
        self.aside: dict[tuple[str, int, str], AsideFact] = {}
        self.absent: list[AbsentFact] = []

    def set_homeless_aside(self) -> None:
        """Set steps aside that stand in a chain of which nothing says when it is asked."""
        known = self.chains | {_chain(each) for each in self.bases}
        for chain, steps in self.steps.items():
            for step in steps if chain not in known else ():
                for hook in HOOKS:
                    self.put_aside(step, hook, f"nothing says when its chain {step.chain!r} is asked")

    def list_of(self, hook: str) -> list[Fact]:
        """Return the rules of one place where the program is asked, for both families."""
        bases = [each for each in self.bases if each.hook == hook]
        families = [family for family in (4, 6) if any(each.family in (0, family) for each in bases)]
        lists = {family: self.of_family(hook, [each for each in bases if each.family in (0, family)], family)
                 for family in families}  # fmt: skip
        if hook in ("arrival", "departure") or not families:
            return [rule for family in families for rule in lists[family]]
        if bases[0].alone:
            return lists[families[0]]
        # A family that no chain is asked about passes.
        return [*united([marked(rule, family) for family in families for rule in lists[family]])]

    def of_family(self, hook: str, bases: Sequence[BaseChainFact], family: int) -> list[Any]:
        """Return the rules of one place for packets of one family, without that they are for this family."""
        filters = hook in ("permit", "access")
        asked = sorted(bases, key=lambda each: int(each.priority))
        if filters:
            dropping = [each for each in asked if self.may_drop(_chain(each))]
            if len(dropping) > 1:
                for each in dropping:
                    self.put_aside(each, hook, "another chain is asked as well, and a packet has to pass both")
                return []
            asked = dropping
        else:
            for each in asked:
                if self.verdict(each) == "drop":
                    self.put_aside(each, hook, "it drops what it does not rewrite")
            asked = [each for each in asked if self.steps[_chain(each)]]
            if len({each.priority for each in asked}) < len(asked):
                for each in asked:
                    self.put_aside(each, hook, "another chain has its priority, and which is asked first is not told")
                return []
        rules: list[Any] = []
        for base in asked:
            walk = _Walk(self, base, family, "new", Match(), len(asked) > 1)
            try:
                walk.follow(_chain(base))
            except TooMuchError:
                self.put_aside(base, hook, "there are too many ways through its chains")
                return []
            walk.settle()
            rules += walk.rules
            if filters:
                if self.verdict(base) == "pass":
                    rules.append(Passage(place=base.place))
                while hook == "access" and rules and _match(rules[-1]) == Match() and rules[-1].verdict == "drop":
                    del rules[-1]  # what no rule matches is dropped anyhow, and an intent has no word for it
                if not rules:
                    rules.append(Passage("drop", place=base.place))
                self.note_replies(base, walk, rules)
                rules = [*self.strays(base, hook, family, rules), *rules]
        return rules

    def strays(self, base: BaseChainFact, hook: str, family: int, others: Sequence[Passage]) -> list[Passage]:
        """Return the rules for ICMP that belongs to nothing, if steps tell it apart and do something else with it."""
        states = {state for steps in self.steps.values() for each in steps for state in each.state or ()}
        if not states & {"new", "invalid", "untracked"}:
            return []
        walk = _Walk(self, base, family, "invalid", STRAY[family])
        done = walk.follow(_chain(base))
        walk.settle()
        end = self.verdict(base)
        passing = [each for each in others if each.verdict == "pass" and narrowed(_match(each), STRAY[family])]
        if end == "drop" and not passing and all(each.verdict == "drop" for each in walk.rules):
            return []
        return [*walk.rules, *([] if done else [_passage(end, STRAY[family], "", base.place)])]

    def verdict(self, base: BaseChainFact) -> str:
        """Return what becomes of packets that no step decides about."""
        policy = self.policies.get(_chain(base))
        return policy.verdict if policy is not None else "pass"

    def may_drop(self, chain: Chain, depth: int = 0) -> bool:
        """Tell whether anything is dropped in a chain, or in one that it jumps to."""
        policy = self.policies.get(chain)
        return (policy is not None and policy.verdict == "drop") or any(
            each.verdict == "drop" or (each.target and depth < DEEPEST and self.may_drop(_target(each), depth + 1))
            for each in self.steps[chain]
        )

    def note_replies(self, base: BaseChainFact, walk: _Walk, rules: Sequence[Any]) -> None:
        """Note that a list does not let replies pass, if it drops anything that could be one."""
        if all(rule.verdict == "pass" for rule in rules) and self.verdict(base) == "pass":
            return
        drops = [rule.place for rule in rules if rule.verdict == "drop" and rule.protocol not in ("icmp", "icmp6")]
        if walk.replies is None:
            self.absent.append(AbsentFact(base.hook, base.place, None))
        elif walk.drops_before:
            self.absent.append(AbsentFact(base.hook, drops[0] if drops else base.place, walk.replies))

    def put_aside(self, what: BaseChainFact | StepFact, hook: str, reason: str) -> None:
        """Set something aside of which it is not worked out what it does."""
        self.aside[what.place.file, what.place.line, hook] = AsideFact(hook, reason, what.place)


class _Walk:
    """The way of packets of one family and one state through a chain, and the rules that it comes to.

    Attributes:
        rules: What has been decided so far, in order.
        replies: Where replies pass.
        drops_before: Whether something is dropped before.
    """

    def __init__(
        self, program: _Program, base: BaseChainFact, family: int, state: str, packets: Match, several: bool = False
    ) -> None:
        self.program, self.base, self.hook = program, base, base.hook
        self.family, self.state, self.packets, self.several = family, state, packets, several
        self.work = 0
        self.rules: list[Any] = []
        self.replies: Place | None = None
        self.drops_before = False
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
            try:
                here = self._here(step, packets)
                if here is None or step.verdict == "next":
                    continue
                if step.verdict in ("jump", "goto"):
                    if _target(step) not in self.program.chains:
                        raise Unclear(f"there is no chain {step.target!r} that could be read")
                    back = outer if step.verdict == "goto" else (*outer, (chain, number))
                    if self._steps(_target(step), 0, here, back):
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
        if step.unknown:
            raise Unclear("not recognised")
        mine = self.match(step)
        here = narrowed(packets, mine) if mine is not None else None
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
                bounds = (*bounds, marked(_passage("pass", unclear.bound, "", step.place), self.family))
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
            self.rules.append(_passage(step.verdict, match, step.name, step.place))
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
            self.rules.append(_passage(self.program.verdict(self.base), packets, "", self.base.place))
        elif self.several:
            raise Unclear("another chain is asked after it")
        else:
            self.decide(StepFact(self.base.chain, "keep", place=self.base.place), packets)


def _passage(verdict: str, match: Match, name: str, place: Place) -> Passage:
    return Passage(
        verdict, match.arrives, match.leaves, match.source, match.destination, match.protocol, match.ports,  # type: ignore[arg-type]
        name=name, place=place,
    )  # fmt: skip


def _match(rule: Passage) -> Match:
    return Match(rule.arrives, rule.leaves, rule.source, rule.destination, rule.protocol, rule.ports)


def _chain(fact: ChainFact | BaseChainFact | PolicyFact | StepFact) -> Chain:
    return fact.table, fact.family, fact.chain


def _target(step: StepFact) -> Chain:
    return step.table, step.family, step.target
