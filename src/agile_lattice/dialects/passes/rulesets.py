"""A ruleset that is a program: its chains, and what of it is not worked out."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Literal

from agile_lattice.dialects.facts import AddressSetFact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.program_facts import (
    AbsentFact,
    AsideFact,
    BaseChainFact,
    ChainFact,
    PolicyFact,
    PortSetFact,
    StepFact,
)
from agile_lattice.intent.addresses import BITS, AddressSet
from agile_lattice.packets.spans import Spans, minus

HOOKS = ("arrival", "departure", "permit", "access")
EVERY_PORT = ((0, 65535),)
EVERYBODY = {family: ((0, (1 << bits) - 1),) for family, bits in BITS.items()}
DEEPEST = 32  # chains that jump to one another
Chain = tuple[str, int, str]  # its table, the family of that, and its name; of a set as well


class Ruleset:
    """A ruleset.

    Args:
        facts: Its chains, steps and sets.

    Attributes:
        aside: What is not worked out, by where it stands and where it is asked.
        absent: Lists that do not let replies pass.
    """

    def __init__(self, facts: Facts) -> None:
        self.bases = [each for each in facts.get("base-chain", []) if isinstance(each, BaseChainFact)]
        self.steps: dict[Chain, list[StepFact]] = defaultdict(list)
        for each in facts.get("step", []):
            if isinstance(each, StepFact):
                self.steps[chain_of(each)].append(each)
        self.policies = {chain_of(each): each for each in facts.get("policy", []) if isinstance(each, PolicyFact)}
        self.chains = {chain_of(each) for each in facts.get("chain", []) if isinstance(each, ChainFact)}
        self._addresses: dict[Chain, dict[int, AddressSet]] = defaultdict(dict)
        self._ports = {(each.table, each.family, each.name): each.ports
                       for each in facts.get("port-set", []) if isinstance(each, PortSetFact)}  # fmt: skip
        for one in facts.get("address-set", []):
            if isinstance(one, AddressSetFact):
                self._addresses[one.table, one.family, one.name][one.addresses.family] = one.addresses
        self.aside: dict[tuple[str, int, str], AsideFact] = {}
        self.absent: list[AbsentFact] = []

    def set_homeless_aside(self) -> None:
        """Set steps aside that do something, in a chain of which nothing says when it is asked."""
        known = self.chains | {chain_of(each) for each in self.bases}
        for chain, steps in self.steps.items():
            for step in steps if chain not in known else ():
                for hook in HOOKS if step.verdict != "next" or step.unknown else ():
                    self.put_aside(step, hook, f"nothing says when its chain {step.chain!r} is asked", True)

    def verdict(self, base: BaseChainFact) -> Literal["pass", "drop"]:
        """Return what becomes of packets that no step decides about."""
        policy = self.policies.get(chain_of(base))
        return policy.verdict if policy is not None else "pass"

    def may_drop(self, chain: Chain) -> bool:
        """Tell whether anything may be dropped in a chain, or in one that it jumps to."""
        policy = self.policies.get(chain)
        return (policy is not None and policy.verdict == "drop") or any(
            each.verdict == "drop" or each.unknown or each.untracked for each in self.reached(chain)
        )

    def reached(self, chain: Chain) -> Iterator[StepFact]:
        """Yield the steps of a chain, and of all that it jumps to, each once."""
        left, seen = [chain], {chain}
        while left:
            for step in self.steps.get(left.pop(), ()):
                yield step
                if step.target and target_of(step) not in seen:
                    seen.add(target_of(step))
                    left.append(target_of(step))

    def addresses_of(self, step: StepFact, name: str) -> dict[int, AddressSet] | None:
        """Return the members of a set, by family, or all others if its name begins with `!`; None if unknown."""
        plain = name.removeprefix("!")
        found = self._addresses.get((step.table, step.family, plain), self._addresses.get(("", 0, plain)))
        if found is None and self._ports.get((step.table, step.family, plain)) == ():
            found = {family: AddressSet(family, ()) for family in EVERYBODY}  # an empty set is one of anything
        if found is None or plain == name:
            return found
        return {family: AddressSet(family, minus(EVERYBODY[family], one.spans)) for family, one in found.items()}

    def ports_of(self, step: StepFact, name: str) -> Spans | None:
        """Return the members of a set of ports, or all others if its name begins with `!`; None if unknown."""
        plain = name.removeprefix("!")
        found = self._ports.get((step.table, step.family, plain), self._ports.get(("", 0, plain)))
        return found if found is None or plain == name else minus(EVERY_PORT, found)

    def put_aside(self, what: BaseChainFact | StepFact, hook: str, reason: str, homeless: bool = False) -> None:
        """Set something aside of which it is not worked out what it does, maybe since its chain is not asked."""
        unread = homeless or (isinstance(what, StepFact) and bool(what.unknown or what.unread))
        self.aside[what.place.file, what.place.line, hook] = AsideFact(hook, reason, what.place, unread=unread)


def chain_of(fact: ChainFact | BaseChainFact | PolicyFact | StepFact) -> Chain:
    """Return the chain that a fact is about, or stands in."""
    return fact.table, fact.family, fact.chain


def target_of(step: StepFact) -> Chain:
    """Return the chain that a step jumps to."""
    return step.table, step.family, step.target
