"""Which object a difference is about: a name that consent can be given to, and that no wording changes.

    quay/routes/10.9.0.0/16 via 10.40.10.9
    quay/access/office-ssh
    quay/access/from lan0, service tcp/22          without a name: what it matches

An identity names one device and one object. Descriptions, names that others give it, and the words of messages are no
part of it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from msgspec.structs import replace

from agile_lattice.compare.differences import Gap
from agile_lattice.notation.identity import object_key


def identified(device: str, gaps: Iterable[Gap]) -> list[Gap]:
    """Return differences of a device with the identities of what they are about."""
    return [replace(gap, difference=replace(gap.difference, identity=_identity(device, gap))) for gap in gaps]


def several(gaps: Iterable[Gap]) -> dict[str, list[Gap]]:
    """Return the identities that more than one object has, with their differences."""
    found: dict[str, dict[tuple[int, int], list[Gap]]] = defaultdict(lambda: defaultdict(list))
    for gap in gaps:
        found[gap.difference.identity][id(gap.wanted), id(gap.found)].append(gap)
    return {name: [gap for each in of.values() for gap in each] for name, of in found.items() if len(of) > 1}


def _identity(device: str, gap: Gap) -> str:
    one = gap.wanted if gap.wanted is not None else gap.found
    return f"{device}/{gap.difference.section}/{object_key(one) or gap.difference.subject}"
