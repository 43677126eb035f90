"""What of a captured device is not known, because a line of its configuration was not understood."""

from __future__ import annotations

from msgspec.structs import replace

from agile_lattice.behaviour.unknown import Doubt, Unknown
from agile_lattice.dialects.assembly import Capture
from agile_lattice.intent.model import Section

# What a line that is about a section could decide; of sections that no packet feels, nothing.
DECIDES: dict[Section, tuple[str, ...]] = {
    "interfaces": ("interfaces",),
    "dial-up": ("interfaces",),
    "bridging": ("interfaces",),
    "answers": ("routes",),
    "routes": ("routes",),
    "translations": ("arrival", "departure"),
    "permits": ("permits",),
    "access": ("access",),
    "settings": ("interfaces",),
}


def unknown_of(capture: Capture) -> Unknown:
    """Return what of a device is not known."""
    doubts = []
    for each in capture.leftovers:
        parts = frozenset(part for section in each.sections for part in DECIDES.get(section, ()))
        if each.stage is not None:
            parts -= {"arrival", "departure"} - {each.stage}
        if parts:
            doubts.append(Doubt(each.place, parts, each.ordered))
    return Unknown(tuple(doubts))


def beyond_program(capture: Capture) -> Capture:
    """Return a capture without what only lists of rules cannot say, where its rules are a program: that says it."""
    if not capture.programs:
        return capture
    return replace(capture, leftovers=tuple(each for each in capture.leftovers if not each.in_program))
