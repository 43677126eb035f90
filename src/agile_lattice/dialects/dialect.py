"""What the definition of a dialect comes to, compiled for both directions."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Set
from functools import cached_property
from typing import Any, Literal

import msgspec

from agile_lattice.dialects.asking import Asked, What
from agile_lattice.dialects.fact_types import FactType
from agile_lattice.dialects.grammar import PASSED
from agile_lattice.dialects.lasting import Loading
from agile_lattice.dialects.making import Maker
from agile_lattice.dialects.passes import Pass
from agile_lattice.dialects.passes.families import FAMILIES, RULED
from agile_lattice.dialects.patterns import Pattern
from agile_lattice.dialects.reading.executing import Execution
from agile_lattice.dialects.reading.expanding import Expansion
from agile_lattice.dialects.semantics import Semantics
from agile_lattice.dialects.shapes import Shapes
from agile_lattice.dialects.surfaces import AnySurface
from agile_lattice.dialects.usual import Usual
from agile_lattice.intent.model import Section

Lets = tuple[str, str]
Which = tuple[int, str]  # the line of a phrase, and the phrase
Again = Literal["", "replaces", "adds", "refused"]
FIRST_WORDS = 2  # that two statements begin with, if they are about the same
FIRST, WIDE = 1 << 16, 1000  # how much of a text, and of each of its lines, is searched for signs
INSIDE = "*"  # what a block needs that is only written if something stands inside


class Phrase(msgspec.Struct, frozen=True):
    """One line of a table of phrases, compiled for both directions.

    Attributes:
        line: Its line in the file, from 1.
        pattern, shapes: The phrase for reading and for writing.
        conditions: The same for each statement that must stand inside.
        makes: The fact it makes; `None` if it adds to the enclosing one, or only holds others.
        aside: Whether it is passed over.
        always: Whether it is written whatever there is to say.
        written: Whether it is ever written; some are only read.
        needs: Kinds of facts of which there has to be one for it to be written; empty for none,
            `INSIDE` for anything that stands inside.
        denies: The list of rules that it opens, which drops what none of its rules lets pass; empty if it opens none.
        lets: What it lets pass before the rules of a list are asked: the list and, in one word, what; both empty if
            it is no such statement.
        wants: What the text has to have besides, or what it says takes no effect: words of the form.
        gives: What of that it is; empty for nothing.
        once: Whether a second one is not understood: which of them would decide is not said by the syntax.
        first: Whether its block has at most one of it: what is said more often has another phrase for the further ones.
        constants: Fields that it sets by being there.
        covers: A section that its presence shows the text to speak of.
        same: Fields in which two statements are the same one, so that the second takes the place of the first.
        again: What becomes of it if it is said again with other values: it `replaces` what was said before, `adds` to
            that, or is `refused`. If nothing is said, values are added to what holds several, and of what holds one
            the second is refused, since it is not known which of them counts.
        anew: Whether its statement cannot be altered where it is: what it makes goes, and is made anew.
        gone: What is typed to take its statement away, where that is not what the form says of all.
        block: The phrases inside; `None` if it opens no block.
        hands_on: Whether all that stands inside its block are facts, none of which it is itself: they come in the order
            of the text, with those beside it.
        wanted: The words of which each condition wants one to begin a statement inside, where that is known.
        insides: By the number of a condition, what may stand inside the statement that meets it; else nothing may.
        whole: Makes the fact of a statement that is one by itself, whatever stands around it; `None` if none is.
        passed: Whether what it says is passed over, and that is told.
        about: What that could be about; `None` for the sections of the facts that it makes, or all.
    """

    line: int
    text: str
    pattern: Pattern
    shapes: Shapes
    conditions: tuple[tuple[Pattern, Shapes], ...]
    makes: FactType | None
    aside: bool
    always: bool
    written: bool
    needs: tuple[str, ...]
    denies: str
    lets: Lets
    wants: tuple[str, ...]
    gives: str
    once: bool
    first: bool
    constants: Mapping[str, Any]
    covers: Section | None
    same: tuple[str, ...]
    again: Again
    anew: bool
    gone: Shapes | None
    block: Block | None
    hands_on: bool
    wanted: tuple[frozenset[str], ...]
    insides: Mapping[int, Block]
    whole: Maker | None
    passed: bool
    about: tuple[Section, ...] | None

    @property
    def which(self) -> Which:
        """What tells it from all others: those that several blocks share have the line of where they are used."""
        return self.line, self.text

    @property
    def kind(self) -> str:
        """The kind of fact that it makes; empty for none."""
        return self.makes.name if self.makes is not None else ""

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of facts that it makes: several, if its statement says several at once."""
        return tuple(each.name for each in self.makes.parts) or (self.makes.name,) if self.makes is not None else ()

    @property
    def sections(self) -> tuple[Section, ...]:
        """The sections that the facts it makes are of."""
        made = (self.makes.parts or (self.makes,)) if self.makes is not None else ()
        return tuple({each.section: None for each in made if each.section})

    @property
    def fields(self) -> tuple[str, ...]:
        """The fields that its placeholders say."""
        return tuple(hole[0] for hole in self.pattern.holes if hole is not None and hole[0] != PASSED)

    @property
    def valued(self) -> tuple[tuple[str, Any], ...]:
        """Those constants that are more than a word: a fact has to have these very values to be written so."""
        return tuple(each for each in self.constants.items() if not isinstance(each[1], str | bool))

    @property
    def only_adds(self) -> bool:
        """Whether it does nothing but add to the fact of the block that it stands in, or is passed over."""
        simple = not (self.once or self.covers or self.lets[1] or self.gives or self.passed or self.about is not None)
        return self.makes is None and simple

    def may_hold(self, heads: Set[str]) -> bool:
        """Tell whether its conditions can be met by statements with these first words."""
        return not any(map(heads.isdisjoint, self.wanted))


