"""Rules for interfaces that nobody knows: whether there are such interfaces, no text and no intent says."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.model import Device, Section

SIDES = ("arrives", "leaves", "facing")
LISTS: tuple[Section, ...] = ("translations", "permits", "access")


def strangers(intent: Device, there: Device) -> list[Leftover]:
    """Return the rules of a device that are for interfaces which neither it nor its intent is known to have.

    Packets of such an interface may be treated by these rules as by no rule of the intent, so of them nothing is
    claimed; of all others nothing is taken back.

    Args:
        intent: The device as it should be.
        there: The device as it is.
    """
    known = [one.name for device in (intent, there) for one in device.interfaces]
    found: dict[tuple[str, int], Leftover] = {}
    for section in LISTS:
        for rule in getattr(there, section):
            for name in _unknown(rule, known):
                shown = f"{name[:-1]}..." if name.endswith("*") else name
                reason = f"it is for {shown}, and nothing says whether there is an interface of that name"
                left = Leftover(rule.place, rule.name or "a rule", (), reason, ())
                found.setdefault((rule.place.file, rule.place.line), left)
    return list(found.values())


def _unknown(rule: Any, known: list[str]) -> Iterator[str]:
    for field in SIDES:
        for name in getattr(rule, field, None) or ():
            if not name.startswith("!") and not any(includes((name,), each) for each in known):
                yield name
