"""From differences to the change that closes them, in the device's own syntax, and its undo."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.compare.applying import as_it_is, closed
from agile_lattice.compare.by_effect import told_by_rules
from agile_lattice.compare.comparing import compared, find_gaps
from agile_lattice.compare.differences import Comparison, Gap
from agile_lattice.compare.diverting import diverting
from agile_lattice.compare.identity import several
from agile_lattice.compare.lockout import cutting, says_management
from agile_lattice.compare.ruleset_mending import ruleset_changes
from agile_lattice.compare.ruleset_trial import ProgramText
from agile_lattice.compare.trial import TRIED, Trial
from agile_lattice.compare.withholding import DEPENDS, Held, entangled, of_one_list, unchangeable
from agile_lattice.dialects.assembly import Capture, assemble
from agile_lattice.dialects.changes.alignment import align, taken_back
from agile_lattice.dialects.changes.changing import TextChange, edited_texts, patch, typed
from agile_lattice.dialects.changes.filling import NoHandles, handles_of, refilled
from agile_lattice.dialects.changes.outline import outline
from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import ChangeError
from agile_lattice.dialects.facts import Fact, VlanMemberFact
from agile_lattice.dialects.lowering import facts_in, facts_of
from agile_lattice.dialects.names import named_as_there
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.groups import used_in
from agile_lattice.dialects.reading.including import with_included
from agile_lattice.dialects.reading.parting import readings
from agile_lattice.dialects.reading.texts import RULES, Reading
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.dialects.rendering import render_facts
from agile_lattice.intent.model import Device, Section
from agile_lattice.intent.normal import with_mtus, without_usual_mtus

NOT_OURS = "it is no rule of the intent that could come into chains which somebody else wrote: change it by hand"


class Mend(msgspec.Struct, frozen=True):
    """What closes the differences in what one dialect carries.

    Attributes:
        dialect: The dialect.
        how: `typed` if it is typed on the running system, `refilled` if it is one transaction, `rule-by-rule` if that
            alters chains that somebody else wrote, `edited` if it is a patch of the captured texts.
        change, undo: What closes the differences, and what takes that back.
        files: The captured texts that change, of a patch and of rules.
    """

    dialect: str
    how: Literal["edited", "typed", "refilled", "rule-by-rule"]
    change: str
    undo: str
    files: tuple[TextChange, ...] = ()


class Mending(msgspec.Struct, frozen=True):
    """What closes the differences of a device.

    Attributes:
        device: The device's name.
        comparison: What differs.
        mends: One for each dialect in which something changes.
        held: Differences that are not closed.
        guarded: Whether anything says by what the device is managed; else nothing can be withheld.
    """

    device: str
    comparison: Comparison
    mends: tuple[Mend, ...]
    held: tuple[Held, ...]
    guarded: bool = True

    @property
    def settled(self) -> bool:
        """Whether all of the device was captured and understood, and nothing is left to change."""
        return self.comparison.complete and not (self.mends or self.held)


def mend(
    intent: Device, texts: Iterable[tuple[str, str]], catalogue: Catalogue = BUILT_IN, consent: Collection[str] = ()
) -> Mending:
    """Find what closes the differences between a device and its intent.

    Args:
        intent: The device as it should be.
        texts: File name and text of each of its captured configurations.
        catalogue: Where dialects are looked up.
        consent: Identities of differences that are closed even if that could cut the way by which the device is
            managed; those of other devices count for nothing here.

    Raises:
        CaptureError: If a text is damaged, or nothing in it can be understood.
        ChangeError: If what was worked out would not close the differences, or lose something.
        Refusals: If something that would have to be written cannot be.
        UnknownDialect: If the device speaks a dialect that there is not.
    """
    dialects = [catalogue.dialect(each) for each in intent.speaks]
    texts = with_included(dialects, texts)
    read = [(file, one) for file, text in texts for one in readings(dialects, text, file)]
    capture = assemble(intent.name, dialects, [one for _, one in read])
    comparison, every_gap = compared(intent, capture)
    gaps = every_gap
    programs = _programs(intent.name, dialects, read)
    # A rule for an interface that nobody knows was understood for all that, and may go.
    before = replace(comparison, leftovers=capture.leftovers)
    ruled: set[Section] = set()
    if programs:
        ruled = {section for _, one in read if one.by_hand for section in one.sections & {*RULES}}
        unmended = [gap.difference for gap in gaps if gap.difference.section in ruled]
        gaps = [gap for gap in gaps if gap.difference.section not in ruled]
    refuse_several(intent.name, gaps, consent)
    mender = _Mender(intent, dialects, dict(texts), read, capture, gaps)
    held = {index: one for index, one in cutting(intent, mender.there, gaps).items() if one.identity not in consent}
    held |= unchangeable(gaps, {section for each in dialects for section in each.carries})
    held |= entangled(gaps, [fact for _, one in read for fact in one.entangled])
    # What was asked for by name is done, whatever it cuts: of the rest only what diverts more than that is withheld.
    asked = [index for index, gap in enumerate(gaps) if gap.difference.identity in consent]
    done = closed(intent, mender.there, [gaps[index] for index in asked]) if asked else mender.there
    held |= diverting(intent, done, gaps, {*held, *asked})
    while True:
        held |= of_one_list(gaps, held, (intent, mender.there))
        mends, tried = mender.attempt(held)
        left, beside = tried.check(
            intent, dialects, before, held.values(), ruled, None if mends else every_gap
        )  # fmt: skip
        more = _depending(intent.name, left, gaps, held)
        if not more:
            break
        held |= more
    every = [*held.values(), *beside]
    if programs:
        changes, kept = ruleset_changes(intent, dialects, programs, dict(texts), comparison)
        mends += [
            Mend(each.ruleset.dialect.name, "rule-by-rule", each.change, each.undo, (each.text,)) for each in changes
        ]
        every += kept
        # What is no rule of the intent is not brought in: that replies pass, or that everything does.
        others = [each for each in unmended if each.effect != "no-effect" and not told_by_rules(each, comparison.rules)]
        every += [Held(name, NOT_OURS, firm=True) for name in dict.fromkeys(each.subject for each in others)]
    return Mending(intent.name, comparison, tuple(mends), tuple(every), says_management(intent, mender.there))


def refuse_several(name: str, gaps: Iterable[Gap], consent: Collection[str]) -> None:
    """Refuse consent that would be for more than one object.

    Raises:
        ChangeError: If it is.
    """
    for identity, found in several(gaps).items():
        if identity in consent:
            lines = ", ".join(dict.fromkeys(str(each.difference.intent or each.difference.device) for each in found))
            raise ChangeError(name, f"{identity} is what several are: {lines}. Give them names, to tell them apart.")


def _programs(name: str, dialects: Sequence[Dialect], read: Sequence[tuple[str, Reading]]) -> list[ProgramText]:
    """Return the texts that are programs which others wrote.

    Raises:
        ChangeError: If it is not worked out how one of them is changed.
    """
    named = {each.name: each for each in dialects}
    found = []
    for file, one in read:
        form = next(each for each in named[one.dialect].forms if each.name == one.form)
        if one.by_hand and form.change.how == "by-hand":
            raise ChangeError(
                name, f"{file} has rules that somebody else wrote: they are read and compared, and {one.dialect} does "
                "not say how they are changed. Change them by hand, at the lines that the differences name.",
            )  # fmt: skip
        if one.by_hand:
            found.append(ProgramText(named[one.dialect], form, file))
    return found


def _depending(name: str, left: Iterable[Gap], gaps: Sequence[Gap], held: Mapping[int, Held]) -> dict[int, Held]:
    """Find the differences that cannot be closed, since what they need is withheld.

    Raises:
        ChangeError: If something would be left that has nothing to do with that.
    """
    found: dict[int, Held] = {}
    for gap in left:
        one = gap.difference
        same = [at for at, each in enumerate(gaps) if each.difference.identity == one.identity and at not in held]
        if not same or not held:
            raise ChangeError(name, f"{TRIED} {one.subject} would {'still' if same else 'then'} differ")
        found |= {at: Held.of(one, DEPENDS) for at in same}
    return found


class _Mender:
    """Works out changes of one device.

    Args:
        intent: The device as it should be.
        dialects: Those that it speaks.
        texts: Its captured configurations, by name.
        read: What was read of them.
        capture: All of that together.
        gaps: What differs.

    Attributes:
        there: The device as it is.
    """

    def __init__(
        self, intent: Device, dialects: Sequence[Dialect], texts: Mapping[str, str],
        read: Sequence[tuple[str, Reading]], capture: Capture, gaps: Sequence[Gap],
    ) -> None:  # fmt: skip
        self.intent, self.dialects, self.texts = intent, dialects, texts
        self.read, self.capture, self.gaps = read, capture, gaps
        self.there = as_it_is(intent, capture)
        unread = {id(each) for _, one in read for each in one.leftovers}
        self.unheld = {(each.place.file, each.place.line) for each in capture.leftovers if id(each) not in unread}

    def attempt(self, held: Mapping[int, Held]) -> tuple[list[Mend], Trial]:
        """Work out what closes all differences but some, and try it."""
        closing = [gap for index, gap in enumerate(self.gaps) if index not in held]
        goal = self.after(self.there, closing, held)
        there = self.there
        mends: list[Mend] = []
        last: list[Mend] = []
        tried = Trial(self.intent.name, self.read, self.texts)
        taken: set[tuple[Section, int]] = set()
        for dialect in self.dialects:
            # Another dialect may have changed its part in the same text.
            own = [((file, tried.texts[file]), one) for file, one in self.read if one.dialect == dialect.name]
            carried = {each for each in dialect.carries if taken.isdisjoint(dialect.covered(each))}
            taken |= {each for section in carried for each in dialect.covered(section)}
            sections = _sections(closing, there, goal) & carried
            if not (own and sections):
                continue
            now, then = there, goal
            if not any(form.file for form in dialect.forms for _, one in own if form.name == one.form):
                # A running system does not come back to an MTU that follows from others: it is told.
                bare = self.after(without_usual_mtus(there), closing, held)
                now, then = (with_mtus(each) for each in (there, bare))
            was = facts_in(now, carried)
            if "routes" in carried:
                was["route"] = list(there.routes)  # those too that no packet takes now: it might when others go
            wanted = facts_in(then, carried)
            if "bridging" in carried and "interfaces" not in carried and dialect.forms[0].change.how == "typed":
                # What goes must go while its interface is there, and what comes in comes when it is.
                kept = {**was, "vlan-member": _staying(there, goal)}
                mends = [*_typed(dialect, was, kept, sections, tried), *mends]
                last += _typed(dialect, kept, wanted, sections, tried)
            else:
                mends += _mends(self.intent.name, dialect, own, was, wanted, _with_it(sections), tried, self.unheld)
        return [*mends, *last], tried

    def after(self, device: Device, closing: Sequence[Gap], held: Collection[int]) -> Device:
        """Return a device with differences closed."""
        goal = _with_held(closed(self.intent, device, closing), [self.gaps[index] for index in held])
        if not any(gap.difference.section == "interfaces" for gap in closing):
            return goal
        # An MTU that followed from that of another interface may not any more.
        left = find_gaps(self.intent, replace(self.capture, device=goal, sections=frozenset({"interfaces"})))
        kept = {self.gaps[index].difference.identity for index in held}
        return closed(self.intent, goal, [gap for gap in left if gap.difference.identity not in kept])


def _sections(closing: Iterable[Gap], there: Device, goal: Device) -> set[Section]:
    """Return the sections in which something changes."""
    sections = {each.difference.section for each in closing}
    if {each.name for each in goal.interfaces} - {each.name for each in there.interfaces}:
        sections.add("interfaces")  # what a route or a rule names comes with it
    if "interfaces" in sections:
        sections |= {"bridging", "dial-up"}  # what a member carries, and what is dialled, is said of the interface
    return sections


def _staying(there: Device, goal: Device) -> list[Fact]:
    """Return what is said of VLANs in bridges before and after, of interfaces that no system makes anew or moves."""

    def carried(device: Device) -> dict[Fact, object]:
        masters = {member: one.name for one in device.interfaces if one.bridge for member in one.bridge.members}
        stands = {one.name: (one.parent, one.vlan, one.bridge is None) for one in device.interfaces}

        def way(name: str) -> object:
            return stands.get(name), masters.get(name), stands.get(masters.get(name, ""))

        facts = facts_of(device)["vlan-member"]
        return {fact: way(fact.interface) for fact in facts if isinstance(fact, VlanMemberFact)}

    after = carried(goal)
    return [fact for fact, way in carried(there).items() if after.get(fact) == way]


def _typed(dialect: Dialect, there: Facts, goal: Facts, sections: Collection[Section], tried: Trial) -> list[Mend]:
    return _mends_of(dialect, dialect.forms[0], render_facts(dialect, there), goal, sections, tried)


def _with_held(goal: Device, held: Iterable[Gap]) -> Device:
    """Return a device with the entries of access that are withheld as they were."""
    access = list(goal.access)
    for gap in held:
        if gap.difference.section == "access":
            access = [each for each in access if each != gap.wanted]
            access += [gap.found] if gap.found is not None else []
    return replace(goal, access=tuple(access))


def _with_it(sections: set[Section]) -> set[Section]:
    """Return the sections that can change in a text when some do."""
    found = set(sections)
    if "answers" in sections:
        found.add("interfaces")  # many systems know them as addresses
    if not found.isdisjoint({"translations", "permits"}):
        found |= {"translations", "permits"}  # some permits speak of external addresses
    return found


def _mends(
    name: str,
    dialect: Dialect,
    own: Sequence[tuple[tuple[str, str], Reading]],
    there: Facts,
    goal: Facts,
    sections: Collection[Section],
    tried: Trial,
    unheld: Collection[tuple[str, int]],
) -> list[Mend]:
    """Return what changes in the texts of one dialect; those in a form that is only read are written anew first."""
    goal = named_as_there(goal, [reading.facts for _, reading in own], used_in(there) - used_in(goal))
    by_form: dict[str, list[tuple[str, str]]] = {}
    for pair, reading in own:
        by_form.setdefault(reading.form, []).append(pair)
    forms = [each for each in dialect.forms if each.name in by_form and each.file]
    if not forms:
        texts = render_facts(dialect, there)
        return _mends_of(dialect, dialect.forms[0], texts, goal, sections, tried)
    return [
        one for form in forms for one in _mends_of(dialect, form, by_form[form.name], goal, sections, tried, unheld)
    ]


def _mends_of(
    dialect: Dialect,
    form: Form,
    texts: list[tuple[str, str]],
    goal: Facts,
    sections: Collection[Section],
    tried: Trial,
    unheld: Collection[tuple[str, int]] = (),
) -> list[Mend]:
    before = outline(dialect, form, texts, unheld)
    after = outline(dialect, form, render_facts(dialect, goal, form))
    steps = align(before, after, sections)
    if not any(each.changes for each in steps):
        return []
    back = taken_back(steps)
    files = edited_texts(form, texts, steps)
    tried.changed(dialect, form, texts, files)
    if form.change.how == "typed":
        return [Mend(dialect.name, "typed", typed(form, steps), typed(form, back))]
    if form.change.how == "refilled":
        try:
            change = refilled(form, steps, handles_of(form.change, before, dict(texts)))
        except NoHandles as error:
            raise ChangeError(tried.device, _needs_handles(form, error.block)) from None
        return [Mend(dialect.name, "refilled", change, refilled(form, back))]
    return [Mend(dialect.name, "edited", patch(files), patch(each.back for each in files), tuple(files))]


def _needs_handles(form: Form, block: str) -> str:
    return (
        f"rules that are not ours stand in {block}, so it is not emptied; to alter it rule by rule takes handles, "
        f"which `{form.change.numbered}` prints"
    )
