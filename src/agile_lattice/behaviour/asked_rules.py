"""A list of rules that single packets are held against: the first that matches decides.

Rules are found by the address or port of the packet that tells most of them apart, so that of thousands only a few are
asked.
"""

from __future__ import annotations

from collections.abc import Sequence
from heapq import merge
from typing import Generic, TypeVar

from agile_lattice.behaviour.flows import Header, Tested, matches
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.stages import Rule
from agile_lattice.packets.spans import Marked, Spans

R = TypeVar("R", bound=Rule | Passage)
FIELDS = {"destination": "destination", "source": "source", "ports": "port"}  # of rules, and of headers


class AskedRules(Generic[R]):
    """A list of rules.

    Args:
        rules: The rules, in their order.
        told: How each is told.

    Attributes:
        rules, told: The same.
    """

    def __init__(self, rules: Sequence[R], told: Sequence[Tested]) -> None:
        self.rules, self.told = rules, tuple(told)
        self._by = max(FIELDS, key=lambda field: len({_spans(each, field) for each in rules}))
        spans = [_spans(each, self._by) for each in rules]
        self._anyhow = [at for at, each in enumerate(spans) if each is None]
        self._marked = Marked((span, at) for at, each in enumerate(spans) for span in each or ())

    def first(self, header: Header, arrives: str, leaves: str = "") -> int | None:
        """Return the position of the first rule that matches a packet; `None` if none does.

        Args:
            header: The packet as the rules see it.
            arrives: The ingress interface.
            leaves: The egress interface; empty where that is not known yet.
        """
        number = getattr(header, FIELDS[self._by])
        number = number.value if isinstance(number, Address) else number
        marked = self._marked.meeting((number, number)) if number is not None else []
        near = merge(self._anyhow, marked)
        return next((at for at in near if matches(self.rules[at], header, arrives, leaves)), None)


def _spans(rule: Rule | Passage, field: str) -> Spans | None:
    """Return what a rule says of a field; `None` if that may be anything."""
    said: AddressSet | Spans | None = getattr(rule, field)
    return said.spans if isinstance(said, AddressSet) else said
