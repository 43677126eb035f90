"""A walk as text: for each device a table, a line for each stage, the header before and after side by side."""

from __future__ import annotations

from rich import box
from rich.console import Console, Group
from rich.table import Table

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.pipeline import Stage
from agile_lattice.behaviour.replies import Return
from agile_lattice.behaviour.walking import Visit, Walk
from agile_lattice.compare.beside import Beside
from agile_lattice.dialects.usual import assumed_in_words
from agile_lattice.show.terminal import NARROW, Text, located, plural

NAMES = {
    "arrival": "destination NAT",
    "way": "route lookup",
    "access": "management",
    "permits": "permits",
    "output": "output",
    "departure": "source NAT",
}


def show_walk(console: Console, walk: Walk) -> None:
    """Print the way of a packet, how it ends, and what comes back."""
    for visit in walk.visits:
        _show_visit(console, visit)
    style = "head" if walk.arrives else "strong"
    console.print(Text(walk.outcome, style=style))
    for words, alarming in reply_words(walk):
        console.print(Text(words, style="strong" if alarming else ""))


def reply_words(walk: Walk) -> list[tuple[str, bool]]:
    """Return what there is to say of the reply, each with whether that is in its way."""
    said = []
    if walk.answer is not None:
        there = walk.visits[-1].after.answer
        said.append((f"reply: {pair(there)}, seen by the sender as {pair(walk.answer)}", False))
    if walk.obstacle:
        said.append((f"but {walk.obstacle}", True))
    if walk.replied_elsewhere:
        way = ", then ".join(map(_return, walk.returns)) or "directly to the sender"
        said.append((f"the reply goes another way: {way}", False))
    return said


def pair(header: Header) -> str:
    """Return the two ends of a packet."""
    return f"{header.source} -> {header.destination}"


def _return(one: Return) -> str:
    sides = [f"in {one.arrives}"] * bool(one.arrives) + [f"out {one.leaves}"] * bool(one.leaves)
    return f"{one.device} ({', '.join(sides)})"


def show_both(console: Console, both: Beside) -> None:
    """Print the way of a packet as the intent says, and on devices as they were captured."""
    console.rule("as the intent says", style="place", align="left")
    show_walk(console, both.intent)
    console.print()
    console.rule("as captured", style="place", align="left")
    show_walk(console, both.captured)
    console.print()
    for each in both.unless:
        console.print(Text(f"not certain: not understood is {each}", style="strong"))
    for words in assumed_in_words(both.assumed):
        console.print(Text(f"assumed, as you asked, and not proven: {words}", style="strong"))
    if both.uncovered:
        console.print(Text(f"not captured, and taken as the intent says: {'; '.join(both.uncovered)}", style="strong"))
    if both.alike:
        words = "the same on both" if both.same else "the same on both, as far as it was captured and understood"
    elif "not known" in (both.captured.end, both.captured.reply):
        what = "it" if both.captured.end == "not known" else "its reply"
        words = f"not decided: what becomes of {what} on the devices as they were captured is not known"
    elif both.intent.fate == both.captured.fate:
        words = "it ends alike, as another packet"
    else:
        words = f"otherwise: {both.intent.fate}, as the intent says; {both.captured.fate}, as captured"
    console.print(Text(words, style="head" if both.same else "strong"))


def _show_visit(console: Console, visit: Visit) -> None:
    came = f"in {visit.arrives}" if visit.arrives else "sent by itself"
    way = f"{visit.device}: {came}" + (f", out {visit.leaves}" if visit.leaves else "")
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 2, 0, 0), header_style="head", title_justify="left")
    table.title = Text(way, style="head")
    rows = [
        ("", Text(str(visit.before)), Text("")),
        *((NAMES[each.stage], _packet(each), _decision(each)) for each in visit.stages),
    ]
    table.add_column("stage", no_wrap=True)
    if console.width < NARROW:
        table.add_column("packet and deciding rule", overflow="fold")
        for stage, packet, decision in rows:
            table.add_row(stage, Group(packet, decision) if stage else packet)
    else:
        table.add_column("packet", no_wrap=True)
        table.add_column("decided by", overflow="fold")
        for row in rows:
            table.add_row(*row)
    console.print(table)


def _packet(stage: Stage) -> Text:
    if stage.before == stage.after:
        return Text("unchanged", style="place")
    return Text.assemble(
        _changed(stage, "source"), " -> ", _changed(stage, "destination"), " ",
        (stage.after.service, "changed" if stage.before.service != stage.after.service else ""),
    )  # fmt: skip


def _changed(stage: Stage, field: str) -> Text:
    value = getattr(stage.after, field)
    return Text(str(value), style="changed" if value != getattr(stage.before, field) else "")


def _decision(stage: Stage) -> Text:
    words = Text(stage.decided or ("no rule matches" if stage.tested else "no rules"))
    if stage.note:
        words.append(f" ({stage.note})")
    if stage.place.line:
        words.append_text(Text.assemble("  ", located(stage.place)))
    if stage.tested:
        words.append(f", {plural(len(stage.tested), 'rule')} before it", style="place")
    return words
