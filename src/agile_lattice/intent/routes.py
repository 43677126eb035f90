"""Static routes."""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.places import NOWHERE, Place

DEFAULT_DISTANCE = 1
Discard = Literal["blackhole", "unreachable", "prohibit"]


class Route(msgspec.Struct, frozen=True, gc=False):
    """A static route.

    Attributes:
        to: Destination prefix.
        via: Next hop.
        interface: Egress interface.
        discard: What becomes of the packets of a route that leads nowhere (RFC 8349 special next hops).
        distance: Administrative distance, from 1; the lowest wins among equal prefixes. Some systems end at
            255, others (whose metric it is) at 4294967295.
        metric: Among equal distances the lowest wins; `None` if it is not said.
        off_link: Whether the next hop is meant to be on no connected subnet.
        instance: Routing instance; empty for the main one.
        members: What the route stands for, if it is a summary.
        description: A remark that stays in the intent.
    """

    to: Prefix
    via: Address | None = None
    interface: str | None = None
    discard: Discard | None = None
    distance: int = DEFAULT_DISTANCE
    metric: int | None = None
    off_link: bool = False
    instance: str = ""
    members: tuple[Prefix, ...] = ()
    description: str = ""
    place: Place = NOWHERE

    @property
    def destination(self) -> str:
        """The destination as an intent file has it: `default` where the next hop tells the family."""
        return "default" if self.to.length == 0 and self.via is not None else str(self.to)