class Block(msgspec.Struct, frozen=True):
    """Phrases that stand side by side.

    Attributes:
        phrases: All, in order.
        by_word: Those that can match a statement with this first word, in order.
        loose: Those that can match any.
        makers: Those that make a fact, by the first words of it, and all of them by none.
    """

    phrases: tuple[Phrase, ...]
    by_word: Mapping[str, tuple[Phrase, ...]]
    loose: tuple[Phrase, ...]
    makers: Mapping[tuple[str, ...], tuple[Phrase, ...]]

    def all_phrases(self) -> Iterator[Phrase]:
        """Yield its phrases, and those inside them."""
        for each in self.phrases:
            yield each
            if each.block is not None:
                yield from each.block.all_phrases()

    def candidates(self, text: str) -> tuple[Phrase, ...]:
        """Return those that a statement can be, in order."""
        return self.by_word.get(text.partition(" ")[0], self.loose)


def _again(block: Block, owner: FactType | None) -> Iterator[tuple[tuple[str, str], Again]]:
    for each in block.phrases:
        kind = each.makes or owner
        if each.again and kind is not None:
            for name in (*each.fields, *each.constants):
                yield (kind.name, name), each.again
        if each.block is not None:
            yield from _again(each.block, kind)


class Change(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a configuration in one form is changed.

    Attributes:
        how: `edited` if it is a text that is edited, `typed` if each change is a statement of its own,
            `refilled` if a block that changes is emptied and filled again, in one transaction. Of texts that are
            programs, which others wrote: `rule-by-rule` if rules are put before others and taken away, `by-hand` if it
            is not worked out how.
        without: What is typed to take a statement away, `%` standing for the statement.
        again: Kinds of facts that go with an address of their interface, if another one of its subnet went: they
            are typed once more. (The kernel keeps such addresses as secondary ones of the first.)
        empty, fill, drop: What empties a block, adds a statement to it, and takes it away: `%block` are the
            words of the blocks without the first of each, `%` the statement, `%kind` the first word of the block.
        objects: First words of blocks that are no lists of rules and that rules may use: they are not emptied, and
            taken away when everything else is done, with all these words as their kind.
        handle: How a capture tells the number of a statement, as a regular expression with a group, behind it on its
            line. A block in which something stands that is not ours is not emptied, but altered by such numbers.
        insert, remove: What puts a statement before another, and takes one away, `%handle` being the other's number.
            For programs `%index` and `%number` are the place of a rule in its chain, from 0 and from 1, and `%chain` is
            the name of that.
        numbered: What captures such numbers, in words.
        own: What a rule begins with, `%chain` being its chain, where chains are no blocks.
    """

    how: Literal["edited", "typed", "refilled", "rule-by-rule", "by-hand"] = "edited"
    without: str = ""
    again: tuple[str, ...] = ()
    empty: str = ""
    fill: str = ""
    drop: str = ""
    objects: tuple[str, ...] = ()
    handle: str = ""
    insert: str = ""
    remove: str = ""
    numbered: str = ""
    own: str = ""

    @property
    def of_programs(self) -> bool:
        """Whether texts are programs that others wrote."""
        return self.how in ("rule-by-rule", "by-hand")


class Form(msgspec.Struct, frozen=True, dict=True):
    """One kind of text that a dialect speaks.

    Attributes:
        carries: The sections that a text in this form speaks of.
        before: Statements that are written first, and passed over in reading.
        file: What the text is called in a folder; empty for a form that is only read.
        change: How a configuration in this form is changed.
        only, unless: What has to be found in a text of this form, and what must not be, where two are alike.
        elsewhere: What is found where the system says that it has more than it shows.
        expand: What stands in its texts for other words, or for several statements.
        loading: How a text in this form comes into the running system, if it is not itself what is saved.
        missing: What is said where a text lacks what its facts want, by the word for it.
        execution: How its statements act on one another.
    """

    name: str
    carries: tuple[Section, ...]
    surface: AnySurface
    before: tuple[str, ...]
    block: Block
    file: str
    change: Change
    only: re.Pattern[str] | None = None
    unless: re.Pattern[str] | None = None
    elsewhere: re.Pattern[str] | None = None
    loading: Loading = Loading()
    expand: Expansion = Expansion()
    missing: Mapping[str, str] = {}
    execution: Execution = Execution()

    @cached_property
    def again(self) -> Mapping[tuple[str, str], Again]:
        """What becomes of a field that is said again, by the kind of the fact and the field, where a phrase says so."""
        return dict(_again(self.block, None))

    @property
    def lets(self) -> frozenset[Lets]:
        """What its statements let pass before the rules of its lists are asked."""
        return frozenset(each.lets for each in self.block.all_phrases() if each.lets[1])

    def begins(self, text: str) -> bool:
        """Tell whether a text begins as those that are written in this form."""
        first = text.split("\n", len(self.before))[: len(self.before)]
        return tuple(map(self.surface.bare, first)) == self.before

    def may_be(self, text: str) -> bool:
        """Tell whether a text bears the signs of this form; they stand in its first lines, and near their start."""
        if self.only is None and self.unless is None:
            return True
        head = "\n".join([line[:WIDE] for line in text[:FIRST].split("\n")])
        return (self.only is None or bool(self.only.search(head))) and not (self.unless and self.unless.search(head))


class Trial(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a system puts a whole configuration on trial by itself, and goes back unless it is confirmed in time.

    Attributes:
        revision: The command that prints what tells one running configuration from another.
        begin: The command that takes a configuration from its standard input, with `%seconds` for how long it stays
            if nobody confirms it, and `%revision` for the one that it is meant to follow.
        state: The command that tells whether a configuration is on trial.
        waiting: What its answer has in it if one is.
        confirm, back: The commands that let it stay, and that end the trial.
        save: The command that has it running after a restart, too; empty if there is none.
    """

    revision: str = ""
    begin: str = ""
    state: str = ""
    waiting: str = ""
    confirm: str = ""
    back: str = ""
    save: str = ""


class Running(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a running system is asked for its configuration, and told a change.

    Attributes:
        capture: By the name of a text the command that prints it; by `*` a pattern of files, each a text by itself.
        apply: The command that takes a change from its standard input; empty if there is none.
        whole: The command that takes a whole text, where a change is an edit of it; empty if there is none.
        back: The command that takes a change back, if it is another one: it goes on where something is not there.
        look: What prints the running state so that two times can be compared: without counters and ages.
        exact: What prints the numbers by which changes name things, if they do.
        resources: The top-level resources of RESTCONF that it is about, with their module.
        keys: By the name of a list in them, the names of its keys: an entry is changed by itself then.
        secrets: Regular expressions with a group, for passwords and keys in captured texts.
        shell: Whether commands are for a shell; else each is a request by itself.
        trial: How it puts a configuration on trial, if it does that by itself.
        hits: How a captured rule tells how often it was hit, as a regular expression with a group.
        observe: By what is asked (`translations` in use, `neighbours`, `interfaces`, `hits`), how that is done.
        observe_like: Another dialect whose questions its system answers, too; empty for none.
    """

    capture: dict[str, str] = {}
    apply: str = ""
    whole: str = ""
    back: str = ""
    look: str = ""
    exact: str = ""
    resources: tuple[str, ...] = ()
    keys: dict[str, tuple[str, ...]] = {}
    secrets: tuple[str, ...] = ()
    shell: bool = True
    trial: Trial = Trial()
    hits: str = ""
    observe: dict[What, Asked] = {}
    observe_like: str = ""


class Dialect(msgspec.Struct, frozen=True):
    """A configuration syntax.

    Attributes:
        forms: Kinds of text; the first is written, all are read.
        semantics: What it states of its device's ways.
        passes: Between facts and model, in the order of the way down.
        cannot: Reasons, by `fact.field`, why something cannot be expressed.
        running: How a system that runs it is asked and told.
        usual: By what can be assumed, the conditions of rules that are usually so, or not.
    """

    name: str
    title: str
    forms: tuple[Form, ...]
    semantics: Semantics
    passes: tuple[Pass, ...]
    cannot: Mapping[str, str]
    file: str
    running: Running = Running()
    usual: Mapping[str, Usual] = {}

    def says(self, kind: str) -> bool:
        """Tell whether it writes facts of a kind."""
        return any(kind in each.kinds and each.written for each in self.forms[0].block.all_phrases())

    @property
    def rules_for(self) -> tuple[int, ...]:
        """The address families that its rules are for; none if it carries no rules."""
        if RULED.isdisjoint(self.carries):
            return ()
        return FAMILIES if self.semantics.family is None else (self.semantics.family,)

    def covered(self, section: Section) -> set[tuple[Section, int]]:
        """Return for which families it speaks of a section, each with the section."""
        return {(section, family) for family in (self.rules_for if section in RULED else FAMILIES)}

    @property
    def carries(self) -> tuple[Section, ...]:
        """The sections of a device that this dialect can be asked to render."""
        return self.forms[0].carries
