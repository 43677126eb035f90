"""Walks as a table: the two ends of each, where they are and as the other end sees them."""

from __future__ import annotations

from collections.abc import Sequence

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from agile_lattice.behaviour.walking import Walk
from agile_lattice.intent.addresses import Address
from agile_lattice.show.terminal import plural


def show_flows(console: Console, walks: Sequence[Walk]) -> None:
    """Print a line for each, and how many get where they are meant to."""
    table = Table(box=box.SIMPLE_HEAD, expand=True, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for title in ("sender", "seen by the receiver", "receiver", "seen by the sender", "service"):
        table.add_column(title, no_wrap=True)
    table.add_column("end", ratio=1)
    for each in walks:
        sent, got = each.visits[0].before, each.visits[-1].after
        if not each.arrives:
            row = [Text(str(sent.source)), Text("-"), Text("-"), Text(str(sent.destination))]
        else:
            sides = (got.source, sent.source), (sent.destination, got.destination)
            row = [Text(str(sent.source)), _seen(*sides[0]), Text(str(got.destination)), _seen(*sides[1])]
        service = Text(sent.service if sent.service == got.service else f"{sent.service}, there {got.service}")
        table.add_row(*row, service, _end(each))
    console.print(table)
    stopped = sum(not each.arrives for each in walks)
    words = f", {stopped} stopped" if stopped else ""
    console.print(Text(f"{plural(len(walks), 'flow')}{words}", style="strong" if stopped else "head"))


def _seen(shown: Address, real: Address) -> Text:
    return Text("as it is", style="place") if shown == real else Text(str(shown), style="changed")


def _end(walk: Walk) -> Text:
    if not walk.arrives:
        return Text(f"{walk.end}: {walk.reason}", style="strong")
    last = walk.visits[-1]
    words = Text(f"{walk.end}, {last.device}" + (f" out by {last.leaves}" if last.leaves else ""))
    return words.append(f"; but {walk.way_back}", style="strong") if walk.way_back else words
