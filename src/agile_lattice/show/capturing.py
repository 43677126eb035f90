"""Rounds of captures as text: what was fetched, and what was not and why."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from rich import box
from rich.console import Console
from rich.table import Table

from agile_lattice.archive.repository import Round
from agile_lattice.notation.lookup import few_names
from agile_lattice.show.terminal import FEW, Text, plural


def show_round(console: Console, outcomes: Sequence[tuple[str, Sequence[str], bool, str, str]]) -> None:
    """Print what came of each device: its name, its files, whether it changed, why it failed and what was said.

    Of many devices those of which the same is to be said are told together.
    """
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    table.add_column("device", no_wrap=len(outcomes) < FEW, overflow="fold")
    table.add_column("captured", overflow="fold")
    alike: dict[tuple[object, ...], list[tuple[str, Text]]] = {}
    for at, (device, files, changed, cause, detail) in enumerate(outcomes):
        if cause:
            said = Text.assemble((cause, "strong"), (f"\n{detail}" if detail else "", "remedy"))
        else:
            said = Text.assemble(
                ", ".join(files), ("  changed" if changed else "  as before", "head" if changed else "calm")
            )
        key = (cause or (tuple(files), changed),) if len(outcomes) >= FEW else (at,)
        alike.setdefault(key, []).append((device, said))
    for members in alike.values():
        count = f"{len(members)}: " if len(members) > 1 else ""
        table.add_row(f"{count}{few_names([name for name, _ in members])}", members[0][1])
    console.print(table)
    done = sum(not cause for *_, cause, _ in outcomes)
    failed = len(outcomes) - done
    changed_ones = sum(changed for _, _, changed, *_ in outcomes)
    words = f"{plural(done, 'device')} captured, {changed_ones} changed"
    console.print(Text(words + (f", {failed} not reached" if failed else ""), style="head"))


def show_log(console: Console, rounds: Iterable[Round], good: Mapping[str, list[str]]) -> None:
    """Print rounds, the last one first, with the devices of which each is known to be good."""
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="head")
    for name in ("revision", "when", "who"):
        table.add_column(name, no_wrap=True)
    table.add_column("changed", overflow="fold")
    for each in rounds:
        names = few_names(each.devices) or "nothing"
        known = f"  good: {', '.join(good[each.revision])}" if each.revision in good else ""
        table.add_row(
            each.revision[:10], each.when[:16].replace("T", " "), each.who, Text.assemble(names, (known, "calm"))
        )
    console.print(table)
