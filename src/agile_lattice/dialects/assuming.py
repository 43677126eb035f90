"""What somebody takes for granted of packets: that conditions of rules are as an ordinary packet finds them.

A rule that applies within a rate, or to packets with options only, leaves open what becomes of a packet. Where somebody
asks for it by name, such conditions are taken to be as they usually are. That narrows what can become of a packet, and
proves nothing: whatever is answered then says what was assumed, and on which lines.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.usual import Assumed, Assumption, Usual

OPEN = ("rate", "header", "system")  # the conditions of a step that may be as they usually are


def assuming(capture: Capture, wanted: Sequence[Assumption], catalogue: Catalogue) -> Capture:
    """Return a capture in which conditions of its rules are taken to be as they usually are.

    Args:
        capture: What was read of a device.
        wanted: What is assumed.
        catalogue: Has the dialects, which say what is usual.
    """
    dialects = [catalogue.dialect(each) for each in capture.device.speaks]
    usual = [(name, each.usual[name]) for each in dialects for name in wanted if name in each.usual]
    found: list[Assumed] = []
    programs = tuple({**facts, "step": [*_left(facts.get("step", ()), usual, found)]} for facts in capture.programs)
    return replace(capture, programs=programs, assumed=tuple(found)) if usual else capture


def _left(
    steps: Iterable[StepFact], usual: Sequence[tuple[Assumption, Usual]], found: list[Assumed]
) -> Iterator[StepFact]:
    """Yield steps without the conditions that are so, and no step of which one is not so."""
    for step in steps:
        taken = [(kind, each) for kind in OPEN for each in _taken(getattr(step, kind), step, usual)]
        found += [each for _, each in taken]
        if all(each.so for _, each in taken):
            yield replace(step, **{kind: "" for kind, _ in taken}) if taken else step


def _taken(condition: str, step: StepFact, usual: Sequence[tuple[Assumption, Usual]]) -> Iterator[Assumed]:
    """Yield a condition of a step as it is taken for granted, if it is."""
    for name, each in usual:
        so = each.tells(condition)
        if so is not None:
            yield Assumed(name, condition, so, step.place)
            return
