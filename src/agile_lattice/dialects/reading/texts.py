"""From text to facts: in one form of a dialect, or in whichever understands most."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import PurePath
from typing import Any, cast

import msgspec

from agile_lattice.dialects.dialect import Block, Dialect, Form
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.facts import Fact, InterfaceFact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.programs import KINDS, of_one_family
from agile_lattice.dialects.program_facts import AbsentFact, AsideFact
from agile_lattice.dialects.reading.absent import SECTIONS_OF, Absent, absent_of
from agile_lattice.dialects.reading.bounds import bounded
from agile_lattice.dialects.reading.executing import executed, lacking
from agile_lattice.dialects.reading.expanding import expanded, unnamed, with_names
from agile_lattice.dialects.reading.including import NOT_HERE, without_includes
from agile_lattice.dialects.reading.stopping import Stop, stop_of
from agile_lattice.dialects.reading.understanding import Leftover, Reader, Trace, Value, count_of
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import NOWHERE, Place

EXPLAINED = 100  # leftovers of which it is said where they stop fitting
Unrecognised = dict[int, tuple[Leftover, Statement, Block]]
AGAIN = "it is opened again in another way, and what comes of that is not worked out"
RULES: tuple[Section, ...] = ("translations", "permits", "access")
# Facts that passes put aside, and why.
# What passes put aside: why it is not understood, and what it could be about.
ASIDE: dict[str, tuple[str, tuple[Section, ...]]] = {
    "lost": ("it uses a name that is not declared", RULES),
    "unclear": ("permits beside it see external addresses, and it names none", RULES),
    "unmarked": ("nothing brings this alias up", ("interfaces", "routes")),
    "nameless": ("it does not say what the interface is called", ("interfaces", "routes")),
}


class Reading(msgspec.Struct, frozen=True):
    """What one text says.

    Attributes:
        dialect, form: What it was read as.
        file: The name of the text.
        facts: By kind.
        leftovers: What was not understood, in order.
        sections: The sections that the text speaks of, even if only to say that there is nothing.
        statements: How many statements it has, and how many of them were understood.
        answers_itself: Whether the device answers for what its translations use without being told.
        family: The one address family that its rules are for, if there is another program for the other.
        sorts_addresses: Whether the program sorts the addresses that it prints.
        hides_bare: Whether it does not print interfaces of which nothing is set.
        absent: What its lists of rules should let pass before their rules are asked, and do not.
        entangled: Facts inside whose statements something stands that was not understood.
        by_hand: Whether its rules are a program that somebody wrote, and not as the dialect writes them.
        later_wins: Whether of several such texts the one whose name comes later decides.
        program: The facts of its rules, if they are a program: its chains, and what they use.
        unit_of: The interfaces that a unit is about: of several units only the first applies, in the order of their
            names. Empty for texts that are none.
        given: What facts want of the texts of a dialect and this one has, in the words of its form.
        wanting: The first statement here that wants each, as it is left over if no text gives it.
    """

    dialect: str
    form: str
    file: str
    facts: Facts
    leftovers: tuple[Leftover, ...]
    sections: frozenset[Section]
    statements: tuple[int, int]
    answers_itself: bool = False
    family: int | None = None
    entangled: tuple[Fact, ...] = ()
    absent: tuple[Absent, ...] = ()
    sorts_addresses: bool = False
    hides_bare: bool = False
    unit_of: tuple[str, ...] = ()
    by_hand: bool = False
    given: frozenset[str] = frozenset()
    wanting: Mapping[str, Leftover] = {}
    later_wins: bool = False
    program: Facts = {}

    @property
    def told(self) -> int:
        """Of how many statements it is known what they do, if only as a part of a program."""
        read = {each.place.line for each in self.leftovers if each.in_program and not each.unread}
        return self.statements[1] + len(read)


def explained(reading: Reading, unrecognised: Unrecognised, text: str) -> Reading:
    """Return a reading with words on where what was not recognised stops fitting, for the first of it.

    Args:
        reading: The reading.
        unrecognised: As `read_form` gave it.
        text: What was read.
    """
    lines = text.split("\n")
    found = list(reading.leftovers)
    for index, left in enumerate(found[:EXPLAINED]):
        stop = stop_of(*unrecognised[id(left)][1:]) if id(left) in unrecognised else None
        if stop is not None:
            found[index] = msgspec.structs.replace(left, reason=stop.reason, place=_column(left, stop, lines))
    return msgspec.structs.replace(reading, leftovers=tuple(found))


def _column(left: Leftover, stop: Stop, lines: Sequence[str]) -> Place:
    """Return the place of the word that does not fit, if the statement stands in its line as it is."""
    line = lines[left.place.line - 1] if 0 < left.place.line <= len(lines) else ""
    start = line.find(left.text)
    if start < 0 or not stop.word:
        return left.place
    return msgspec.structs.replace(left.place, column=start + stop.at + 1, width=len(stop.word))


def read_form(
    dialect: Dialect, form: Form, text: str, file: str, unrecognised: Unrecognised | None = None,
    statements: list[Statement] | None = None,
) -> Reading:  # fmt: skip
    """Read a text in one form of a dialect.

    Args:
        dialect: The dialect.
        form: One of its forms.
        text: The text.
        file: Its name.
        unrecognised: Gets, by the identity of a leftover, the statement and the block of which it is no phrase.
        statements: The text, if it is cut into its statements already.

    Raises:
        CaptureError: If the text is cut off or of another surface altogether.
    """
    reader = _reader(dialect, form, file)
    reading = _reading(dialect, reader, statements or bounded(form.surface.parse, text, file))
    if unrecognised is not None:
        unrecognised |= reader.unrecognised
    if form.elsewhere is None:
        return reading
    more = tuple(_elsewhere(form.elsewhere, dialect, text, file))
    return msgspec.structs.replace(reading, leftovers=(*more, *reading.leftovers)) if more else reading


def _elsewhere(sign: re.Pattern[str], dialect: Dialect, text: str, file: str) -> Iterator[Leftover]:
    """Yield the lines by which a system says that it has more than this text."""
    for found in sign.finditer(text):
        line = text[found.start() :].partition("\n")[0]
        place = Place(file, text.count("\n", 0, found.start()) + 1)
        yield Leftover(place, line, (), "the system has more than it shows here", dialect.carries)


def read_statements(
    dialect: Dialect, form: Form, statements: list[Statement], file: str, trace: Trace | None = None,
    unread: Value | None = None,
) -> Reading:  # fmt: skip
    """Read the statements of a text in one form of a dialect.

    Args:
        dialect: The dialect.
        form: One of its forms.
        statements: All of them.
        file: The name of the text.
        trace: Gets what became of every statement that was understood.
        unread: A value that is passed by, to see what becomes of the rest.
    """
    return _reading(dialect, _reader(dialect, form, file, trace, unread), statements)


def _reader(dialect: Dialect, form: Form, file: str, trace: Trace | None = None, unread: Value | None = None) -> Reader:
    semantics = dialect.semantics
    in_order = semantics.order == "list" and semantics.lists == "separate"
    return Reader(file, form, trace, dialect.carries, in_order, unread)


def _reading(dialect: Dialect, reader: Reader, statements: list[Statement]) -> Reading:
    includes = any(form.expand.includes for form in dialect.forms)
    rest, including = without_includes(statements) if includes else (statements, [])
    named = with_names(rest, reader.form.expand)
    done = executed(named, reader.form.execution)
    written_out = expanded(done.kept, reader.form.expand)
    facts = reader.read(written_out)
    if reader.trace is not None:
        for before, now in reversed(done.became):
            if id(now) in reader.trace:
                reader.trace[id(before)] = reader.trace[id(now)]
    if reader.trace is not None and reader.form.change.of_programs:
        _known_as(rest, written_out, reader.trace)
    units = getattr(reader.form.surface, "files", False)
    unit_of = [each.interface for each in facts.get("interface", []) if units and isinstance(each, InterfaceFact)]
    if dialect.semantics.family is not None:
        facts = of_one_family(facts, dialect.semantics.family)
    program = {kind: facts[kind] for kind in KINDS if facts.get(kind)} if facts.keys() & {"base-chain", "step"} else {}
    for each in reversed(dialect.passes):
        facts = each.up(facts)
    lost = [
        Leftover(fact.place, str(getattr(fact, "name", "") or getattr(fact, "interface", "")), (), reason, sections)
        for kind, (reason, sections) in ASIDE.items()
        for fact in facts.pop(kind, [])
    ]
    steps = cast(list[AsideFact], facts.pop("aside", []))
    aside = _set_aside(statements, steps)
    lost += aside
    lost += [Leftover(Place(reader.file, each.line), each.text, (), NOT_HERE, dialect.carries) for each in including]
    told = {each.place.line for each in (*reader.leftovers, *reader.passed, *lost)}
    lost += [
        Leftover(Place(reader.file, each.line), each.text, (), ASIDE["lost"][0], dialect.carries)
        for each in unnamed(named, reader.form.expand)
        if each.line not in told
    ]
    lost += [Leftover(Place(reader.file, each.line), each.text, (), AGAIN, dialect.carries) for each in done.unclear]
    lost += [
        Leftover(Place(reader.file, each.line), each.text, (), missing, dialect.carries)
        for each, missing in lacking(done.kept, reader.form.execution)
    ]
    for block in done.gone:
        # A program reads what others take away, too, and may refuse it: then nothing of the text holds.
        apart = _reading(dialect, _reader(dialect, reader.form, reader.file), [block])
        lost += [one for one in apart.leftovers if one.place.line not in {left.place.line for left in lost}]
    absent = [
        *absent_of(reader.form, dialect.semantics.family, facts, reader.seen),
        *(
            Absent(
                SECTIONS_OF[each.hook],
                each.lets,
                each.place,
                NOWHERE,
                each.rules,
                dialect.semantics.family or each.family,
            )
            for each in cast(list[AbsentFact], facts.pop("absent", []))
        ),
    ]
    wanting = reader.wanting
    if getattr(reader.form.surface, "files", False):  # each is a whole by itself
        lost += [left for word, left in wanting.items() if word not in reader.given]
        wanting = {}
    leftovers = tuple(sorted([*reader.leftovers, *reader.passed, *lost], key=lambda each: each.place.line))
    itself = dialect.semantics.answers == "itself"
    count, left = (
        max(count_of(statements), count_of(written_out)),
        reader.left + len({each.place.line for each in aside}),
    )
    return Reading(
        dialect.name, reader.form.name, reader.file, facts, leftovers, frozenset(reader.sections),
        (count, count - left), itself, dialect.semantics.family, tuple(reader.entangled), tuple(absent),
        dialect.semantics.addresses == "sorted", dialect.semantics.interfaces == "set", tuple(unit_of),
        reader.form.change.of_programs, frozenset(reader.given), wanting,
        dialect.semantics.texts == "later-wins", program,
    )  # fmt: skip


def _known_as(statements: Sequence[Statement], read: Sequence[Statement], trace: Trace) -> None:
    """Let statements be known as those that were read in their place, where one was for one: to change what is around.

    Args:
        statements: As they are written.
        read: With variables and collections written out.
        trace: What became of those that were read.
    """
    by_line: dict[tuple[int, bool], list[Statement]] = {}
    for each in read:
        by_line.setdefault((each.line, each.children is None), []).append(each)
    for each in statements:
        found = by_line.get((each.line, each.children is None), [])
        if len(found) != 1:
            continue
        if found[0] is not each and id(found[0]) in trace:
            trace[id(each)] = trace[id(found[0])]
        _known_as(each.children or (), found[0].children or (), trace)


def _set_aside(statements: Sequence[Statement], aside: Sequence[AsideFact]) -> list[Leftover]:
    """Return steps of a program that are not worked out as leftovers."""
    texts = {each.line: each.text for each in _every(statements)} if aside else {}
    found = []
    for each in aside:
        stage: Any = each.hook if each.hook in ("arrival", "departure") else None
        sections: tuple[Section, ...] = ("translations",) if stage else (SECTIONS_OF[each.hook],)
        text = texts.get(each.place.line, "")
        found.append(Leftover(each.place, text, (), each.reason, sections, stage, each.ordered, True, each.unread))
    return found


def _every(statements: Sequence[Statement]) -> Iterator[Statement]:
    for each in statements:
        yield each
        yield from _every(each.children or ())


def _nothing(dialects: Sequence[Dialect], file: str) -> Reading:
    """Read an empty text: a program that has nothing to print, or a file in which nothing had to be said.

    Raises:
        CaptureError: If its name does not tell of what.
    """
    path = PurePath(file)
    forms = [(dialect, form) for dialect in dialects for form in dialect.forms if form.file]
    alike = [each for each in forms if path.suffix and path.suffix == PurePath(each[1].file).suffix]
    named = [each for each in forms if path.name == each[1].file] or alike
    if len(named) == 1:
        [(dialect, form)] = named
        return _reading(dialect, _reader(dialect, form, file), [])
    names = ", ".join(form.file for _, form in forms)
    raise CaptureError(
        Place(file), "the file is empty, and its name does not tell what it is a capture of",
        f"Capture it again; if there is nothing to say, name it as what it is: {names}.",
    )  # fmt: skip


def _cut(forms: Sequence[Form], text: str, file: str) -> dict[int, list[Statement]] | None:
    """Cut a text into its statements, in the first form in which it has any; None if it has nothing but remarks."""
    remarks = False
    for form in forms:
        if form.elsewhere is not None and form.elsewhere.search(text):
            return {}
        if form.surface.parted or getattr(form.surface, "files", False):
            continue
        with suppress(CaptureError):
            statements = bounded(form.surface.parse, text, file)
            if statements:
                return {id(form): statements}
            remarks = True
    return None if remarks else {}


def best_reading(dialects: list[Dialect], text: str, file: str) -> Reading:
    """Read a text in whichever of several dialects understands most of it.

    Raises:
        CaptureError: If none understands anything, or the text is damaged.
    """
    if not text.strip():
        return _nothing(dialects, file)
    forms = [(dialect, form) for dialect in dialects for form in dialect.forms if form.may_be(text)]
    forms.sort(key=lambda each: not each[1].file)  # what can be written again comes before what is only read
    known = _cut([form for _, form in forms], text, file)
    if known is None:
        return _nothing(dialects, file)
    best: Reading | None = None
    nothing: Reading | None = None
    error: CaptureError | None = None
    unrecognised: Unrecognised = {}
    for dialect, form in forms:
        try:
            reading = read_form(dialect, form, text, file, unrecognised, known.get(id(form)))
        except CaptureError as caught:
            if not caught.other and (error is None or caught.place.line > error.place.line):
                error = caught  # whoever gets furthest knows best what is wrong with it
            continue
        if bool(reading.statements[0]) != bool(reading.leftovers):
            return reading  # all of it is understood, or it only says that there is more than it shows
        if not reading.statements[0] and form.surface.parted:
            # An empty document is an answer; of what, it does not tell.
            nothing = nothing or msgspec.structs.replace(reading, sections=frozenset())
        if form.before and form.begins(text):
            best = reading  # it begins as we write such texts, so it is one, whatever else stands in it
            break
        if best is None or reading.told > best.told:
            best = reading
    if best is not None and (best.statements[1] > 0 or _is_unit(best, forms)):
        return explained(best, unrecognised, text)
    if nothing is not None:
        return nothing
    if error is not None:
        raise error
    names = ", ".join(dialect.name for dialect in dialects)
    raise CaptureError(
        Place(file), f"nothing in it can be understood as {names}",
        "Check that it is the right file, and which dialects the device speaks.",
    )  # fmt: skip


def _is_unit(reading: Reading, forms: Iterable[tuple[Dialect, Form]]) -> bool:
    """Tell whether a text that is not understood has a name of a unit: others of the device say more."""
    [form] = [form for dialect, form in forms if (dialect.name, form.name) == (reading.dialect, reading.form)]
    if not getattr(form.surface, "files", False):
        return False
    named = [each.text for each in reading.leftovers if not each.block]
    return any(each.pattern.read(name) is not None for each in form.block.phrases for name in named)
