"""Walks as a table: the two ends of each, where they are and as the other end sees them."""

from __future__ import annotations

from collections.abc import Sequence

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.behaviour.walking import Walk
from agile_lattice.intent.addresses import Address
from agile_lattice.show.terminal import NARROW, Text, plural


def show_flows(console: Console, walks: Sequence[Walk]) -> None:
    """Print a line for each, why some do not get where they are meant to, and how many these are.

    Where there is no room for seven columns, how an end is seen from the other stands below where it is.
    """
    rows = [_row(each) for each in walks]
    stacked = console.width < NARROW
    titles = ["sender", "seen as", "receiver", "addressed as", "service", "result", "last device"]
    if stacked:
        titles[0:4] = ["sender\nseen as", "receiver\naddressed as"]
        rows = [(_stacked(row[:2]), _stacked(row[2:4]), *row[4:]) for row in rows]
    table = Table(
        box=box.SIMPLE_HEAD, expand=True, pad_edge=False, padding=(0, 2, int(stacked), 0), header_style="head"
    )
    for title in titles:
        table.add_column(title, overflow="fold")
    for row in rows:
        table.add_row(*row)
    console.print(table)
    for each in walks:
        why = each.obstacle if each.arrives else each.reason
        if why:
            console.print(Text(f"{each.visits[0].before}: {'but ' if each.arrives else ''}{why}", style="strong"))
    stopped, lost = (sum(map(each, walks)) for each in (_stops, _is_not_answered))
    words = [plural(len(walks), "flow"), *[f"{stopped} stopped"][:stopped], *[f"{lost} not answered"][:lost]]
    console.print(Text(", ".join(words), style="strong" if stopped or lost else "head"))


def _stops(walk: Walk) -> bool:
    return not walk.arrives


def _is_not_answered(walk: Walk) -> bool:
    return walk.arrives and not walk.succeeds


def _stacked(texts: Sequence[Text]) -> Text:
    one = Text()
    for at, each in enumerate(texts):
        one.append_text(Text("\n" if at else "")).append_text(each)
    return one


def _row(walk: Walk) -> tuple[Text, ...]:
    sent, last = walk.visits[0].before, walk.visits[-1]
    got = last.after
    words = f"{walk.end}, not answered" if _is_not_answered(walk) else walk.end
    end, where = Text(words, style="" if walk.succeeds else "strong"), Text(f"{last.device} {last.leaves}".rstrip())
    if not walk.arrives:
        return Text(str(sent.source)), Text("-"), Text("-"), Text(str(sent.destination)), Text(sent.service), end, where
    service = sent.service if sent.service == got.service else f"{sent.service} -> {got.port}"
    return (
        Text(str(sent.source)), _seen(got.source, sent.source), Text(str(got.destination)),
        _seen(sent.destination, got.destination), Text(service), end, where,
    )  # fmt: skip


def _seen(shown: Address, real: Address) -> Text:
    return Text("unchanged", style="place") if shown == real else Text(str(shown), style="changed")
