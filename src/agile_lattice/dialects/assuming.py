"""What somebody takes for granted of packets: that conditions of rules are as an ordinary packet finds them.

A rule that applies within a rate, or to packets with options only, leaves open what becomes of a packet. Where somebody
asks for it by name, such conditions are taken to be as they usually are. That narrows what can become of a packet, and
proves nothing: whatever is answered then says what was assumed, and on which lines.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.usual import Usual
from agile_lattice.intent.places import Place

Assumption = Literal["within-rates", "ordinary"]
MEANS: Mapping[Assumption, str] = {
    "within-rates": "no rate, count or quota is exceeded",
    "ordinary": "packets are ordinary ones: hop limit 63 or 64, best effort, not fragmented, without options, "
    "extension headers or IPsec, sent to one host, and for no socket of the device",
}
OPEN = ("rate", "header", "system")  # the conditions of a step that may be as they usually are
MOST_TOLD = 5


class Assumed(msgspec.Struct, frozen=True):
    """A condition that was taken for granted.

    Attributes:
        what: By which assumption.
        condition: The condition, in its words.
        so: Whether it was taken to be so, or not to be so.
        place: Where it is asked.
    """

    what: Assumption
    condition: str
    so: bool
    place: Place


def assuming(capture: Capture, wanted: Sequence[Assumption], catalogue: Catalogue) -> Capture:
    """Return a capture in which conditions of its rules are taken to be as they usually are.

    Args:
        capture: What was read of a device.
        wanted: What is assumed.
        catalogue: Has the dialects, which say what is usual.
    """
    usual = [
        (name, catalogue.dialect(each).usual[name])
        for each in capture.device.speaks
        for name in wanted
        if name in catalogue.dialect(each).usual
    ]
    found: list[Assumed] = []
    programs = tuple(
        {**facts, "step": [*_steps(facts.get("step", ()), usual, found)]} if usual else facts
        for facts in capture.programs
    )
    return replace(capture, programs=programs, assumed=tuple(_told(wanted, found)))


def _steps(
    steps: Iterable[object], usual: Sequence[tuple[Assumption, Usual]], found: list[Assumed]
) -> Iterator[object]:
    """Yield steps without the conditions that are so, and no step of which one is not so."""
    for step in steps:
        left: object | None = step
        for kind in OPEN if isinstance(step, StepFact) else ():
            words = getattr(step, kind)
            for name, each in usual if words and left is not None else ():
                so = each.tells(words)
                if so is not None and isinstance(left, StepFact):
                    found.append(Assumed(name, words, so, left.place))
                    left = replace(left, **{kind: ""}) if so else None
                    break
        if left is not None:
            yield left


def _told(wanted: Sequence[Assumption], found: Sequence[Assumed]) -> Iterator[str]:
    """Yield what was assumed, each with the conditions that were taken for granted."""
    for name in dict.fromkeys(wanted):
        of_it = [each for each in found if each.what == name]
        lines = [f"{each.place} ({'' if each.so else 'not '}{each.condition})" for each in of_it[:MOST_TOLD]]
        more = [f"and {len(of_it) - MOST_TOLD} more"] if len(of_it) > MOST_TOLD else []
        if lines:
            yield f"{MEANS[name]}: {', '.join((*lines, *more))}"
