"""Verdicts as text: the same for every packet, or which packets are not, each set with one that shows it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console, Group

from agile_lattice.compare.differences import NO_CAPTURE
from agile_lattice.compare.equivalence import Shown, Verdict
from agile_lattice.notation.lookup import few_names
from agile_lattice.show.differences import IF_SO, show_absent
from agile_lattice.show.terminal import FEW, Text, plural, roomy_table
from agile_lattice.show.walking import NAMES

MOST_MATCHES = 3
SOURCES = {"read": "as read", "intent": "as the intent has it", "assumed": "as you asked, and not proven"}
PARTS = {
    **NAMES,
    "answers": "proxy ARP and ND",
    "interface": "interface",
    "reverse path": "reverse path filter",
    "forwarding": "forwarding",
    "replies": "replies",
}


def show_verdicts(console: Console, verdicts: Sequence[Verdict], sides: tuple[str, str] = ("intent", "device")) -> None:
    """Print what was found out about some devices; of many of which the same is to be said, once."""
    alike: dict[str, list[str]] = {}
    for each in verdicts:
        if each.same:
            alike.setdefault(summary(each), []).append(each.device)
    absent = [each.device for each in verdicts if each.incomplete == (NO_CAPTURE,)]
    for each in verdicts:
        if each.device in absent:
            continue
        if not each.same or len(alike[summary(each)]) < FEW:
            show_verdict(console, each, sides)
    for words, names in alike.items():
        if len(names) >= FEW:
            console.print(Text(f"{few_names(names)}: {words}", style="head"))
    show_absent(console, absent)


def show_verdict(console: Console, one: Verdict, sides: tuple[str, str] = ("intent", "device")) -> None:
    """Print what was found out about a device; `sides` are what was compared, in words."""
    if one.shown:
        table = roomy_table()
        table.add_column("packets", ratio=5)
        for side in sides:
            table.add_column(side, ratio=6)
        for each in one.shown:
            table.add_row(*_row(each))
        console.print(table)
    if one.hidden:
        console.print(Text(f"And at least {plural(one.hidden, 'more set')} of packets, not examined.", style="strong"))
    for words in (*one.proof.undecided, *one.incomplete):
        console.print(Text(f"Not decided: {words}.", style="strong"))
    for source, words in SOURCES.items():
        told = "; ".join(each.what for each in one.granted if each.source == source)
        if told:
            console.print(Text(f"Taken for granted, {words}: {told}.", style="remedy"))
    console.print(Text(f"{one.device}: {summary(one)}", style="head"))


def summary(one: Verdict) -> str:
    """Say in words what was found out."""
    if one.same:
        return f"the same for every packet ({plural(one.proof.entries, 'rule')} and routes compared)"
    if one.same_if_so:
        return f"the same for every packet{IF_SO}"
    if one.different:
        count = sum(each.witness is not None for each in one.shown)
        more = " and more" if one.hidden else ""
        return f"different: {plural(count, 'set')} of packets{more} treated differently, with an example of each"
    if one.incomplete == (NO_CAPTURE,):
        return f"{NO_CAPTURE}, so nothing is proven"
    if one.shown:
        return "not decided: some packets may be treated differently"
    return "not decided for every packet: the same as far as known"


def _row(one: Shown) -> tuple[Group, Group, Group]:
    parting, witness = one.parting, one.witness
    what = [Text(PARTS[parting.part], style="head")]
    if parting.destinations is not None:
        what.append(Text(f"to {parting.destinations}"))
    if parting.interface:
        what.append(Text(f"in or out {parting.interface}"))
    if parting.region is not None:
        what += map(Text, parting.region.told(MOST_MATCHES))
    if parting.region is not None and witness is None:
        what.append(Text(f"for example {parting.region.example}", style="remedy"))
    left, right = [Text(parting.left, style="intent")], [Text(parting.right, style="device")]
    if witness is not None:
        what.append(Text(f"for example {witness.header}, in {witness.arrives}", style="remedy"))
        left.append(Text(witness.intent, style="remedy"))
        right.append(Text(witness.device, style="remedy"))
    else:
        what.append(Text(f"not decided: {one.unknown}", style="remedy"))
    return Group(*what), Group(*left), Group(*right)
