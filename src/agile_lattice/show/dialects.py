"""Dialects as text: the list, what each can carry, and what became of a sample."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.reaching import MOST
from agile_lattice.dialects.reference import FactReference, KindReference
from agile_lattice.dialects.trying import NOT_ITS_SECTION, REFUSED, SAME, Taken, Trial
from agile_lattice.show.differences import show_leftovers
from agile_lattice.show.terminal import Text, plural

YES, NO = "yes", "-"


def show_list(console: Console, dialects: Sequence[Dialect]) -> None:
    """Print the names of dialects, what they are, and which sections they carry."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for column in ("dialect", "what it is", "carries"):
        table.add_column(column)
    for one in dialects:
        table.add_row(Text(one.name, style="intent"), one.title, ", ".join(one.carries))
    console.print(table)


def show_matrix(console: Console, matrix: Mapping[str, Mapping[str, str]], names: Sequence[str]) -> None:
    """Print what each dialect can carry.

    Args:
        console: Where to.
        matrix: For each object and dialect nothing if it is carried, else the reason why not.
        names: The dialects.
    """
    first = max(map(len, matrix), default=0)
    for part in _side_by_side(names, console.width - first - 2):
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1, 0, 0), header_style="head")
        table.add_column("what", min_width=first)
        for name in part:
            table.add_column(name, justify="center", no_wrap=True)
        for what, reasons in matrix.items():
            table.add_row(what, *(_mark(reasons[name]) for name in part))
        console.print(table)
    console.print(
        Text(f"{YES}: written and read back as the same; {NO}: refused; empty: not its section", style="remedy")
    )


def show_facts(console: Console, facts: Sequence[FactReference]) -> None:
    """Print what statements can say: each fact, and its fields."""
    for fact in facts:
        section = f"  ({fact.section})" if fact.section else ""
        console.print(Text.assemble((fact.name, "intent"), (section, "place"), f"  {fact.meaning}"))
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
        for column in ("field", "holds", "meaning"):
            table.add_column(column, overflow="fold")
        for field in fact.fields:
            default = {"": " (required)", "nothing": ""}.get(field.default, f" (default: {field.default})")
            table.add_row(f"  {field.name}", f"{field.holds}{default}", field.meaning)
        console.print(table)
        console.print()


def show_kinds(console: Console, kinds: Sequence[KindReference]) -> None:
    """Print the types that every dialect has."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for column in ("type", "reads", "such as"):
        table.add_column(column, overflow="fold")
    for kind in kinds:
        table.add_row(Text(kind.name, style="intent"), kind.reads, Text(kind.example))
    console.print(table)


def _side_by_side(names: Sequence[str], width: int) -> Iterator[Sequence[str]]:
    """Part columns into as few equal parts as find room beside one another."""
    for parts in range(1, len(names) + 1):
        size = -(-len(names) // parts)
        found = [names[at : at + size] for at in range(0, len(names), size)]
        if size == 1 or all(sum(len(each) + 2 for each in part) <= width for part in found):
            yield from found
            return


def _mark(reason: str) -> Text:
    if not reason:
        return Text(YES, style="intent")
    return Text("" if reason == NOT_ITS_SECTION else NO, style="place")


def show_trial(console: Console, trial: Trial, intent: str) -> None:
    """Print how the lines of a sample were understood, what came out, and what changes when it is written again."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for column in ("line", "understood", "as the dialect says it"):
        table.add_column(column, overflow="fold")
    for one in sorted(trial.taken, key=lambda each: each.line):
        table.add_row(str(one.line), one.text, _phrase(one))
    console.print(table)
    console.print()
    if trial.reached:
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
        for column in ("line", "value", "as", "in the intent"):
            table.add_column(column, overflow="fold")
        for value in trial.reached:
            where = Text(value.at) if value.at else Text("nowhere: without it the intent is the same", style="strong")
            table.add_row(str(value.line), value.value, value.field, where)
        console.print(table)
        if len(trial.reached) == MOST:
            console.print(Text(f"Only the first {MOST} values were tried.", style="strong"))
        console.print()
    show_leftovers(console, trial.capture.leftovers)
    console.print(Text("The intent that came out:", style="head"))
    console.print(Text(intent))
    if trial.again == REFUSED:
        console.print(Text("It cannot be written again:", style="strong"))
        for each in trial.refusals:
            console.print(Text(f"  {each}"))
    elif trial.again != SAME:
        console.print(Text("It is written again, and reads as something else:", style="strong"))
    if trial.changes:
        console.print(Text("What changes when it is written again, besides blanks:", style="head"))
        for line in trial.changes:
            console.print(Text(line, style={"-": "extra", "+": "missing"}.get(line[0], "place")))
        console.print()
    left = plural(len(trial.capture.leftovers), "line") if trial.capture.leftovers else "nothing"
    said = f"{trial.form}: {plural(len(trial.taken), 'statement')} understood, {left} left over"
    console.print(Text(f"{said}; written and read again: {trial.again}", style="head"))


def _phrase(one: Taken) -> Text:
    return Text.assemble((f"{one.definition_line}: ", "place"), one.definition)
