"""Names that a device has for its zones, its sets of addresses and its services: what is written keeps them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.groups import stands_for
from agile_lattice.dialects.passes.sides import called_as

NAMED_KINDS = ("zone", "address-set", "service")


def named_as_there(goal: Facts, there: Sequence[Facts], gone: Collection[Any] = ()) -> Facts:
    """Return facts with the names that a device has already.

    Args:
        goal: The facts.
        there: What was read of each of the device's texts.
        gone: What nothing uses any more, as `used_in` has it: its names go.
    """
    zones, sets, services = ([fact for each in there for fact in each.get(kind, [])] for kind in NAMED_KINDS)
    return {
        **goal,
        "zone": called_as(goal.get("zone", []), zones),
        "address-set": [*(each for each in sets if stands_for(each) not in gone), *goal.get("address-set", [])],
        "service": [*(each for each in services if stands_for(each) not in gone), *goal.get("service", [])],
    }
