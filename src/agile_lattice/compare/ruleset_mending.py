"""A ruleset that somebody else wrote, changed to do what the intent says: rule by rule, and no other line is touched.

A rule of the intent comes in before the first line that treats one of its packets otherwise. A line goes if it does
more than the intent wants; what it did of that, the rules of the intent do in its place. Each change is made in the
captured text and read again before it counts: the rule must have the same effect then, and no other packet may be
treated otherwise than before.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress

from agile_lattice.compare.by_effect import SUBJECTS
from agile_lattice.compare.counterparts import HOOKS, Beyond, Counterpart, Counterparts
from agile_lattice.compare.differences import Comparison
from agile_lattice.compare.ruleset_trial import (
    ProgramText,
    Puttings,
    RulesetChange,
    RulesetTrial,
    Wanted,
    to_close,
    together,
)
from agile_lattice.compare.withholding import Held
from agile_lattice.dialects.changes.inserting import ChainName, Chains, Putting
from agile_lattice.dialects.changes.outline import Node, outline
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.lowering import facts_of
from agile_lattice.dialects.program_facts import BaseChainFact
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.rendering import render_facts
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule

NO_CHAIN = "nothing in this ruleset is asked where the rule would have to stand: set up a chain for it by hand"
NO_ADDRESS = (
    "in a chain for both address families a rule that rewrites has to name an address: "
    "give the translation a `source`, or an address in place of `interface`"
)
STRAYS = "it is otherwise only for sources that do not belong behind their ingress interface, and is left as it is"
NO_NUMBER = "to take a line away takes its number, which `{}` prints"
ALSO_MEANT = "it also does what the intent wants of it: narrow it by hand"
NOT_CLOSED = "put there, it would not treat all its packets as the intent says, or others would change"
NO_RULE = "what passes there is decided by no rule of its own but by a policy or a map: change that by hand"
NEEDED = "{} may send packets elsewhere that need it, and nobody can tell which: see to that line first"
HANGS = "whether it does more than is meant depends on {}: see to that line by hand"
GUARDED = "it lets management in: take it away by hand, if another way in is left"


class _UnsayableError(Exception):
    """A rule cannot be said where it would have to stand, and why."""


def ruleset_changes(
    intent: Device,
    dialects: Sequence[Dialect],
    rulesets: Sequence[ProgramText],
    texts: Mapping[str, str],
    comparison: Comparison,
) -> tuple[list[RulesetChange], list[Held]]:
    """Find what makes rulesets do what an intent says.

    Args:
        intent: The device as it should be.
        dialects: Those that it speaks.
        rulesets: The texts that are programs.
        texts: All captured texts, by name.
        comparison: The device as they say it is, compared with the intent.

    Returns:
        The changes, and what is not changed with the reason.
    """
    rules = comparison.rules
    if rules is None or rules.undecided:
        why = "; ".join(rules.undecided) if rules is not None else "its rules were not read"
        return [], [Held("rules", f"not decided: {why}", firm=True)]
    trial = RulesetTrial(intent, dialects, rulesets, texts, rules)
    planner = _Planner(trial, rules, comparison.leftovers)
    planner.bring_in(rules.rules)
    planner.take_away(rules.beyond)
    return trial.changes(), trial.held


class _Planner:
    """Finds changes that close what is otherwise.

    Args:
        trial: Keeps those that do.
        rules: The rules of the device by what they do.
        leftovers: What was not understood of it.
    """

    def __init__(self, trial: RulesetTrial, rules: Counterparts, leftovers: Sequence[Leftover]) -> None:
        self.trial, self.chains = trial, trial.chains
        self.meant, self.besides, self.beyond, self.leftovers = rules.rules, rules.besides, rules.beyond, leftovers
        self.brought: set[tuple[str, object]] = set()  # rules of the intent that came in: the stage, and where they are

    def bring_in(self, rules: Iterable[Counterpart]) -> None:
        """Put rules of the intent into the chains that treat some of their packets otherwise."""
        wanted = []
        for rule in rules:
            subject = f"{SUBJECTS[rule.stage]} {rule.name}".rstrip()
            if not all(each.stray for each in to_close(rule)):
                found = self._brought_in(rule)
                if isinstance(found, str):
                    self.trial.withhold(subject, found)
                else:
                    wanted.append(Wanted(subject, found, NOT_CLOSED, rule))
            elif rule.otherwise:
                self.trial.withhold(subject, STRAYS)
        kept = (each.rule for each in self.trial.keep(wanted))
        self.brought = {(each.stage, each.place.spot) for each in kept if each is not None}

    def _brought_in(self, rule: Counterpart) -> list[Puttings] | str:
        """Return the ways of putting a rule of the intent in, or why there is none."""
        if rule.unless:
            return rule.unless
        # Right before what treats its packets otherwise; where they leave the chain before that, at its beginning.
        try:
            # Not at the beginning where lines may apply or not: it would keep packets from them.
            tries = [self._places_for(rule, first) for first in (False, True) if not (first and self._hangs)]
        except _UnsayableError as error:
            return str(error)
        if not any(tries[0].values()):
            return NO_CHAIN
        contradicted = self._contradicted(rule)
        return [*(together((found, contradicted)) for found in tries if contradicted), *tries]

    def _contradicted(self, rule: Counterpart) -> dict[str, list[Putting]]:
        """Return the taking away of lines that treat packets of a rule otherwise: they may be about nothing else."""
        found: dict[str, list[Putting]] = {}
        for each in to_close(rule):
            for file, (_, chains) in self.chains.items():
                where = None if each.stray or rule.stage == "access" else chains.holding(each.place)
                if where is not None and self._has_number(file, *where) and not self._is_meant(each.place):
                    found.setdefault(file, []).append(Putting(*where))
        return found

    def _is_meant(self, place: Place) -> bool:
        """Tell whether a line does something that the intent wants, with packets of its rules or with others."""
        lines = [*self.besides, *(line for each in self.meant for line in each.same)]
        return any(place.is_line_of(line) for line in lines)

    def _places_for(self, rule: Counterpart, first: bool) -> dict[str, list[Putting]]:
        found: dict[str, list[Putting]] = {}
        for file, (ruleset, chains) in self.chains.items():
            for base in chains.bases:
                if base.hook == HOOKS[rule.stage]:
                    found.setdefault(file, []).extend(self._before_others(ruleset, chains, base, rule, first))
        return found

    def _before_others(
        self, ruleset: ProgramText, chains: Chains, base: BaseChainFact, rule: Counterpart, first: bool
    ) -> Iterator[Putting]:
        chain: ChainName = base.table, base.family, base.chain
        family = ruleset.dialect.semantics.family or base.family
        count = len(chains.rules(chain))
        ends = (each.place for each in to_close(rule) if not each.stray)
        places = [each for each in ends if each.file == ruleset.file or not each.line]
        indexes = [chains.index_of(chain, each) for each in places]
        known = [each for each in indexes if each is not None]
        of_policy = any(
            (each.file, each.line) == (base.place.file, base.place.line) or not each.line for each in places
        )
        if not known and not of_policy:
            return
        at = chains.behind_replies(chain) if first else min(known, default=count)
        for text in self._written(ruleset, rule, family):
            yield Putting(chain, at, text)

    def _written(self, ruleset: ProgramText, rule: Counterpart, family: int) -> Iterator[str]:
        """Yield a rule of the intent as the dialect writes it, without the chain that it would stand in there."""
        form = ruleset.dialect.forms[0]
        for kind in ("rule", "permit", "access"):
            for fact in facts_of(self.trial.intent)[kind]:
                if not _is_of(fact, kind, rule) or (family and family not in _families(fact)):
                    continue
                if (
                    isinstance(fact, Rule)
                    and not family
                    and fact.to is not None
                    and _families(fact, "source", "destination") == {4, 6}
                ):
                    raise _UnsayableError(NO_ADDRESS)
                try:
                    texts = render_facts(ruleset.dialect, {kind: [fact]}, form)
                except Refusals as refused:
                    raise _UnsayableError(refused.refusals[0].reason) from None
                begins = ruleset.form.change.own.partition(" ")[0]
                for node in _all(outline(ruleset.dialect, form, texts)):
                    said = node.statement.text
                    if node.kind is not None and node.kind.name == kind and node.fact and said.startswith(begins):
                        yield said.partition(" ")[2].partition(" ")[2] if begins else said

    def take_away(self, several: Iterable[Beyond]) -> None:
        """Take lines away that only the device has."""
        wanted: dict[str, Wanted] = {}
        for one in several:
            subject = f"{SUBJECTS[one.stage]} {one.packets.place}"
            if subject in wanted:
                wanted[subject].goes += 1
            elif not any(each.subject == subject for each in self.trial.held):
                found = self._taken_away(one)
                if isinstance(found, str):
                    self.trial.withhold(subject, found)
                else:
                    why = ALSO_MEANT if self._is_meant(one.packets.place) else NOT_CLOSED
                    wanted[subject] = Wanted(subject, [found], why, goes=1)
        self.trial.keep(list(wanted.values()))

    def _taken_away(self, one: Beyond) -> Puttings | str:
        """Return how a line goes that only the device has, or why it stays."""
        place = one.packets.place
        if one.packets.stray:
            return STRAYS
        if one.packets.conditional:
            return HANGS.format(", and on ".join(one.packets.depends))
        home = next(
            ((file, where) for file, (_, chains) in self.chains.items() if (where := chains.holding(place))), None
        )
        if home is None:
            return NO_RULE
        file, (chain, at) = home
        if one.stage == "access":
            return GUARDED
        translating = self._translating() if one.stage == "permits" else None
        if translating is not None:
            return NEEDED.format(translating)
        if not self._has_number(file, chain, at):
            return NO_NUMBER.format(self.chains[file][0].form.change.numbered)
        return {file: [*self._narrower(file, chain, at, place), Putting(chain, at)]}

    @property
    def _hangs(self) -> bool:
        """Whether something depends on what nobody knows: a line that may apply or not."""
        return any(each.packets.conditional for each in self.trial.now.beyond) or any(
            each.conditional for rule in self.trial.now.rules for each in rule.maybe
        )

    def _translating(self) -> Place | None:
        """Return a line that was not understood and may send packets elsewhere, which a permit may be meant for."""
        left = [each.place for each in self.leftovers
                if "translations" in each.sections and each.stage in (None, "arrival")]  # fmt: skip
        maybe = [each for rule in self.meant if rule.stage == "arrival" for each in rule.maybe if each.conditional]
        maybe += [each.packets for each in self.beyond if each.stage == "arrival" and each.packets.conditional]
        return next(iter((*left, *(each.place for each in maybe))), None)

    def _narrower(self, file: str, chain: ChainName, at: int, place: Place) -> Iterator[Putting]:
        """Yield what comes in place of a line: the rules of the intent that it does, and that are not there yet."""
        ruleset, _ = self.chains[file]
        for rule in self.meant:
            if (rule.stage, rule.place.spot) not in self.brought and any(place.is_line_of(line) for line in rule.same):
                with suppress(_UnsayableError):  # the trial finds that it is missing
                    for text in self._written(ruleset, rule, ruleset.dialect.semantics.family or chain[1]):
                        yield Putting(chain, at, text)

    def _has_number(self, file: str, chain: ChainName, at: int) -> bool:
        ruleset, chains = self.chains[file]
        try:
            chains.commands(ruleset.form, [Putting(chain, at)], self.trial.texts)
        except KeyError:
            return False
        return True


def _is_of(fact: Fact, kind: str, rule: Counterpart) -> bool:
    if isinstance(fact, Rule):
        return kind == "rule" and fact.stage == rule.stage and fact.place.same_as(rule.place)
    return isinstance(fact, Passage) and HOOKS[rule.stage] == kind and fact.place.same_as(rule.place)


def _families(fact: Fact, *fields: str) -> set[int]:
    """Return the families of the addresses that a rule names in some fields, or any; both if it names none."""
    named = (getattr(fact, field, None) for field in fields or ("source", "destination", "to"))
    return {each.family for each in named if isinstance(each, AddressSet)} or {4, 6}


def _all(nodes: Iterable[Node]) -> Iterator[Node]:
    for node in nodes:
        yield node
        yield from _all(node.children or ())
