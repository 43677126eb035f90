"""Answers of prefix arithmetic as text: a line for each thing that follows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from rich.console import Console
from rich.table import Table

from agile_lattice.plan.calculation import Bounds, Capacity, Mask, Summary
from agile_lattice.show.terminal import Text

SHOWN = 64


def show_answer(console: Console, answer: Any) -> None:
    """Print an answer of `plan.calculation`."""
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    table.add_column(style="place")
    table.add_column()
    for name, value in _lines(answer):
        table.add_row(name, Text(value))
    console.print(table)


def _lines(answer: Any) -> Iterator[tuple[str, str]]:
    if isinstance(answer, Mask):
        yield "prefix length", f"/{answer.length}"
        yield "netmask", answer.netmask
        yield "wildcard", answer.wildcard
        yield "addresses", str(answer.addresses)
    elif isinstance(answer, Bounds):
        yield "network", str(answer.network)
        yield "hosts", f"{answer.first} to {answer.last}"
        yield "broadcast", str(answer.broadcast or "none")
        yield "addresses", f"{answer.addresses}, {answer.hosts} for hosts"
    elif isinstance(answer, Summary):
        yield "summary", str(answer.prefix)
        yield "covers too much", f"{answer.extra} addresses" if answer.extra else "nothing"
        for each in answer.too_much[:SHOWN]:
            yield "", str(each)
        yield "exactly", ", ".join(str(each) for each in answer.exact)
    elif isinstance(answer, Capacity):
        yield "addresses", f"{answer.addresses}: as many hosts at a time, if ports are kept"
        yield "connections", f"{answer.connections} for each protocol, if ports are shared"
        if answer.ports_per_host is not None:
            yield "ports for each host", str(answer.ports_per_host)
    else:
        for number, each in enumerate(answer[:SHOWN], 1):
            yield str(number), str(each)
        if len(answer) > SHOWN:
            yield "...", f"and {len(answer) - SHOWN} more; --format json has them all"
