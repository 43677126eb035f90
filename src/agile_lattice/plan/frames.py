"""The address plan as a pandas data frame."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from agile_lattice.intent.addresses import spell_value
from agile_lattice.plan.usage import Plan, rows

if TYPE_CHECKING:
    from pandas import DataFrame

COLUMNS = ["plan", "prefix", "first", "last", "count", "use", "holder", "what", "place"]


def address_frame(plans: Iterable[Plan]) -> DataFrame:
    """Return one row for every use and every spare run.

    Returns:
        A frame with the columns `COLUMNS`: addresses and places as text, `count` as a number
        of addresses (a Python integer: it may have more than 64 bits), `use` one of `usage.KINDS` or `spare`.
    """
    from pandas import DataFrame  # a heavy import, and only wanted here

    data = []
    for plan in plans:
        family = plan.prefix.family
        for (first, last), use in rows(plan):
            ends = spell_value(family, first), spell_value(family, last)
            about = (use.kind, use.holder, use.what, str(use.place)) if use is not None else ("spare", "", "", "")
            data.append((plan.name, str(plan.prefix), *ends, last - first + 1, *about))
    return DataFrame(data, columns=COLUMNS)
