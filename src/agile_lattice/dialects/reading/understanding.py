"""From statements to facts. Nothing is lost: a statement is understood, passed over, or left over."""

from __future__ import annotations

from collections import defaultdict

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.dialect import Block, Form, Phrase
from agile_lattice.dialects.fact_types import FACTS, FactType, combine
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.reading.deciding import ANYTHING, Could, could_be_about
from agile_lattice.dialects.reading.finding import Fields, Finder, Found, Lines
from agile_lattice.dialects.surfaces import ENTRY, Statement
from agile_lattice.dialects.together import parted
from agile_lattice.intent.model import SECTIONS, Section
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Stage

SECOND = "there is another one before it, and which of the two decides is not worked out"
NOT_UNDERSTOOD = "not recognised"
SUBJECT = "interface"  # what a block is about: other fields may be called alike and mean other things


class Leftover(msgspec.Struct, frozen=True):
    """A line that no phrase understood.

    Attributes:
        place: File and line.
        text: The statement.
        block: The statements that it stands in, outermost first.
        reason: Why it was left over.
        sections: What of the device it could be about.
        stage: The one list of translations that it could be about, if it could be about one only.
        ordered: Whether it stands in a list of rules, in which an earlier one decides before it.
    """

    place: Place
    text: str
    block: tuple[str, ...] = ()
    reason: str = NOT_UNDERSTOOD
    sections: tuple[Section, ...] = SECTIONS
    stage: Stage | None = None
    ordered: bool = False


class Understood(msgspec.Struct):
    """What became of one statement.

    Attributes:
        phrase: The phrase that it is.
        fields: What it says of a fact, in the blocks that it stands in as far as they count.
        fact: The fact that it is, if it is a whole one by itself.
        head: Whether it only met a condition of the statement around it.
    """

    phrase: Phrase
    fields: Fields
    fact: Fact | None = None
    head: bool = False


Trace = dict[int, Understood]  # by the identity of the statement


def count_of(statements: list[Statement]) -> int:
    """Count statements, with those inside."""
    return len(statements) + sum([count_of(each.children) for each in statements if each.children])


class _Scope(msgspec.Struct):
    """The block that is being read.

    Attributes:
        inherited: Fields of the blocks around, which facts made here take over by name.
        target: Fields of the fact that the block makes, to be added to; `None` if it makes none.
        places: Where those fields stand.
        path: The statements around, for leftovers.
    """

    inherited: Fields
    target: Fields | None
    places: Lines
    path: tuple[str, ...]


