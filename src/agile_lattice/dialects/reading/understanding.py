"""From statements to facts. Nothing is lost: a statement is understood, passed over, or left over."""

from __future__ import annotations

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.dialect import Block, Form, Phrase, Which
from agile_lattice.dialects.fact_types import FACTS, FactType, combine
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.grammar import PASSED
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.reading.deciding import ANYTHING, Could, could_be_about
from agile_lattice.dialects.reading.finding import Fields, Finder, Found, Lines
from agile_lattice.dialects.reading.gathering import Gathered, united
from agile_lattice.dialects.surfaces import ENTRY, Statement
from agile_lattice.dialects.together import parted
from agile_lattice.intent.model import SECTIONS, Section
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Stage

SECOND = "there is another one before it, and which of the two decides is not worked out"
REFUSED = "there is one before it, and its program refuses a second one"
NOT_UNDERSTOOD = "not recognised"
MOST_PASSED = 100  # of what was passed over last, what may belong to one statement
PASSED_OVER = "it says something that an intent has no word for"
KEYS = {each.key for each in FACTS.values() if each.key}  # fields that say which thing a fact is about
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
        in_program: Whether only lists of rules cannot say it: what it does is in the program that it stands in.
        unread: Whether its words were not all recognised even so: the program has what they may do as not known.
    """

    place: Place
    text: str
    block: tuple[str, ...] = ()
    reason: str = NOT_UNDERSTOOD
    sections: tuple[Section, ...] = SECTIONS
    stage: Stage | None = None
    ordered: bool = False
    in_program: bool = False
    unread: bool = False


class Value(msgspec.Struct, frozen=True, order=True):
    """A value that a text gives: its line, the field that its dialect reads it as, and the value in words."""

    line: int
    field: str
    text: str


def in_words(value: object) -> str:
    """Return a value of a field in words."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if not isinstance(value, tuple):
        return str(value)
    spans = (f"{each[0]}-{each[1]}" if isinstance(each, tuple) and each[0] != each[1] else each for each in value)
    return ", ".join(str(each[0]) if isinstance(each, tuple) else str(each) for each in spans)


