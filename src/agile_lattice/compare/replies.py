"""What lists of rules drop since nothing lets it pass before they are asked: whether it matters, and a reply."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from agile_lattice.behaviour.flows import Header, matches
from agile_lattice.behaviour.unknown import Unknown
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.witnesses import FAMILIES, Sides
from agile_lattice.dialects.reading.absent import Absent
from agile_lattice.intent.learned import families_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Passage, passages
from agile_lattice.intent.places import NOWHERE
from agile_lattice.packets.boxes import Undecided

MOST_WAYS = 100  # of treating packets, whose replies are looked at


def matters(absent: Absent, intent: Device, there: Device) -> bool:
    """Tell whether packets feel it: with rules of that list, and of neighbours with IPv6; its own replies always."""
    ruled = getattr(intent, absent.section) or getattr(there, absent.section) or absent.lets == "answers"
    return bool(ruled) and (absent.lets != "neighbours" or _has_ipv6(intent) or _has_ipv6(there))


def _has_ipv6(device: Device) -> bool:
    return any(
        6 in (*families_learned(one), *(each.family for each in one.addresses)) for one in device.interfaces
    )  # fmt: skip


def reply_dropped(sides: Sides, absent: Absent) -> Witness | None:
    """Find a packet that the device lets pass, and whose reply it drops.

    Args:
        sides: The device as it should be and as it is.
        absent: What it does not let pass.

    Returns:
        The packet; `None` if none was found. Replies to what the device itself sends are not looked for.
    """
    if absent.section != "permits" or absent.lets != "replies":
        return None
    rules = passages(sides.devices[1].permits)
    for family in FAMILIES:
        try:
            for name, header, found in islice(sides.passing(family), MOST_WAYS):
                visit = found.visits[-1]
                seen = next((each.before for each in visit.stages if each.stage == "permits"), None)
                if seen is None or not visit.leaves:
                    continue
                reason = _dropped(rules, absent, sides.unknown, seen.answer, visit.leaves, name)
                if reason:
                    reply = f"its reply {seen.answer}"
                    return Witness(name, header, f"it passes, and so does {reply}", f"it passes, and {reply} {reason}")
        except Undecided:
            continue
    return None


def _dropped(
    rules: Sequence[Passage], absent: Absent, unknown: Unknown, reply: Header, arrives: str, leaves: str
) -> str:
    """Tell why a reply is dropped; empty if it is not, or if a line that was not understood may let it pass."""
    for rule in rules:
        if unknown.before("permits", rule.place):
            return ""
        if absent.rest.line and rule.place.line > absent.rest.line:
            return ""
        if matches(rule, reply, arrives, leaves):
            return f"is dropped by {rule.name or 'a rule'} ({rule.place})" if rule.verdict == "drop" else ""
    known = not absent.rest.line and not unknown.before("permits", NOWHERE)
    return "is dropped: no rule lets it pass" if known else ""
