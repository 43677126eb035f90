"""Differences of many devices as text: one row for each difference, with the devices that have it."""

from __future__ import annotations

from collections.abc import Sequence

from rich import box
from rich.console import Console, Group
from rich.table import Table

from agile_lattice.compare.differences import NO_CAPTURE
from agile_lattice.compare.fleets import OWN, Shared
from agile_lattice.notation.lookup import few_names
from agile_lattice.show.differences import CHANGES, EFFECTS, show_absent
from agile_lattice.show.terminal import Text, plural


def show_by_difference(console: Console, found: Sequence[Shared], devices: int) -> None:
    """Print what differs, each difference once; `devices` are those that were compared."""
    absent = [name for each in found if each.subject == NO_CAPTURE for name in each.devices]
    found = [each for each in found if each.subject != NO_CAPTURE]
    if found:
        table = Table(
            box=box.SIMPLE_HEAD, expand=True, pad_edge=False, padding=(0, 2, 0, 0), leading=1, header_style="head"
        )
        for name, ratio in (("devices", 4), ("what", 5), ("intent", 4), ("device", 4)):
            table.add_column(name, ratio=ratio)
        for each in found:
            table.add_row(*_row(each))
        console.print(table)
    of_them = len({name for each in found for name in each.devices})
    shared = sum(len({*each.devices}) > 1 for each in found)
    said = f": {plural(len(found), 'difference')}, {shared} of them on several devices" if found else ""
    are = "is" if of_them == 1 else "are"
    some = f"{of_them} of {plural(devices, 'device')} {are} not as the intent says{said}"
    console.print(Text(some if found else f"{plural(devices, 'device')} compared: no differences", style="head"))
    show_absent(console, absent)


def own_words(one: Shared) -> list[str]:
    """Say what stands in the place of the dots, for the first device."""
    return [f"{OWN} is {', '.join(one.own[0])} on {one.devices[0]}"] if one.own else []


def _row(one: Shared) -> tuple[Group | Text, ...]:
    names = list(dict.fromkeys(one.devices))
    who = Group(Text(str(len(names)), style="strong"), Text(few_names(names)))
    word, style = EFFECTS[one.effect]
    change = CHANGES.get(one.change, "not compared")
    example = [Text(each, style="calm") for each in own_words(one)]
    what = Group(Text(one.subject, style="head"), Text.assemble(f"{change}, ", (word, style)), *example)
    left = Text("\n".join(f"{each.name}: {each.intent or '-'}" for each in one.fields), style="intent")
    right = Text("\n".join(f"{each.name}: {each.device or '-'}" for each in one.fields), style="device")
    return who, what, left, right
