"""Differences as text: the intent on the left, the device on the right."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from rich.console import Console, Group
from rich.padding import Padding
from rich.table import Table

from agile_lattice.compare.applying import FELT
from agile_lattice.compare.by_effect import told_by_rules
from agile_lattice.compare.differences import NO_CAPTURE, Comparison, Difference, Effect
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.usual import assumed_in_words
from agile_lattice.intent.places import Place
from agile_lattice.notation.lookup import few_names
from agile_lattice.packets.spans import merged
from agile_lattice.show.counterparts import counted, show_counterparts
from agile_lattice.show.terminal import FEW, Text, located, plural, roomy_table, source_text

CHANGES = {
    "missing": "missing on the device",
    "extra": "extra on the device",
    "differs": "differs",
    "moved": "in a different order",
}
EFFECTS: dict[Effect, tuple[str, str]] = {
    "changes-traffic": ("changes traffic", "strong"),
    "may-change-traffic": ("may change traffic", "strong"),
    "description-only": ("description only", "calm"),
    "no-effect": ("no effect", "calm"),
}
IF_SO = ", as long as what you assumed is so"
ALIKE = 10  # lines that are shown of those that were not understood for one reason


def show_comparisons(console: Console, comparisons: Sequence[Comparison]) -> None:
    """Print what differs, device by device; of many that are the same only their names, and of many a closing count."""
    same = [each.device for each in comparisons if each.settled]
    captured = [each for each in comparisons if each.captured]
    for comparison in captured:
        if len(same) < FEW or not comparison.settled:
            show_comparison(console, comparison)
    if len(same) >= FEW:
        console.print(f"{len(same)} devices are the same as the intent: {few_names(same)}")
    if len(captured) >= FEW:
        effects = [one.effect for each in comparisons for one in each.differences]
        differ = sum(bool(each.differences) for each in comparisons)
        of_them = f", {differ} of them not as the intent says: {_counted(effects)}" if differ else ""
        partly = sum(not each.complete for each in captured)
        rest = f"; of {plural(partly, 'device')} not all was compared, or is shown" if partly else ""
        nothing = "" if differ or partly else ": no differences"
        console.print(Text(f"{len(captured)} devices compared{of_them}{rest}{nothing}", style="head"))
    show_absent(console, [each.device for each in comparisons if not each.captured])


def show_absent(console: Console, names: Sequence[str]) -> None:
    """Print which devices were not captured."""
    if names:
        console.print(Text(f"{few_names(names)}: {NO_CAPTURE}, so not compared", style="strong"))


def show_comparison(console: Console, comparison: Comparison) -> None:
    """Print what differs on one device, and a closing count."""
    rules = comparison.rules
    shown = shown_differences(comparison)
    if shown:
        console.print(_table(shown))
    if rules is not None:
        show_counterparts(console, rules)
    show_leftovers(console, comparison.leftovers)
    for section in comparison.unseen:
        taken = " Packets are followed as if it matched the intent." if section in FELT else ""
        console.print(Text(f"Not compared: {section} (no input covers this section).{taken}", style="strong"))
    for family in comparison.unseen_families:
        console.print(Text(f"Not compared: IPv{family} rules (no input covers them).", "strong"))
    for words in assumed_in_words(comparison.assumed):
        console.print(Text(f"Assumed, as you asked, and not proven: {words}.", style="strong"))
    console.print(Text(f"{comparison.device}: {summary(comparison)}", style="head"))


def shown_differences(comparison: Comparison) -> Sequence[Difference]:
    """Return the differences but those of lists of rules, where it is shown instead what the rules do."""
    return [each for each in comparison.differences if not told_by_rules(each, comparison.rules)]


def missing_words(comparison: Comparison) -> list[str]:
    """Return what was not compared, in words."""
    if not comparison.captured:
        return [NO_CAPTURE]
    found = [f"{section}: no input covers this section" for section in comparison.unseen]
    return found + [f"IPv{family} rules: no input covers them" for family in comparison.unseen_families]


def summary(comparison: Comparison) -> str:
    """Count what differs, in words."""
    if not comparison.captured:
        return f"{NO_CAPTURE}, so not compared"
    if comparison.same:
        return "the same as the intent" + IF_SO * bool(comparison.assumed)
    if not comparison.differences and not comparison.leftovers and not comparison.left_out:
        return "no difference in what was compared"
    if comparison.rules is None:
        text = _counted([one.effect for one in comparison.differences])
    else:
        others = [one.effect for one in shown_differences(comparison)]
        text = "; ".join([counted(comparison.rules), *([_counted(others) + " besides"] if others else [])])
    if comparison.left_out:
        text += f", {comparison.left_out} more not shown (counted in the exit code)"
    if comparison.leftovers:
        text += f", {plural(len(told_once(comparison.leftovers)), 'line')} not understood"
    return text


def _counted(found: Sequence[Effect]) -> str:
    effects = Counter(found)
    counted = [
        f"{effects[effect]} {_many(EFFECTS[effect][0], effects[effect])}" for effect in EFFECTS if effects[effect]
    ]
    return plural(len(found), "difference") + (f" ({', '.join(counted)})" if counted else "")


def _many(words: str, count: int) -> str:
    """Return what is said of one difference as it is said of so many: several change traffic."""
    return words if count == 1 else words.replace("changes ", "change ")


def _table(differences: Sequence[Difference]) -> Table:
    table = roomy_table()
    table.add_column("what", ratio=5)
    table.add_column("intent", ratio=6)
    table.add_column("device", ratio=6)
    for one in differences:
        word, style = EFFECTS[one.effect]
        what = Group(Text(one.subject, style="head"), Text.assemble(f"{CHANGES[one.change]}, ", (word, style)))
        left = [Text(f"{field.name}: {field.intent or '-'}", style="intent") for field in one.fields]
        right = [Text(f"{field.name}: {field.device or '-'}", style="device") for field in one.fields]
        notes = [Text(one.note, style="remedy")] if one.note else []
        if one.witness is not None:
            notes.append(Text(f"for example {one.witness.header}, in {one.witness.arrives}", style="remedy"))
        told = (one.witness.intent, one.witness.device) if one.witness is not None else ("", "")
        table.add_row(Group(what, *notes), _side(left, one.intent, told[0]), _side(right, one.device, told[1]))
    return table


def _side(values: Sequence[Text], place: Place, told: str) -> Group:
    end = [Text(told, style="remedy")] if told else []
    if not place.line:
        return Group(*(values or [Text("-", style="place")]), *end)
    line = source_text(place, 200)
    return Group(*values, located(place), *([line] if line else []), *end)


def show_leftovers(console: Console, leftovers: Sequence[Leftover]) -> None:
    """Print lines that were not understood, and why: of many for one reason the first, and where the others are."""
    if not leftovers:
        return
    console.print(Text("Not understood and not compared:", style="strong"))
    alike: dict[tuple[str, ...], list[Leftover]] = {}
    for one in told_once(leftovers):
        alike.setdefault((one.place.file, *one.block, one.reason), []).append(one)
    for group in alike.values():
        first = group[0]
        for one in group[:ALIKE]:
            console.print(Padding(Text.assemble((f"{one.place}  ", "place"), one.text), (0, 0, 0, 2)))
        if more := group[ALIKE:]:
            lines = runs(each.place.line for each in more)
            told = f"{first.place.file}:{lines}  ({plural(len(more), 'more line')}, for the same reason)"
            console.print(Padding(Text(told, style="place"), (0, 0, 0, 2)))
        inside = f"in {' / '.join(first.block)}: " if first.block else ""
        console.print(Padding(Text(f"{inside}{first.reason}", style="remedy"), (0, 0, 0, 6)))
    console.print()


def told_once(leftovers: Sequence[Leftover]) -> list[Leftover]:
    """Return leftovers without those that say the same of a line again: it can be left over in several lists."""
    return [*{(str(each.place), each.text, each.reason): each for each in leftovers}.values()]


def runs(lines: Iterable[int]) -> str:
    """Return line numbers with those that follow one another taken together.

    Example:
        >>> runs([7, 4, 5, 6, 9])
        '4-7, 9'
    """
    return ", ".join(f"{low}-{high}" if low < high else f"{low}" for low, high in merged((n, n) for n in lines))
