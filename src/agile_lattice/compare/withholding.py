"""Differences that a mend leaves as they are."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Sequence

import msgspec

from agile_lattice.compare.differences import Difference, Gap
from agile_lattice.dialects.facts import AddressFact, Fact
from agile_lattice.intent.model import Device

IN_ORDER = "addresses keep the order in which they were added: delete those in front, and add them again by hand"
PLACE_ONLY = "only its place in the order differs: whether a packet notices, the lines that were not understood decide"
DEPENDS = "it depends on a withheld change"
ENTANGLED = "a line that stands with it was not understood, and would be removed as well: remove it by hand"


class Held(msgspec.Struct, frozen=True):
    """A difference that is not closed.

    Attributes:
        subject: What the difference is about, in words.
        reason: What would be cut of the way by which the device is managed; or else what would be lost.
        firm: Whether it is not closed even if that is consented to.
        identity: Which object of which device it is; empty for what is no object of an intent.
    """

    subject: str
    reason: str
    firm: bool = False
    identity: str = ""

    @classmethod
    def of(cls, one: Difference, reason: str, firm: bool = False) -> Held:
        """Return that a difference is not closed."""
        return cls(one.subject, reason, firm, one.identity)


def unchangeable(gaps: Sequence[Gap], carried: Collection[str]) -> dict[int, Held]:
    """Find what nothing that is typed or edited changes: the order of addresses, and what no dialect writes.

    Args:
        gaps: All differences.
        carried: The sections that the device's dialects write; a text may speak of others, too.
    """
    found = {}
    for index, gap in enumerate(gaps):
        if gap.implied and gap.difference.change == "moved":
            found[index] = Held.of(gap.difference, IN_ORDER, firm=True)
        elif gap.difference.section not in carried:
            reason = f"none of the dialects that the device speaks writes {gap.difference.section}: add one to `speaks`"
            found[index] = Held.of(gap.difference, reason, firm=True)
    return found


def of_one_list(gaps: Sequence[Gap], held: Collection[int], devices: Iterable[Device]) -> dict[int, Held]:
    """Find the rules of management that stay because others do: where some deny, their order counts.

    Args:
        gaps: All differences.
        held: The indexes of those that are withheld.
        devices: The device as it should be, and as it is.

    Returns:
        By the index of the difference.
    """
    ruled = {index for index, gap in enumerate(gaps) if gap.difference.section == "access"}
    if ruled.isdisjoint(held) or not any(each.deny for device in devices for each in device.access):
        return {}
    return {index: Held.of(gaps[index].difference, DEPENDS) for index in sorted(ruled - {*held})}


def entangled(gaps: Sequence[Gap], facts: Collection[Fact]) -> dict[int, Held]:
    """Find addresses that could go only with something beside them that was not understood.

    Args:
        gaps: All differences.
        facts: Facts inside whose statements something stands that was not understood.

    Returns:
        By the index of the difference.
    """
    wanted = [gap.wanted for gap in gaps if gap.found is None and isinstance(gap.wanted, AddressFact)]
    coming = Counter((one.interface, one.address.family) for one in wanted)
    found = {}
    for index, gap in enumerate(gaps):
        fact = gap.found
        if gap.wanted is not None or not isinstance(fact, AddressFact) or fact not in facts:
            continue
        kind = fact.interface, fact.address.family
        if coming[kind]:
            coming[kind] -= 1  # its statement becomes that of another address
            continue
        found[index] = Held.of(gap.difference, ENTANGLED, firm=True)
    return found
