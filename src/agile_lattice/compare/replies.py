"""What lists of rules drop since nothing lets it pass before they are asked: whether it matters, and a reply."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header, matches
from agile_lattice.behaviour.matching import PROTOCOL, Space
from agile_lattice.behaviour.unknown import Unknown
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.witnesses import FAMILIES, Sides
from agile_lattice.dialects.passes.families import EVERYBODY
from agile_lattice.dialects.reading.absent import Absent
from agile_lattice.intent.learned import families_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import Passage, passages
from agile_lattice.intent.stages import named_families
from agile_lattice.packets.boxes import Box, Undecided

MOST_WAYS = 100  # of treating packets, whose replies are looked at


def matters(absent: Absent, intent: Device, there: Device) -> bool:
    """Tell whether packets feel it: with rules of that list, and of neighbours with IPv6; its own replies always."""
    if absent.family == 6 and absent.lets != "answers" and not (_has_ipv6(intent) or _has_ipv6(there)):
        return False  # nothing of that family is sent through it, nor to it
    if absent.family is not None and absent.section == "permits" and _all_dropped(there, absent.family):
        return False  # there is nothing to reply to
    ruled = getattr(intent, absent.section) or getattr(there, absent.section) or absent.lets == "answers"
    return bool(ruled) and (absent.lets != "neighbours" or _has_ipv6(intent) or _has_ipv6(there))


def _all_dropped(device: Device, family: int) -> bool:
    """Tell whether a device passes nothing of an address family on."""
    rules = [each for each in passages(device.permits) if named_families(each) <= {family}]
    return bool(rules) and all(each.verdict == "drop" for each in rules)


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
    refused = () if absent.rest.line else (Passage("drop"),)
    rules = absent.rules if absent.rules is not None else (*passages(sides.devices[1].permits), *refused)
    for family in FAMILIES if absent.family is None else (absent.family,):
        space = sides.space(family)
        answered = [_answered_by(each, space) for each in rules if each.verdict == "drop" and space.speaks(each)]
        try:
            for name, header, found in islice(sides.passing(family, answered), MOST_WAYS):
                visit = found.visits[-1]
                seen = next((each.before for each in visit.stages if each.stage == "permits"), None)
                if seen is None or not visit.leaves:
                    continue
                reason = _dropped(rules, absent, sides.unknown, seen.answer, visit.leaves, name)
                if reason:
                    reply = f"its reply {seen.answer}"
                    told = f"it passes, and so does {reply}", f"it passes, and {reply} {reason}"
                    return Witness(name, header, *told)
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
            if rule.verdict == "pass":
                return ""
            last = replace(rule, name="", source=None) == Passage("drop") and rule.source in EVERYBODY
            return (
                "is dropped: no rule lets it pass" if last else f"is dropped by {rule.name or 'a rule'} ({rule.place})"
            )
    return ""


def _answered_by(rule: Passage, space: Space) -> Box:
    """Return all packets, as they are behind destination NAT, whose replies a rule could match."""
    protocol = space.of_rule(rule)[PROTOCOL]
    turned = space.box(rule.leaves, None, rule.destination, rule.source)
    return (*turned[:PROTOCOL], protocol, *turned[PROTOCOL + 1 :])
