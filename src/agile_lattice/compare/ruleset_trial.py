"""Changes of a ruleset, tried on the captured text: only those are kept that do what they are for, and nothing else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from agile_lattice.compare.by_effect import by_what_they_do
from agile_lattice.compare.comparing import sides_of
from agile_lattice.compare.counterparts import Beyond, Counterpart, Counterparts
from agile_lattice.compare.pairs import Otherwise
from agile_lattice.compare.spoiling import spoils
from agile_lattice.compare.withholding import Held
from agile_lattice.compare.witnesses import Sides
from agile_lattice.dialects.assembly import assemble
from agile_lattice.dialects.changes.changing import TextChange, edited_texts
from agile_lattice.dialects.changes.inserting import Chains, Putting
from agile_lattice.dialects.changes.outline import outline
from agile_lattice.dialects.dialect import Dialect, Form
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.reading.parting import readings
from agile_lattice.intent.model import Device

Puttings = Mapping[str, Sequence[Putting]]  # into a text, by its name


class ProgramText(msgspec.Struct, frozen=True):
    """A text that is a program, of a device.

    Attributes:
        dialect, form: What it was read as.
        file: Its name.
    """

    dialect: Dialect
    form: Form
    file: str


class RulesetChange(msgspec.Struct, frozen=True):
    """What changes in a ruleset: the transaction, its undo, and the text before and after."""

    ruleset: ProgramText
    change: str
    undo: str
    text: TextChange


class Wanted(msgspec.Struct):
    """A change that is wanted.

    Attributes:
        subject: What it is about.
        tries: Ways of making it: of them the first is taken that does what it is for, and nothing else.
        why: Why it is withheld if none of the ways does.
        rule: The rule of the intent that it brings in.
        goes: How many things go by it that only the device does.
    """

    subject: str
    tries: Sequence[Puttings]
    why: str
    rule: Counterpart | None = None
    goes: int = 0


class RulesetTrial:
    """Changes of rulesets, each tried together with those before it.

    Args:
        intent: The device as it should be.
        dialects: Those that it speaks.
        rulesets: The texts that are programs.
        texts: All captured texts, by name.
        rules: Its rules by what they do.

    Attributes:
        chains: Each ruleset with its chains, by its name.
        now: The rules by what they do with the changes that were kept.
        held: What was withheld.
    """

    def __init__(
        self, intent: Device, dialects: Sequence[Dialect], rulesets: Sequence[ProgramText], texts: Mapping[str, str],
        rules: Counterparts,
    ) -> None:  # fmt: skip
        self.intent, self.dialects, self.texts, self.now = intent, list(dialects), texts, rules
        self.held: list[Held] = []
        self.chains = {
            each.file: (each, Chains(each.form, outline(each.dialect, each.form, [(each.file, texts[each.file])])))
            for each in rulesets
        }
        self.puttings: Puttings = {each.file: [] for each in rulesets}
        there = self._after(self.puttings)
        assert there is not None, "it was read before"
        self.there, self.unread = there

    def withhold(self, subject: str, why: str) -> None:
        """Withhold something, and say why."""
        self.held.append(Held(subject, why, firm=True))

    def keep(self, wanted: Sequence[Wanted]) -> list[Wanted]:
        """Keep changes that do what they are for; return them, and withhold the others.

        They are tried together, since each trial reads all texts again; if that does not do, half of them, and so on.
        """
        if len(wanted) > 1:
            if self._kept(together(each.tries[0] for each in wanted), wanted):
                return list(wanted)
            half = len(wanted) // 2
            return [*self.keep(wanted[:half]), *self.keep(wanted[half:])]
        for one in wanted:
            if any(self._kept(found, [one]) for found in one.tries):
                return [one]
            self.withhold(one.subject, one.why)
        return []

    def _kept(self, found: Puttings, wanted: Sequence[Wanted]) -> bool:
        """Keep changes if they do all that is wanted, and nothing to other packets; tell whether that is so."""
        tried = together((self.puttings, found))
        after = self._after(tried)
        if after is None:
            return False
        there, unread = after
        if unread != self.unread:
            return False
        rules = by_what_they_do(there, self.now.stages)
        if rules.undecided:
            return False
        if not all(each.rule is None or _closes(rules, each.rule) for each in wanted):
            return False
        if len(_beyond(rules)) > len(_beyond(self.now)) - sum(each.goes for each in wanted):
            return False
        if spoils(self.there, there, rules.stages):
            return False
        self.puttings, self.now, self.there = tried, rules, there
        return True

    def _after(self, tried: Puttings) -> tuple[Sides, list[str]] | None:
        """Read the device as it would be.

        Returns:
            The device on both sides, and the lines that were not understood with what is not let pass before any rule;
            `None` if what is written is not read.
        """
        texts = {**self.texts, **{file: self._text(file, tried[file]) for file in tried}}
        try:
            read = [one for file, text in texts.items() for one in readings(self.dialects, text, file)]
        except CaptureError:
            return None
        capture = assemble(self.intent.name, self.dialects, read)
        unread = [each.text for each in capture.leftovers if each.unread or not each.in_program]
        unread += [f"{each.lets} of {each.section} are not let pass" for each in capture.absent]
        return sides_of(self.intent, capture), unread

    def _text(self, file: str, puttings: Sequence[Putting]) -> str:
        ruleset, chains = self.chains[file]
        text = self.texts[file]
        changed = edited_texts(ruleset.form, [(file, text)], chains.steps(puttings))
        return changed[0].after if changed else text

    def changes(self) -> list[RulesetChange]:
        """Return what was kept, for each text one transaction."""
        found = []
        for file, (ruleset, chains) in self.chains.items():
            if self.puttings[file]:
                change, undo = chains.commands(ruleset.form, self.puttings[file], self.texts)
                text = TextChange(file, self.texts[file], self._text(file, self.puttings[file]))
                found.append(RulesetChange(ruleset, change, undo, text))
        return found


def together(several: Iterable[Puttings]) -> Puttings:
    """Return changes of texts as one of each text."""
    found: dict[str, list[Putting]] = {}
    for each in several:
        for file, puttings in each.items():
            found.setdefault(file, []).extend(puttings)
    return found


def _closes(found: Counterparts, rule: Counterpart) -> bool:
    same = (each for each in found.rules if each.stage == rule.stage and each.place.same_as(rule.place))
    return all(one.stray for each in same for one in to_close(each))


def to_close(rule: Counterpart) -> list[Otherwise]:
    """Return what the device does otherwise with packets of a rule, but for lines that may apply or not: these stay."""
    return [*rule.otherwise, *(each for each in rule.maybe if not each.conditional)]


def _beyond(found: Counterparts) -> list[Beyond]:
    return [each for each in found.beyond if not (each.packets.stray or each.packets.conditional)]
