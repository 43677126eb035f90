"""Differences of lists of rules, judged by what the rules do: that has the last word, however they are written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.behaviour.stage_lists import Listed
from agile_lattice.compare.counterparts import Counterpart, Counterparts, counterparts
from agile_lattice.compare.differences import Difference, Gap
from agile_lattice.compare.witnesses import Sides
from agile_lattice.dialects.reading.absent import LET
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.model import Section

STAGES_OF: dict[Section, set[Listed]] = {
    "translations": {"arrival", "departure"}, "permits": {"permits"}, "access": {"access"},
}  # fmt: skip
SUBJECTS: dict[Listed, str] = {
    "arrival": "destination NAT", "departure": "source NAT", "permits": "permit", "access": "management",
}  # fmt: skip


def by_what_they_do(sides: Sides, stages: Sequence[Listed]) -> Counterparts:
    """Hold the rules of a device against those of its intent, in some lists."""
    return counterparts(*sides.devices, stages, sides.unknown, sides.program, sides.families)


def told_by_rules(one: Difference, rules: Counterparts | None) -> bool:
    """Tell whether a difference is one of lists of rules that were held against each other by what they do."""
    lists = STAGES_OF.get(one.section)
    told = rules is not None and lists is not None and lists <= {*rules.stages}
    return told and not one.subject.startswith(tuple(LET.values()))


def settled(gaps: Iterable[Gap], rules: Counterparts) -> Iterator[Gap]:
    """Yield differences of lists of rules, with why they change nothing where that is so.

    Args:
        gaps: The differences.
        rules: The rules held against each other.
    """
    settling = _Settling(rules)
    for gap in gaps:
        note = settling.why(gap.difference)
        yield replace(gap, difference=replace(gap.difference, effect="no-effect", note=note)) if note else gap


class _Settling:
    """Tells why differences of lists of rules change nothing, by what the rules do.

    Args:
        found: The rules held against each other.
    """

    def __init__(self, found: Counterparts) -> None:
        self._found = found
        self._rules: dict[tuple[str, int], list[Counterpart]] = {}
        for each in found.rules:
            self._rules.setdefault((each.place.file, each.place.line), []).append(each)
        places = [each.place for rule in found.rules for each in (*rule.otherwise, *rule.maybe)]
        places += [each.packets.place for each in found.beyond]
        self._others = {(each.file, each.line) for each in places}
        self._certain = all(each.certain for each in found.rules)

    def why(self, one: Difference) -> str:
        """Tell why a difference changes nothing; empty if it may."""
        if self._found.undecided or not STAGES_OF.get(one.section, set()) & {*self._found.stages}:
            return ""
        if one.change == "missing":
            mine = self._rules.get((one.intent.file, one.intent.line), []) if one.intent.line else []
            lines = sorted({str(each) for rule in mine for each in rule.same if each.line})
            alike = mine and all(each.certain and not each.otherwise for each in mine)
            return f"same effect, by {' and '.join(lines)}" if alike and lines else ""
        line = one.device.file, one.device.line
        if one.change == "extra" and self._certain and (one.device.line == 0 or line not in self._others):
            return "the intent has the same effect"
        return ""


def not_told(leftovers: Iterable[Leftover], rules: Counterparts | None) -> Iterator[Leftover]:
    """Yield what was not understood, but for lines that only lists cannot say and of which rules tell what they do."""
    for each in leftovers:
        lists = {stage for section in each.sections for stage in STAGES_OF.get(section, ())}
        told = rules is not None and not rules.undecided and lists <= {*rules.stages}
        if not (each.in_program and told) or each.unread:
            yield each


def only_told_by_rules(device: str, rules: Counterparts, found: Sequence[Difference]) -> Iterator[Gap]:
    """Yield what lines of the device do otherwise of which no difference says it: no object is like them."""
    felt = {(each.device.file, each.device.line) for each in found if each.effect != "no-effect"}
    every = [(rule.stage, each) for rule in rules.rules for each in (*rule.otherwise, *rule.maybe)]
    every += [(each.stage, each.packets) for each in rules.beyond]
    for stage, each in every:
        line = each.place.file, each.place.line
        if line in felt:
            continue
        felt.add(line)
        section = next(name for name, lists in STAGES_OF.items() if stage in lists)
        note = f"{each.does}, for example {each.example}"
        note += f"; depending on {', and on '.join(each.depends)}" if each.depends else ""
        subject = f"{SUBJECTS[stage]} {each.place.told if each.place.line else 'where no rule matches'}"
        yield Gap(
            Difference("extra", section, subject, "may-change-traffic", note=note, device=each.place,
                       identity=f"{device}/{section}/{subject}"),
        )  # fmt: skip
