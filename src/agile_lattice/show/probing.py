"""A test plan as text: what to send where, and what has to become of it."""

from __future__ import annotations

from itertools import groupby

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.behaviour.probing import Probe, ProbePlan
from agile_lattice.show.terminal import Text, located, plural


def show_plan(console: Console, plan: ProbePlan) -> None:
    """Print the probes of every device, the rules without one, and how many there are."""
    for device, members in groupby(plan.probes, key=lambda each: each.device):
        console.print(_table(device, list(members)))
    for each in plan.untested:
        words = Text(f"Not tested: {each.device} {each.rule}: {each.why}.  ", style="strong")
        console.print(words.append_text(located(each.place)))
    count = plural(len(plan.probes), "probe")
    console.print(Text(f"{count}: send each packet and compare the result.", style="head"))


def _table(device: str, probes: list[Probe]) -> Table:
    table = Table(box=box.SIMPLE_HEAD, expand=True, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    table.title, table.title_justify = Text(device, style="head"), "left"
    table.add_column("rule", overflow="fold")
    table.add_column("in", overflow="fold")
    table.add_column("packet", overflow="fold", ratio=3)
    table.add_column("expected result", overflow="fold", ratio=4)
    for each in probes:
        rule = (
            Text(each.rule.removeprefix("translation "))
            if each.hits
            else Text("  just outside the rule", style="place")
        )
        table.add_row(rule, each.arrives, Text(str(each.header)), _becomes(each))
    return table


def _becomes(probe: Probe) -> Text:
    if probe.after is None:
        return Text(probe.outcome, style="" if probe.end == "local" else "device")
    way, sent, got = Text(f"out {probe.leaves}"), probe.header, probe.after
    if sent == got:
        return way.append(" unchanged", style="place")
    if got.source != sent.source:
        way.append(f" from {got.source}", style="changed")
    if (got.destination, got.service) != (sent.destination, sent.service):
        service = f" {got.service}" if got.service != sent.service else ""
        way.append(f" to {got.destination}{service}", style="changed")
    return way
