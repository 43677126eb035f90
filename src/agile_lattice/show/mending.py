"""Changes as text: the commands, and what is withheld."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding

from agile_lattice.compare.differences import NO_CAPTURE, Comparison
from agile_lattice.compare.mending import Mending
from agile_lattice.notation.lookup import few_names
from agile_lattice.show.differences import told_once
from agile_lattice.show.terminal import Text, plural, visible

HOW = {
    "typed": "commands for the running system",
    "refilled": "one transaction",
    "rule-by-rule": "one transaction, other rules stay",
    "edited": "a patch for the captured files",
}


def show_changes(console: Console, mendings: Sequence[Mending], undo: bool = False) -> None:
    """Print changes, or what takes them back; a single one as it is, so that it can be piped into a program."""
    # What came last is taken back first.
    changes = [(each, one) for each in mendings for one in (each.mends[::-1] if undo else each.mends)]
    if not changes and not any(each.held for each in mendings):
        everything = all(each.comparison.complete for each in mendings)
        console.print(Text(f"Nothing to change{'' if everything else ' in what was compared'}.", style="head"))
    for index, (mending, one) in enumerate(changes):
        text = one.undo if undo else one.change
        if len(changes) > 1:
            if index:
                console.print()
            lines = plural(text.count("\n"), "line")
            what = "undo" if undo else HOW[one.how]
            console.rule(f"{mending.device}: {one.dialect} ({what}; {lines})", style="place", align="left")
        # As it is, tabs and all, so that it can be piped; on a terminal nothing in it controls that.
        console.file.write(visible(text) if console.is_terminal else text)


def show_held(console: Console, mendings: Sequence[Mending]) -> None:
    """Print what was not compared, and the differences that are not closed, with the reason."""
    absent = [each.device for each in mendings if not each.comparison.captured]
    if absent:
        console.print(Text(f"{few_names(absent)}: {NO_CAPTURE}, so nothing is changed", style="strong"))
    open_ = [each.device for each in mendings if each.mends and not each.guarded]
    if open_:
        words = f"{few_names(open_)}: lock-out protection is off: the intent declares no management path"
        console.print(Text(words, style="remedy"))
    for mending in mendings:
        if mending.comparison.captured and not mending.comparison.complete:
            words = f"{mending.device}: not compared: {_not_compared(mending.comparison)}. `lattice diff` says why."
            console.print(Text(words, style="strong"))
        for one in mending.held:
            console.print(Text.assemble((f"{mending.device}: {one.subject}", "strong"), " is withheld"))
            hint = one.reason if one.firm else f"{one.reason}. To change it anyway: --allow-lockout '{one.identity}'"
            console.print(Padding(Text(hint, style="remedy"), (0, 0, 0, 2)))


def _not_compared(one: Comparison) -> str:
    names = [*one.unseen, *(f"IPv{family} rules" for family in one.unseen_families)]
    if one.leftovers:
        names.append(f"{plural(len(told_once(one.leftovers)), 'line')} not understood")
    return ", ".join(names)