class Reader:
    """Makes facts of the statements of one text.

    Args:
        file: The name of the text.
        form: The form of a dialect that it is in.
        trace: Gets what became of every statement that was understood.
        carried: The sections that the dialect speaks of.
        in_order: Whether of the rules of a list the first that matches decides.

    Attributes:
        leftovers: What was not understood.
        entangled: Facts inside whose statements some of that stands.
        left: How many statements that are.
        sections: The sections that the text speaks of.
        unrecognised: By the identity of a leftover the statement, and the block of which it is no phrase.
        seen: Where statements stand of which there is one, or that let something pass, by the line of their phrase.
        given: What facts want of a text and it has, by the words of its form.
        wanting: The first that wants each.
    """

    def __init__(
        self,
        file: str,
        form: Form,
        trace: Trace | None,
        carried: tuple[Section, ...] = SECTIONS,
        in_order: bool = False,
    ) -> None:
        self.file = file
        self.finder = Finder(file)
        self.form = form
        self.carried, self.in_order = carried, in_order
        self.trace = trace
        self.leftovers: list[Leftover] = []
        self.entangled: list[Fact] = []
        self.unrecognised: dict[int, tuple[Leftover, Statement, Block]] = {}  # which keeps what has this identity
        self.left = 0
        self.sections: set[Section] = set(form.carries)
        self.seen: dict[int, Place] = {}
        self.given: set[str] = set()
        self.wanting: dict[str, Leftover] = {}
        self.before = frozenset(form.before)
        self.single: Facts = defaultdict(list)
        self.keyed: dict[tuple[str, str], tuple[Fields, Lines]] = {}

    def read(self, statements: list[Statement]) -> Facts:
        """Return the facts that the statements of a whole text make."""
        self.block(statements, self.form.block, _Scope({}, None, {}, ()))
        return self.finish()

    def block(self, statements: list[Statement], block: Block, scope: _Scope) -> None:
        """Read statements that stand side by side."""
        makers, here = [], set[int]()
        alone = scope.target is None and not scope.inherited and self.trace is None
        for statement in statements:
            if (
                self.trace is None
                and statement.children is None
                and (
                    self.adds(statement, block, scope)
                    if scope.target is not None
                    else alone and self.whole(statement, block, scope.path)
                )
            ):
                continue
            found = self.finder.find(statement, block)
            if found is None:
                if scope.path or statement.children is not None or statement.text not in self.before:
                    self.leave(statement, scope.path, could=self.could(statement, block, scope.path), among=block)
                continue
            phrase = found.phrase
            if (phrase.once and phrase.line in self.seen) or (phrase.first and phrase.line in here):
                self.leave(statement, scope.path, SECOND, self.could(statement, block, scope.path))
                continue
            here.add(phrase.line)
            if phrase.once or phrase.lets[1]:
                self.seen.setdefault(phrase.line, self.place(statement))
            if self.trace is not None:
                self.note(found)
            if phrase.gives:
                self.given.add(phrase.gives)
            self.want(phrase, statement, scope.path)
            if phrase.covers:
                self.sections.add(phrase.covers)
            if phrase.aside:
                # What is passed over may hold what is not, if it has phrases of its own inside.
                self.inside(found, {}, None, {}, scope.path)
                continue
            if scope.target is None:
                self.make(found, scope.inherited, scope.path)
            elif phrase.makes is None and not phrase.hands_on:
                scope.target.update(found.fields, **phrase.constants)
                scope.places.update(dict.fromkeys((*found.fields, *phrase.constants), self.place(statement)))
                self.inside(found, scope.inherited, scope.target, scope.places, scope.path)
            else:
                makers.append(found)
        # A fact may inherit what a later neighbour sets, so facts come after all that adds to the block.
        for found in makers:
            around = {**scope.inherited, **(scope.target or {})}
            if found.phrase.makes is None:
                self.inside(found, {**around, **found.fields}, scope.target, scope.places, scope.path)
            else:
                self.make(found, around, scope.path)

    def want(self, phrase: Phrase, statement: Statement, path: tuple[str, ...]) -> None:
        """Keep the first statement that wants something else of the text."""
        for word in phrase.wants:
            if word not in self.wanting:
                place, reason = self.place(statement), self.form.missing[word]
                self.wanting[word] = Leftover(place, statement.text, path, reason, phrase.sections)

    def whole(self, statement: Statement, block: Block, path: tuple[str, ...]) -> bool:
        """Make the fact that a statement is by itself; tell whether it is one."""
        for phrase in block.candidates(statement.text):
            if phrase.whole is None:
                return False
            fact = phrase.whole.make(statement.text, Place(self.file, statement.line))
            if fact is not None:
                self.want(phrase, statement, path)
                self.single[phrase.kind].append(fact)
                return True
        return False

    def adds(self, statement: Statement, block: Block, scope: _Scope) -> bool:
        """Add to the fact of the block what a statement says of it, if it says no more; tell whether it does."""
        phrase, fields = self.finder.leaf(statement.text, block)
        if phrase is None or not phrase.only_adds or scope.target is None:
            return False
        if not phrase.aside:
            scope.target.update(fields, **phrase.constants)
            scope.places.update(dict.fromkeys((*fields, *phrase.constants), self.place(statement)))
        return True

    def note(self, found: Found) -> None:
        """Put a statement into the trace, and those inside that met its conditions."""
        assert self.trace is not None
        self.trace[id(found.statement)] = Understood(found.phrase, {**found.fields, **found.phrase.constants})
        rest = {id(each) for each in found.rest}
        for child in found.statement.children or ():
            if id(child) not in rest:
                self.trace[id(child)] = Understood(found.phrase, {}, head=True)

    def inside(
        self, found: Found, inherited: Fields, target: Fields | None, places: Lines, path: tuple[str, ...]
    ) -> None:
        """Read the block that a statement opens."""
        if found.rest and found.phrase.block is not None:
            path = (*path, found.statement.text)
            self.block(found.rest, found.phrase.block, _Scope(inherited, target, places, path))

    def make(self, found: Found, inherited: Fields, path: tuple[str, ...]) -> None:
        """Make the fact of a statement."""
        phrase, statement = found.phrase, found.statement
        kind = phrase.makes
        if kind is None:
            known = len(self.single[phrase.denies]) if phrase.denies else 0
            self.inside(found, {**inherited, **found.fields}, None, {}, path)
            if phrase.denies and len(self.single[phrase.denies]) == known:
                # It lets nothing pass, and in a list of facts that has to be said.
                last = max(each.line for each in (statement, *(statement.children or ())))
                self.single[phrase.denies].append(Passage("drop", place=Place(self.file, last)))
            return
        fields = found.fields
        if inherited:
            around = {name: value for name, value in inherited.items() if name in kind.fields}
            if SUBJECT in around and fields.get(SUBJECT, around[SUBJECT]) != around[SUBJECT]:
                # Whether it takes effect depends on something else than what it is about.
                reason = f"it stands inside what is about {around[SUBJECT]}"
                self.leave(statement, path, reason, self.could(statement, found.block, path))
                return
            fields = {**around, **fields}
        if phrase.constants:
            fields.update(phrase.constants)
        places: Lines = {}
        before = len(self.leftovers), self.left
        if statement.children is not None:
            places = {**dict.fromkeys(fields, self.place(statement)), **found.places}
            self.inside(found, inherited, fields, places, path)
            if not (kind.key or kind.holds) and len(self.leftovers) > before[0]:
                # One member that is not understood can change what all the others mean.
                unknown = self.leftovers[before[0]].text
                del self.leftovers[before[0] :]
                self.left = before[1]
                self.leave(
                    statement, path, f"{unknown!r} in it is not understood", self.could(statement, found.block, path)
                )
                return
        if (kind.key or kind.parts) and self.trace is not None:
            self.trace[id(statement)].fields = fields
        for part, own in parted(kind.parts, fields) if kind.parts else ((kind, fields),):
            fact = self.conclude(found, part, own, places, path)
            if fact is not None and len(self.leftovers) > before[0]:
                self.entangled.append(fact)
            if fact is not None and self.trace is not None and not kind.parts:
                self.trace[id(statement)].fact = fact

    def conclude(
        self, found: Found, kind: FactType, fields: Fields, places: Lines, path: tuple[str, ...]
    ) -> Fact | None:
        """Keep what a statement says of one fact; return that, if it is a whole one by itself."""
        statement = found.statement
        if kind.key:
            self.merge(kind.name, kind.key, fields, places or dict.fromkeys(fields, self.place(statement)))
            return None
        try:
            combine(fields)
            fact: Fact = kind.record(**fields, place=self.fact_place(statement, places))
        except (TypeError, ValueError) as error:
            self.leave(statement, path, f"it does not say enough: {error}", self.could(statement, found.block, path))
            return None
        self.single[kind.name].append(fact)
        return fact

    def place(self, statement: Statement) -> Place:
        """Return where a statement stands."""
        return Place(self.file, statement.line)

    def fact_place(self, statement: Statement, places: Lines) -> Place:
        """Return where a fact stands; an entry of a document stands where its address or destination does."""
        if statement.text == ENTRY:
            lines = [place.line for field, place in places.items() if field in ("to", "address", "address.ip")]
            return Place(self.file, max(lines, default=statement.line), places)
        return Place(self.file, statement.line, places or None)

    def merge(self, name: str, key: str, fields: Fields, places: Lines) -> None:
        """Add to the fact that several statements describe together; it stands where it is first named."""
        known, at = self.keyed.setdefault((name, fields.get(key, "")), ({}, {}))
        known.update(fields)
        at.update({field: place for field, place in places.items() if field != key or key not in at})

    def could(self, statement: Statement, block: Block, path: tuple[str, ...]) -> Could:
        """Tell what a statement could be about that was not understood, by the block that it stands in."""
        return could_be_about(statement, block, self.carried, bool(path), self.in_order)

    def leave(
        self, statement: Statement, path: tuple[str, ...], reason: str = "", could: Could = ANYTHING,
        among: Block | None = None,
    ) -> None:  # fmt: skip
        """Leave a statement over, and all that stands inside it; it may be none of the phrases of a block."""
        if self.trace is not None:
            self.trace.pop(id(statement), None)
        place = Place(self.file, statement.line)
        left = Leftover(place, statement.text, path, reason or NOT_UNDERSTOOD, *could)
        if among is not None:
            self.unrecognised[id(left)] = left, statement, among
        if statement.text == ENTRY:
            # An entry of a document has no line of its own to show: it is left over as a whole.
            self.left += count_of([statement])
            members = statement.children or ()
            plain = ", ".join(each.text for each in members if each.children is None)
            self.leftovers.append(replace(left, text=plain or ", ".join(each.text for each in members)))
            return
        self.left += 1
        self.leftovers.append(left)
        for child in statement.children or ():
            self.leave(child, (*path, statement.text), "it stands in a block that was not understood", could)

    def finish(self) -> Facts:
        """Return all facts, those of several statements put together."""
        facts: Facts = {name: list(members) for name, members in self.single.items() if members}
        for (name, _), (fields, places) in self.keyed.items():
            kind = FACTS[name]
            line = (
                places[kind.key].line if kind.key in places else min((each.line for each in places.values()), default=0)
            )
            fact: Fact = kind.record(**fields, place=Place(self.file, line, places))
            facts.setdefault(name, []).append(fact)
        return facts
