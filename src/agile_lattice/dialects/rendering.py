"""From facts to text. What cannot be said is refused, with the field, its place and the reason."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Set
from itertools import groupby
from typing import Any

import msgspec

from agile_lattice.dialects.dialect import INSIDE, Block, Dialect, Form, Phrase
from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.fact_types import FACTS, FactType
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.grammar import holes_of
from agile_lattice.dialects.kinds import Unspellable
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.planning import Plan, agrees, planned, present_of
from agile_lattice.dialects.shapes import UnspellableField, whole_fields
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.dialects.surfaces.keeping import nth, smuggler
from agile_lattice.dialects.together import joined
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.stages import Rule

_Members = tuple[Fact, list[tuple[FactType, Fact]]]  # the joined fact, and each part of it
Causes = dict[int, Place]  # by the identity of the statement


def render_facts(dialect: Dialect, facts: Facts, form: Form | None = None) -> list[tuple[str, str]]:
    """Write facts: the name and the text of each file.

    Args:
        dialect: The dialect.
        facts: By kind; kinds that the form does not carry are not looked at.
        form: One of its forms; the first if it is not given.

    Raises:
        Refusals: With everything that the dialect cannot express.
    """
    form = form or dialect.forms[0]
    statements = written(dialect, facts, form)
    files = [(name or form.file, text) for name, text in form.surface.print_files(statements)]
    smuggled = smuggler(form.surface, statements, files)
    if smuggled is not None:
        causes: Causes = {}
        again = written(dialect, facts, form, causes)
        raise Refusals([_smuggles(dialect, smuggled, each, causes) for each in [nth(again, smuggled[0])]])
    return files


def _smuggles(dialect: Dialect, smuggled: tuple[int, str], statement: Statement, causes: Causes) -> Refusal:
    reason = (
        f"it would be written as {statement.text!r}, and read as {smuggled[1]!r}: "
        "a value holds a character that ends a statement there, opens a block or begins a remark"
    )
    return Refusal(dialect.name, "a statement", "", causes.get(id(statement), NOWHERE), reason)


def written(dialect: Dialect, facts: Facts, form: Form, causes: Causes | None = None) -> list[Statement]:
    """Write facts as statements.

    Args:
        dialect: The dialect.
        facts: By kind.
        form: One of the dialect's forms.
        causes: Gets for every statement that says something of a fact where that stands.

    Raises:
        Refusals: With everything that the dialect cannot express.
    """
    for each in dialect.passes:
        facts = each.down(facts, dialect.name)
    writer = _Writer(dialect, facts, _homes(form.block), causes)
    statements = [*(Statement(text, 0) for text in form.before), *writer.block(form.block, _Owner(), {})]
    writer.refuse_unwritten(form.carries)
    if writer.refusals:
        raise Refusals(writer.refusals)
    return statements


class _Owner(msgspec.Struct, frozen=True):
    """The fact that a block is of; everything is empty if it is of none.

    Attributes:
        fact: The fact.
        traits: Those of its fields.
        present: The traits by the names of the fields, of those that say something.
    """

    fact: Any = None
    traits: tuple[Any, ...] = ()
    present: Mapping[str, Any] = {}


def _homes(block: Block) -> Counter[str]:
    """Count the blocks that have a place for each kind of fact."""
    written = [phrase for phrase in block.phrases if phrase.written]
    homes = Counter({name for phrase in written for name in phrase.kinds})
    # What is said together with something else may be said alone as well.
    homes += Counter({name for phrase in written if phrase.makes and phrase.makes.parts for name in phrase.kinds})
    for phrase in written:
        if phrase.block is not None:
            homes += _homes(phrase.block)
    return homes


def _sayable(kind: FactType, phrases: Iterable[Phrase]) -> frozenset[str]:
    """Return the fields of the leading one of several facts of which statements can tell that make it alone."""
    alone = [each for each in phrases if kind.parts and each.makes == kind.parts[0] and each.block is None]
    return frozenset(
        name for each in alone for name in (*each.constants, *(hole.field for hole in holes_of(each.pattern.elements)))
    )


def _agree(one: Fact, other: Fact, fields: Iterable[str]) -> bool:
    return all(getattr(one, name) == getattr(other, name) for name in fields)


def place_of(fact: Any) -> Place:
    """Return where a fact stands."""
    place: Place = getattr(fact, "place", NOWHERE)
    return place


class _Writer:
    def __init__(self, dialect: Dialect, facts: Facts, homes: Counter[str], causes: Causes | None) -> None:
        self.dialect = dialect
        self.causes = causes
        self.facts = facts
        self.homes = homes
        self.written: dict[str, int] = defaultdict(int)
        self.said: set[int] = set()
        self.told: dict[int, frozenset[str]] = {}  # by the fact what is said of it together with others
        self.members: dict[int, _Members] = {}  # by the fact that they were joined to
        self.waiting: dict[
            int, tuple[int, Refusal]
        ] = {}  # of facts that no statement said yet, and how much was missing
        self.refusals: list[Refusal] = []
        self._plans: dict[tuple[int, ...], dict[tuple[Any, frozenset[str]], Plan]] = defaultdict(dict)
        self._indexes: dict[tuple[str, str], dict[Any, list[Fact]]] = {}

    def block(self, block: Block, owner: _Owner, fields: dict[str, Any]) -> list[Statement]:
        """Write the statements of a block.

        Args:
            block: Its phrases.
            owner: The fact that the block is of.
            fields: What facts inside take over by name from the blocks around.
        """
        statements: list[Statement] = []
        said: set[str] = set()
        written = [phrase for phrase in block.phrases if phrase.written]
        for makes, group in groupby(written, key=lambda phrase: phrase.makes):
            phrases = list(group)
            if makes is not None:
                facts = self.facts_here(makes, phrases, fields)
                statements += self.write_facts(makes, phrases, facts, fields, _sayable(makes, written))
                continue
            for phrase in phrases:
                statements += self.part(phrase, owner, fields, said)
        return statements

    def part(self, phrase: Phrase, owner: _Owner, fields: dict[str, Any], said: set[str]) -> Iterator[Statement]:
        """Write a statement that adds to the enclosing fact, one that has to be there, or a block that holds others.

        Of several statements for the same fields the first that fits is written; `said` are those of the block so far.
        """
        if phrase.needs and phrase.needs != (INSIDE,) and not any(self.facts.get(kind) for kind in phrase.needs):
            return
        if phrase.always:
            owner = _Owner()
        shape = phrase.shapes.of(owner.traits)
        if shape is None or not agrees(phrase, owner.present):
            return
        says = shape.names.union(phrase.constants)
        if owner.traits and phrase.block is None and says <= said:
            return
        said |= says
        text = shape.fill(owner.fact)
        if phrase.block is None:
            if owner.traits or phrase.always:
                yield self.caused(Statement(text, 0), owner.fact, says)
            return
        inside = self.block(phrase.block, owner, fields)
        if not inside and (phrase.needs == (INSIDE,) or (owner.traits and not shape.names)):
            return
        # Elsewhere a block that only holds others is written even if it is empty: that, too, is worth saying.
        heads = [condition.of(owner.traits) for _, condition in phrase.conditions]
        conditions = [
            self.caused(Statement(head.fill(owner.fact), 0), owner.fact, head.names) for head in heads if head
        ]
        yield Statement(text, 0, [*conditions, *inside])

    def caused(self, statement: Statement, fact: Any, names: Iterable[str]) -> Statement:
        """Note where the fact stands that a statement says something of, or better its first field that has a place."""
        if self.causes is not None and fact is not None:
            whole = place_of(fact)
            fields = sorted(whole_fields(names) or names)
            own = (whole.at(*self.keys(fact, field.partition(".")[0])) for field in fields)
            self.causes[id(statement)] = next((place for place in own if place is not whole), whole)
        return statement

    def keys(self, fact: Any, field: str) -> tuple[str, ...]:
        """Return by which keys an intent has a field."""
        kind = next((kind for kind in FACTS.values() if isinstance(fact, kind.record)), None)
        return kind.keys.get(field, (field,)) if kind is not None else (field,)

    def facts_here(self, kind: FactType, phrases: list[Phrase], fields: dict[str, Any]) -> Collection[Fact]:
        """Return the facts of a kind that belong into this block: those that agree with what is around it."""
        if kind.parts:
            return self.facts_here(kind.parts[0], phrases, fields)
        shared = [name for name in kind.fields if name in fields]
        if shared:
            return self.index(kind.name, shared[0]).get(fields[shared[0]], ())
        constant = next(iter(phrases[0].constants), None)
        if constant and all(constant in phrase.constants for phrase in phrases):
            wanted = dict.fromkeys(phrase.constants[constant] for phrase in phrases)
            if len(wanted) == 1:
                return self.index(kind.name, constant).get(phrases[0].constants[constant], ())
        return self.facts.get(kind.name, ())

    def index(self, kind: str, field: str) -> dict[Any, list[Fact]]:
        """Return the facts of a kind by the value of one field, in their order."""
        if (kind, field) not in self._indexes:
            index: dict[Any, list[Fact]] = defaultdict(list)
            for fact in self.facts.get(kind, ()):
                index[getattr(fact, field)].append(fact)
            self._indexes[kind, field] = index
        return self._indexes[kind, field]

    def write_facts(
        self, kind: FactType, phrases: list[Phrase], facts: Collection[Fact], around: dict[str, Any], beside: Set[str]
    ) -> list[Statement]:
        """Write facts of one kind, each by the first phrase that can say all of it, or by several that say some.

        Args:
            kind: The kind.
            phrases: Those that make such facts.
            facts: The facts.
            around: What the blocks around say.
            beside: What statements can say that make the leading one of several facts alone.
        """
        several = self.homes[kind.name] > 1 or bool(kind.parts)
        plans, traits_of = self._plans[tuple(map(id, phrases))], kind.traits
        statements: list[Statement] = []
        if several:
            facts = [fact for fact in facts if id(fact) not in self.said]
            self.said.update(map(id, facts))
        usable, special = phrases, any(each.valued for each in phrases)
        for fact in self.joined(kind, facts) if kind.parts else facts:
            if special:
                usable = [each for each in phrases if all(getattr(fact, name) == value for name, value in each.valued)]
                plans = self._plans[tuple(map(id, usable))]
            before = self.told.get(id(fact), frozenset()) if several else frozenset()
            traits = traits_of(fact)
            plan = plans.get((traits, before))
            if plan is not None and plan.only is not None:  # most facts are one statement each: it must be quick
                try:
                    statements.append(Statement(plan.only(fact), 0))
                    continue
                except Unspellable:
                    pass  # it is said below which field it is
            if plan is None:
                plan = planned(kind, usable, traits, around, before, beside)
                if (
                    len(plan.shapes) == 1
                    and plan.block is None
                    and not (plan.heads or plan.first or self.causes is not None)
                ):
                    plan = msgspec.structs.replace(plan, only=plan.shapes[0].quick)
                plans[traits, before] = plan
            if plan.unsaid:
                reason = self.dialect.cannot.get(f"{kind.name}.{plan.unsaid}", plan.reason)
                refusal = self.refusal(kind, fact, plan.unsaid, reason)
                if several:
                    self.unsay(kind, fact, len(plan.untold), refusal)  # another block may have a place for it
                else:
                    self.refusals.append(refusal)
                continue
            if plan.first is not None:
                usable = phrases = [each for each in phrases if each is not plan.first]
                plans = self._plans[tuple(map(id, phrases))]
            if plan.untold:
                self.tell_more(kind, fact, plan.untold)
            try:
                statements += [Statement(shape.fill(fact), 0) for shape in plan.shapes]
                if self.causes is not None:
                    self.causes.update((id(each), place_of(fact)) for each in statements[-len(plan.shapes) :])
                if plan.heads or plan.block is not None:
                    statements[-1].children = self.children(kind, fact, plan, traits, around)
            except UnspellableField as error:
                self.refusals.append(self.refusal(kind, fact, error.field, error.reason))
        if not several:
            self.written[kind.name] += len(facts)
        return statements

    def joined(self, kind: FactType, leads: Iterable[Fact]) -> Iterator[Fact]:
        """Yield facts that are said together: with each leading one the first of each other kind that belongs to it."""
        for lead in leads:
            members: list[Fact | None] = [lead]
            for part in kind.parts[1:]:
                shared = [name for name in part.fields if name in kind.parts[0].fields]
                alike = self.index(part.name, shared[0]).get(getattr(lead, shared[0]), ())
                left = (each for each in alike if id(each) not in self.said)
                members.append(next((each for each in left if _agree(lead, each, shared)), None))
            fact: Fact = joined(kind, members)
            there = [(part, each) for part, each in zip(kind.parts, members, strict=True) if each is not None]
            self.members[id(fact)] = fact, there
            self.said.update(id(each) for _, each in there)
            yield fact

    def unsay(self, kind: FactType, fact: Fact, missing: int, refusal: Refusal) -> None:
        """Take back that a fact is written, with all that was joined to it; say why if nothing came nearer to it."""
        for part, each in self.members.get(id(fact), (fact, [(kind, fact)]))[1]:
            if part.section is not None and missing <= self.waiting.get(id(each), (missing,))[0]:
                self.waiting[id(each)] = missing, refusal
            self.said.discard(id(each))

    def tell_more(self, kind: FactType, fact: Fact, untold: frozenset[str]) -> None:
        """Leave the rest of what there is to say of the leading one of facts that were joined to other statements."""
        lead = self.members[id(fact)][1][0][1]
        present = present_of(kind.parts[0], kind.parts[0].traits(lead))
        self.told[id(lead)] = frozenset(present) - untold
        name = next(each for each in kind.fields if each in untold)
        reason = self.dialect.cannot.get(f"{kind.parts[0].name}.{name}", "there is no statement for it")
        self.waiting[id(lead)] = len(untold), self.refusal(kind.parts[0], lead, name, reason)
        self.said.discard(id(lead))

    def children(
        self, kind: FactType, fact: Fact, plan: Plan, traits: tuple[Any, ...], around: dict[str, Any]
    ) -> list[Statement]:
        """Write what stands inside the statement of a fact."""
        heads = [self.caused(Statement(head.fill(fact), 0), fact, head.names) for head in plan.heads]
        if plan.block is None:
            return heads
        fields = kind.fields if not kind.key else (kind.key,) if kind.key in kind.fields else ()
        inherited = {name: getattr(fact, name) for name in fields}
        return heads + self.block(plan.block, _Owner(fact, traits, present_of(kind, traits)), {**around, **inherited})

    def refusal(self, kind: FactType, fact: Fact, field: str, reason: str) -> Refusal:
        """Return the refusal of a field of a fact."""
        if isinstance(fact, Rule) and fact.verdict == "rewrite" and fact.to is not None and len(fact.to.spans) > 1:
            field, reason = "to", f"{fact.to} is more than one range: reserve addresses at one end of the pool"
        keys = kind.keys.get(field, (field,))
        place = place_of(fact).at(*keys)
        return Refusal(self.dialect.name, kind.describe(fact), ".".join(keys), place, reason)

    def refuse_unwritten(self, sections: Iterable[Section]) -> None:
        """Refuse facts that no block had a place for, unless it is because the block itself was refused."""
        self.refusals += dict.fromkeys(refusal for fact, (_, refusal) in self.waiting.items() if fact not in self.said)
        refused = bool(self.refusals)
        for name, kind in FACTS.items():
            if kind.section is None or kind.section not in sections or (refused and self.homes[name]):
                continue
            members = self.facts.get(name, [])
            if self.homes[name] > 1:
                left = [fact for fact in members if id(fact) not in self.said]
            else:
                left = members[self.written[name] :]
            usual = (
                "no block of this dialect has a place for it" if self.homes[name] else "there is no statement for it"
            )
            reason = self.dialect.cannot.get(name, usual)
            self.refusals += [self.refusal(kind, fact, "", reason) for fact in left]
