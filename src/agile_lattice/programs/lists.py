"""The lists of rows that packets are asked about on their way through a device, made of the chains of a program.

A list has the packets as they are when it is asked: for what passes the device, behind what is done to destinations.
Chains that see them otherwise say so in dimensions of their own, or in unknowns.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import pairwise

from msgspec.structs import replace

from agile_lattice.errors import LatticeError
from agile_lattice.packets.spans import Spans, meet, merged
from agile_lattice.programs import model
from agile_lattice.programs.following import Part
from agile_lattice.programs.listing import Listing, as_it_is
from agile_lattice.programs.model import Base, Entry, Hook, Mapped, Program, SparseBox
from agile_lattice.programs.rules import reached

MARKS = {model.MARK, model.CONNECTION_MARK}
KNOWN = {model.STATE, model.FLAGS, *MARKS}  # of first packets, whatever list they come to
AS_THEY_CAME: Spans = ((0, model.OF_DESTINATION),)  # of what was translated, where the destination is still the same
TO_OTHERS: Spans = ((model.OF_DESTINATION | model.NEW_DESTINATION,) * 2,)

MANY = 500  # entries that let packets pass
States = Mapping[int, Sequence[SparseBox]]


class Unlisted(LatticeError):
    """Why what chains do is no list."""


def listed(program: Program, hook: Hook, translates: int, states: States) -> list[Part]:
    """Return what becomes of first packets at a hook as a list.

    Args:
        program: The program.
        hook: The hook; of what passes the device, chains at the door count as well.
        translates: The bit of what the chains translate that are asked; 0 for those that let pass.
        states: First packets, by what is known of their connection; no packet is in two of these.

    Returns:
        Rows, of which the first decides that holds a packet and whose unknowns are as they have to be.

    Raises:
        Undecided: If they are too many.
        Unlisted: If it is not told in which order chains are asked.
    """
    program = _without_idle(program)
    bases = list(_asked(program, hook, translates))
    redirects = any(True for _ in _entries(program, model.DESTINATION, model.PORT))
    arriving = translates == model.OF_DESTINATION
    possible = ((0, 0),) if arriving or not redirects else (*AS_THEY_CAME, *TO_OTHERS)
    every = merged((state, state) for state in states)
    start = Part({**model.BEGINS, model.STATE: every, model.TRANSLATED: possible})
    same = not redirects or arriving
    rows = Listing(program).rows(
        bases, start, lambda base: _called(program, base, same), as_it_is if arriving else _behind
    )
    found = (one for row in rows for one in _of_states(row, states, every))
    return [one for row in found for one in _apart(row, possible)]


def _of_states(row: Part, states: States, every: Spans) -> Iterator[Part]:
    """Yield a row for those packets of which the right thing is known of their connection: whole if it is of all."""
    if row.box[model.STATE] == every:
        yield row
        return
    for state, boxes in states.items():
        for box in boxes if meet(row.box[model.STATE], ((state, state),)) else ():
            here = {dimension: meet(row.box.get(dimension, spans), spans) for dimension, spans in box.items()}
            if all(here.values()):
                yield replace(row, box={**row.box, **here})


def _without_idle(program: Program) -> Program:
    """Return a program without what is made of marks, where no entry asks for them."""
    asked = {dimension for entries in program.chains.values() for each in entries for dimension in each.box}
    if asked & MARKS:
        return program
    chains = {name: tuple(_plain(entries)) for name, entries in program.chains.items()}
    return replace(program, chains=chains)


def _plain(entries: Iterable[Entry]) -> Iterator[Entry]:
    for each in entries:
        changes = tuple(change for change in each.changes if change[0] not in MARKS)
        if changes or each.verdict != "go on":
            yield replace(each, changes=changes) if changes != each.changes else each


def _asked(program: Program, hook: Hook, translates: int) -> Iterator[Base]:
    """Yield the chains that a list is made of, in their order."""
    first = program.asked("incoming")
    marking = [each for each in first if each.translates and hook != "incoming" and _changes(program, each, MARKS)]
    door = [each for each in first if not each.translates or each in marking]
    back = [each for each in program.asked("outgoing") if not each.translates]
    if translates:
        when = model.TRANSLATING[translates], 0
        before = door if hook == "incoming" else [*door, *program.asked("permit"), *back]
        # What was not understood may have changed anything.
        apart = [each for each in before if _changes(program, each) or _has_unread(program, each)]
        found = [each for each in apart if each.hook != hook or each.rank < when]
        found += [each for each in program.asked(hook) if each.translates == translates]
    else:
        every = [*door, *program.asked(hook), *(back if hook == "permit" else ())]
        found = [each for each in every if _changes(program, each) or _drops(program, each)]
        found = [each for each in found if not each.translates or each in marking]
        if not any(_changes(program, each) for each in found):
            found = _fewest_rows(program, found)
    if marking and sum(bool(each.translates) for each in first) > 1:
        raise Unlisted("one of several chains that translate destinations makes marks")
    if any(_marks_late(program, each) for each in found):
        raise Unlisted("a chain asks for marks behind one that translates sources and makes some")
    for one, other in pairwise(found):
        if one.hook == other.hook and one.rank == other.rank and (_changes(program, one) or _changes(program, other)):
            raise Unlisted(f"nothing tells whether {one.place} or {other.place} is asked first")
    yield from found


def _fewest_rows(program: Program, bases: list[Base]) -> list[Base]:
    """Return chains that a packet has to pass all of in the order in which they make the fewest rows, if many let pass.

    What one chain lets pass comes to the next: a list of those that may not pass comes before one of those that may.
    """
    passes = {each: sum(one.verdict == "accept" for one in reached(program, each.chain)) for each in bases}
    return bases if max(passes.values(), default=0) < MANY else sorted(bases, key=lambda each: passes[each])


def _changes(program: Program, base: Base, some: Collection[int] = ()) -> bool:
    """Tell whether a chain changes packets, or some of their dimensions."""
    return any(not some or dimension in some for each in reached(program, base.chain) for dimension, _ in each.changes)


def _has_unread(program: Program, base: Base) -> bool:
    return any(each.verdict == "not known" for each in reached(program, base.chain))


def _marks_late(program: Program, base: Base) -> bool:
    """Tell whether a chain asks for marks behind one that translates sources and makes some."""
    asks = any(dimension in MARKS for each in reached(program, base.chain) for dimension in each.box)
    late = base.hook == "outgoing" and base.rank[0] >= model.TRANSLATING[model.OF_SOURCE] and not base.translates
    return (
        asks and late and any(each.translates and _changes(program, each, MARKS) for each in program.asked("outgoing"))
    )


def _behind(base: Base, row: Part) -> Part:
    """Return a row of a chain that translates destinations as it is behind that, with what they were besides."""
    if base.translates != model.OF_DESTINATION:
        return row
    box = {dimension: spans for dimension, spans in row.box.items() if dimension != model.TRANSLATED}
    now = {dimension: change for dimension, change in row.now.items() if dimension in KNOWN}
    done = row.now.get(model.TRANSLATED)
    bits = done.table[0] if isinstance(done, Mapped) else 0
    if not bits & model.NEW_DESTINATION:
        box[model.TRANSLATED] = ((bits, bits),)
        return replace(row, box=box, now=now)
    for dimension in (model.DESTINATION, model.PORT):
        came = box.pop(dimension, None)
        becomes = model.image_of(row.now.get(dimension), came)
        box |= {dimension + model.AS_IT_CAME: came} if came is not None else {}
        box |= {dimension: becomes} if becomes is not None else {}
    return replace(row, box={**box, model.TRANSLATED: TO_OTHERS}, now=now)


def _drops(program: Program, base: Base) -> bool:
    return not base.passes or any(each.verdict in ("drop", "not known") for each in reached(program, base.chain))


def _entries(program: Program, *dimensions: int) -> Iterator[Entry]:
    """Yield the entries that change one of some dimensions."""
    for entries in program.chains.values():
        for each in entries:
            if any(dimension in dimensions for dimension, _ in each.changes):
                yield each


def _called(program: Program, base: Base, same: bool) -> Mapping[int, int | None]:
    """Return what dimensions are called in a list that a chain sees otherwise; None for what is not told there.

    Args:
        program: The program.
        base: The chain.
        same: Whether the list has destinations as they came in.
    """
    came = {each: each + model.AS_IT_CAME for each in (model.SOURCE, model.DESTINATION, model.PORT)}
    found: dict[int, int | None] = {came[model.SOURCE]: model.SOURCE}
    if same or base.translates == model.OF_DESTINATION:
        found |= {came[model.DESTINATION]: model.DESTINATION, came[model.PORT]: model.PORT}
    elif base.hook == "incoming" and base.rank[0] <= model.TRANSLATING[model.OF_DESTINATION]:
        told = base.rank[0] < model.TRANSLATING[model.OF_DESTINATION]
        found |= {each: came[each] if told else None for each in (model.DESTINATION, model.PORT)}
    late = base.hook == "outgoing" and base.rank[0] >= model.TRANSLATING[model.OF_SOURCE] and not base.translates
    if late and any(True for _ in _entries(program, model.SOURCE, model.SOURCE_PORT)):
        found |= dict.fromkeys((model.SOURCE, model.SOURCE_PORT, model.TRANSLATED))
    return found


def _apart(row: Part, possible: Spans) -> Iterator[Part]:
    """Yield a row without what is known of all packets of the list, and by whether their destination is as it came."""
    box = {dimension: spans for dimension, spans in row.box.items() if dimension not in KNOWN}
    now = {dimension: change for dimension, change in row.now.items() if dimension not in KNOWN}
    translated = box.pop(model.TRANSLATED)
    came = [dimension for dimension in box if dimension >= model.AS_IT_CAME]
    if came and (as_it_came := meet(translated, AS_THEY_CAME)):
        here = {dimension: spans for dimension, spans in box.items() if dimension not in came}
        for each in came:
            plain = each - model.AS_IT_CAME
            here[plain] = meet(here.get(plain, box[each]), box[each])
        if all(here.values()):
            yield replace(row, box={**here, model.TRANSLATED: as_it_came}, now=now)
        translated = meet(translated, TO_OTHERS)
    if translated:
        yield replace(row, box=box if translated == possible else {**box, model.TRANSLATED: translated}, now=now)