class Understood(msgspec.Struct):
    """What became of one statement.

    Attributes:
        phrase: The phrase that it is.
        fields: What it says of a fact, in the blocks that it stands in as far as they count.
        fact: The fact that it is, if it is a whole one by itself.
        head: Whether it only met a condition of the statement around it.
        values: What it gives itself, with the statements inside that met its conditions.
    """

    phrase: Phrase
    fields: Fields
    fact: Fact | None = None
    head: bool = False
    values: tuple[Value, ...] = ()


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
        said: Those of the fields that some statement said, and not only that the block is there.
    """

    inherited: Fields
    target: Fields | None
    places: Lines
    path: tuple[str, ...]
    said: set[str] = msgspec.field(default_factory=set)


class Reader:
    """Makes facts of the statements of one text.

    Args:
        file: The name of the text.
        form: The form of a dialect that it is in.
        trace: Gets what became of every statement that was understood.
        carried: The sections that the dialect speaks of.
        in_order: Whether of the rules of a list the first that matches decides.
        unread: A value that is passed by, to see what becomes of the rest.

    Attributes:
        leftovers: What was not understood.
        passed: What was understood, and says something that is passed over.
        entangled: Facts inside whose statements some of that stands.
        left: How many statements that are.
        sections: The sections that the text speaks of.
        unrecognised: By the identity of a leftover the statement, and the block of which it is no phrase.
        seen: Where statements stand of which there is one, or that let something pass, by their phrase.
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
        unread: Value | None = None,
    ) -> None:
        self.file = file
        self.finder = Finder(file)
        self.form = form
        self.carried, self.in_order = carried, in_order
        self.trace, self.unread = trace, unread
        self.leftovers: list[Leftover] = []
        self.passed: list[Leftover] = []
        self.entangled: list[Fact] = []
        self.unrecognised: dict[int, tuple[Leftover, Statement, Block]] = {}  # which keeps what has this identity
        self.left = 0
        self.sections: set[Section] = set(form.carries)
        self.seen: dict[Which, Place] = {}
        self.given: set[str] = set()
        self.wanting: dict[str, Leftover] = {}
        self.before = frozenset(form.before)
        self.gathered = Gathered(file, form)

    def read(self, statements: list[Statement]) -> Facts:
        """Return the facts that the statements of a whole text make."""
        self.block(statements, self.form.block, _Scope({}, None, {}, ()))
        return self.gathered.facts()

    def block(self, statements: list[Statement], block: Block, scope: _Scope) -> None:
        """Read statements that stand side by side."""
        makers, here = [], set[Which]()
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
            if (phrase.once and phrase.which in self.seen) or (phrase.first and phrase.which in here):
                self.leave(statement, scope.path, SECOND, self.could(statement, block, scope.path))
                continue
            here.add(phrase.which)
            if phrase.once or phrase.lets[1]:
                self.seen.setdefault(phrase.which, self.place(statement))
            passed = found.fields.pop(PASSED, None) is not None
            if self.trace is not None:
                self.note(found)
            if self.unread is not None:
                self.pass_by(found, self.unread)
            if passed or phrase.passed:
                self.pass_over(statement, scope.path, phrase)
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
                if not self.add(phrase, found.fields, statement, scope):
                    self.leave(statement, scope.path, SECOND, self.could(statement, block, scope.path))
                    continue
                self.inside(found, scope.inherited, scope.target, scope.places, scope.path, scope.said)
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
            fact = phrase.whole.make(statement.text, self.fact_place(statement, {}))
            if fact is not None:
                self.want(phrase, statement, path)
                self.keep(phrase, fact, statement, path)
                return True
        return False

    def adds(self, statement: Statement, block: Block, scope: _Scope) -> bool:
        """Add to the fact of the block what a statement says of it, if it says no more; tell whether it does."""
        phrase, fields = self.finder.leaf(statement.text, block)
        if phrase is None or not phrase.only_adds or scope.target is None:
            return False
        return phrase.aside or self.add(phrase, fields, statement, scope)

    def add(self, phrase: Phrase, fields: Fields, statement: Statement, scope: _Scope) -> bool:
        """Add to the fact of the block what a statement says of it; tell whether it can be said beside the rest."""
        assert scope.target is not None
        values = {**fields, **phrase.constants} if phrase.constants else fields
        for name in scope.said.intersection(values):
            both = united(scope.target[name], values[name], phrase.again)
            if both is None:
                return False
            values = {**values, name: both}
        scope.target.update(values)
        scope.said.update(values)
        scope.places.update(dict.fromkeys(values, self.place(statement)))
        return True

    def values(self, found: Found) -> tuple[Value, ...]:
        """Return what a statement gives, each value with its line."""
        here = self.place(found.statement)
        fields = found.fields.items()
        return tuple(Value(found.places.get(name, here).line, name, in_words(value)) for name, value in fields)

    def pass_by(self, found: Found, unread: Value) -> None:
        """Take a value out of what a statement gives, if it is the one; what a fact is called becomes another name."""
        if unread not in self.values(found):
            return
        if unread.field in KEYS and isinstance(found.fields[unread.field], str):
            found.fields[unread.field] = f"other than {unread.text}"
        else:
            del found.fields[unread.field]

    def note(self, found: Found) -> None:
        """Put a statement into the trace, and those inside that met its conditions."""
        assert self.trace is not None
        fields, values = {**found.fields, **found.phrase.constants}, self.values(found)
        self.trace[id(found.statement)] = Understood(found.phrase, fields, values=values)
        rest = {id(each) for each in found.rest}
        for child in found.statement.children or ():
            if id(child) not in rest:
                self.trace[id(child)] = Understood(found.phrase, {}, head=True)

    def inside(
        self, found: Found, inherited: Fields, target: Fields | None, places: Lines, path: tuple[str, ...],
        said: set[str] | None = None,
    ) -> None:  # fmt: skip
        """Read the block that a statement opens."""
        if found.rest and found.phrase.block is not None:
            path = (*path, found.statement.text)
            scope = _Scope(inherited, target, places, path, set() if said is None else said)
            self.block(found.rest, found.phrase.block, scope)

    def make(self, found: Found, inherited: Fields, path: tuple[str, ...]) -> None:
        """Make the fact of a statement."""
        phrase, statement = found.phrase, found.statement
        kind = phrase.makes
        if kind is None:
            known = len(self.gathered.single[phrase.denies]) if phrase.denies else 0
            self.inside(found, {**inherited, **found.fields}, None, {}, path)
            if phrase.denies and len(self.gathered.single[phrase.denies]) == known:
                # It lets nothing pass, and in a list of facts that has to be said.
                last = max(each.line for each in (statement, *(statement.children or ())))
                self.gathered.single[phrase.denies].append(Passage("drop", place=Place(self.file, last)))
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
            self.inside(found, inherited, fields, places, path, {*found.fields} - phrase.constants.keys())
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
            if fact is not None and (len(self.leftovers) > before[0] or self.passes_over(statement)):
                self.entangled.append(fact)
            if fact is not None and self.trace is not None and not kind.parts:
                self.trace[id(statement)].fact = fact

    def conclude(
        self, found: Found, kind: FactType, fields: Fields, places: Lines, path: tuple[str, ...]
    ) -> Fact | None:
        """Keep what a statement says of one fact; return that, if it is a whole one by itself."""
        statement = found.statement
        if kind.key:
            at = places or dict.fromkeys(fields, self.place(statement))
            if not self.gathered.merge(kind, fields, at, found.phrase):
                self.leave(statement, path, SECOND, self.could(statement, found.block, path))
            return None
        try:
            combine(fields)
            fact: Fact = kind.record(**fields, place=self.fact_place(statement, places))
        except (TypeError, ValueError) as error:
            self.leave(statement, path, f"it does not say enough: {error}", self.could(statement, found.block, path))
            return None
        return fact if self.keep(found.phrase, fact, statement, path, kind.name) else None

    def keep(self, phrase: Phrase, fact: Fact, statement: Statement, path: tuple[str, ...], kind: str = "") -> bool:
        """Keep a fact, in the place of the one that it replaces; tell whether it can be said beside the rest."""
        if self.gathered.keep(phrase, fact, kind or phrase.kind):
            return True
        self.leave(statement, path, REFUSED, (phrase.sections, None, False))
        return False

    def place(self, statement: Statement) -> Place:
        """Return where a statement stands."""
        return Place(self.file, statement.line)

    def fact_place(self, statement: Statement, places: Lines) -> Place:
        """Return where a fact stands; an entry of a document stands where its address or destination does."""
        if statement.text == ENTRY:
            lines = [place.line for field, place in places.items() if field in ("to", "address", "address.ip")]
            return Place(self.file, max(lines, default=statement.line), places)
        return Place(self.file, statement.line, places or None, arm=statement.arm)

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

    def passes_over(self, statement: Statement) -> bool:
        """Tell whether something is passed over in a statement, or in what stands inside it."""
        if not self.passed:
            return False
        last = max([statement.line, *(each.line for each in statement.children or ())])
        return any(statement.line <= each.place.line <= last for each in self.passed[-MOST_PASSED:])

    def pass_over(self, statement: Statement, path: tuple[str, ...], phrase: Phrase) -> None:
        """Tell that a statement says something besides, or only something, that an intent has no word for."""
        about = phrase.about if phrase.about is not None else phrase.sections or self.carried
        self.passed.append(Leftover(self.place(statement), statement.text, path, PASSED_OVER, about))
