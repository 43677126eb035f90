"""Rule lists put to a general solver: whether some packet is treated differently, asked in another way altogether."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce

import z3

from agile_lattice.packets.boxes import Box
from agile_lattice.packets.functions import Entry
from rule_lists import WIDTHS

PACKET = [z3.BitVec(f"dimension{at}", bits) for at, bits in enumerate(WIDTHS)]


def same(left: Sequence[Entry], right: Sequence[Entry]) -> bool:
    """Tell whether two lists do the same to every packet."""
    verdicts = {verdict: at for at, verdict in enumerate({each.action.verdict for each in (*left, *right)})}
    mine, its = _outcome(left, verdicts), _outcome(right, verdicts)
    asked = z3.Solver()
    asked.add(z3.Or(*(one != other for one, other in zip(mine, its, strict=True))))
    return bool(asked.check() == z3.unsat)


def applied(entries: Sequence[Entry], point: Sequence[int]) -> tuple[object, ...]:
    """Return what the first entry that matches a packet makes of it."""
    matching = (each for each in entries if all(_within(each.box, point)))
    return next(matching).action.applied(point)


def _within(box: Box, point: Sequence[int]) -> list[bool]:
    return [any(low <= at <= high for low, high in spans) for spans, at in zip(box, point, strict=True)]


def _outcome(entries: Sequence[Entry], verdicts: dict[object, int]) -> list[z3.ExprRef]:
    """Return the verdict and the numbers of a packet after a list, as terms."""
    found: list[z3.ExprRef] = [z3.IntVal(-1), *PACKET]
    for each in reversed(entries):
        sets, shifts = dict(each.action.sets), dict(each.action.shifts)
        numbers = [
            z3.BitVecVal(sets[at], bits) if at in sets else variable + shifts.get(at, 0)
            for at, (bits, variable) in enumerate(zip(WIDTHS, PACKET, strict=True))
        ]
        does = [z3.IntVal(verdicts[each.action.verdict]), *numbers]
        found = [z3.If(_matches(each.box), one, other) for one, other in zip(does, found, strict=True)]
    return found


def _matches(box: Box) -> z3.BoolRef:
    terms = []
    for variable, bits, spans in zip(PACKET, WIDTHS, box, strict=True):
        if spans != ((0, (1 << bits) - 1),):
            terms.append(z3.Or(*(z3.And(z3.UGE(variable, low), z3.ULE(variable, high)) for low, high in spans)))
    return reduce(z3.And, terms, z3.BoolVal(True))
