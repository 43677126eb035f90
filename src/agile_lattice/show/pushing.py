"""What came of pushes, as text."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from agile_lattice.notation.lookup import few_names
from agile_lattice.push.pushing import Pushed
from agile_lattice.show.terminal import Text, plural

OUTCOMES = {
    "back": "as it was before",
    "none": "nothing was changed",
    "refused": "nothing was changed",
    "left": "not begun",
    "stuck": "neither as before nor as the intent says",
    "lost": "not reached any more",
}
SUMMED = {
    "kept": "changed",
    "none": "not changed",
    "back": "as before",
    "refused": "refused",
    "left": "not begun",
    "lost": "lost",
    "stuck": "stuck",
}


def is_well(pushed: Pushed) -> bool:
    """Tell whether nothing is left to do, or nobody wanted it."""
    return pushed.outcome in ("kept", "none")


def show_waves(console: Console, waves: Sequence[Sequence[str]]) -> None:
    """Print which devices are changed at the same time, and after which others."""
    for number, wave in enumerate(waves, 1):
        console.print(Text.assemble((f"wave {number} of {len(waves)}: ", "head"), few_names(wave)))
    console.print()


def show_pushed(console: Console, outcomes: Sequence[Pushed]) -> None:
    """Print what came of each device; of several, those of which the same is to be said together."""
    alike: dict[str, list[Pushed]] = {}
    for each in outcomes:
        alike.setdefault(_words(each, len(outcomes) == 1), []).append(each)
    for words, members in alike.items():
        names = few_names([each.device for each in members])
        console.print(Text(f"{names}: {words}", style="head" if is_well(members[0]) else "strong"))
    if len(outcomes) > 1:
        counts = {words: sum(each.outcome == outcome for each in outcomes) for outcome, words in SUMMED.items()}
        said = ", ".join(f"{number} {words}" for words, number in counts.items() if number)
        console.print(Text(f"{plural(len(outcomes), 'device')}: {said}", style="head"))


def _words(pushed: Pushed, alone: bool) -> str:
    if pushed.outcome == "kept":
        return f"changed, and known to be good{f' as captured in {pushed.revision[:10]}' if alone else ''}"
    said = OUTCOMES.get(pushed.outcome, pushed.outcome)
    return f"{said}: {pushed.reason}" if pushed.reason else said
