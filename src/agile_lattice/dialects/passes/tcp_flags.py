"""Which packets of TCP a step is about that asks for their flags (RFC 9293), among those that are well formed."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Literal

from agile_lattice.dialects.program_facts import StepFact
from agile_lattice.packets.spans import Spans, merged

NONE = "none"
BITS = ("fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr")
FLAGS = frozenset(BITS)
OPENS = "opening"  # a word for what opens a connection, among these flags
LOOKED_AT = frozenset({"fin", "syn", "rst", "ack"})
# Whoever opens a connection may offer explicit congestion notification (RFC 3168).
OPENING = [{"syn"}, {"syn", "ecn", "cwr"}]
FOLLOWING = [
    {"syn", "ack"}, {"syn", "ack", "ecn"}, {"ack"}, {"ack", "psh"}, {"ack", "fin"}, {"ack", "fin", "psh"},
    {"ack", "urg"}, {"ack", "psh", "urg"}, {"ack", "ecn"}, {"ack", "cwr"}, {"rst"}, {"rst", "ack"},
]  # fmt: skip


def asked_of(step: StepFact, opening: bool) -> Literal["all", "some", "none"]:
    """Tell of how many well-formed packets the flags are as a step asks.

    Args:
        step: The step.
        opening: Whether packets that open a connection are meant, or those that follow.
    """
    if step.flags is None and step.mask is None:
        return "all"
    negated, mask, wanted = _asked(step)
    packets = OPENING if opening else FOLLOWING
    # Where nothing is said of what is to be set, any one of them will do.
    fit = [bool(each & mask) if step.flags is None else ((each & mask) == wanted) != negated for each in packets]
    return "all" if all(fit) else "some" if any(fit) else "none"


def numbers_of(step: StepFact) -> Spans:
    """Return the values of the flags of TCP that a step asks for, each flag being a bit (RFC 9293, section 3.1)."""
    if step.flags is None and step.mask is not None:  # any of them will do
        mask = _bits(_set(step.mask))
        return merged((value, value) for value in range(256) if value & mask)
    negated, mask_set, wanted_set = _asked(step)
    mask, wanted = _bits(mask_set), _bits(wanted_set)
    return merged((value, value) for value in range(256) if ((value & mask) == wanted) != negated)


def _asked(step: StepFact) -> tuple[bool, frozenset[str], frozenset[str]]:
    """Return whether others are asked for, which flags are looked at, and which of them are set."""
    negated = any(each.startswith("!") for each in step.flags or ())
    words = [each.removeprefix("!") for each in step.flags or ()]
    if OPENS in words:
        return negated, LOOKED_AT, frozenset({"syn"})
    return negated, _set(step.mask) if step.mask is not None else FLAGS, _set(words)


def _bits(flags: Iterable[str]) -> int:
    return sum(1 << BITS.index(each) for each in flags)


def _set(words: Iterable[str]) -> frozenset[str]:
    """Return the flags of a list, however it is written."""
    return frozenset(flag for word in words for flag in re.split(r"\W+", word) if flag and flag != NONE)
