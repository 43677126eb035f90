"""A change over RESTCONF: one patch, bound to the configuration that it was worked out for.

The device makes all of it or nothing, and has no way back of its own: while it can be reached, this side takes a change
back that does not do what it is for.
"""

from __future__ import annotations

import json
from typing import Literal

from agile_lattice.push.carrying import Load, State
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.restconf import Restconf, RestconfError

CHANGED = 412  # what a device answers if its configuration is not the one any more that a patch is bound to


class Patched:
    """A change that was made with one patch.

    Args:
        session: The device.
        load: The documents after and before.
        resources: The top-level resources that they hold.
    """

    def __init__(self, session: Restconf, load: Load, resources: list[str]) -> None:
        self.session, self.load, self.resources = session, load, resources
        self.state: State = ""
        self.said = ""
        self.tag = ""  # of what the change made

    def make(self, tag: str) -> None:
        """Make the change, unless the configuration has another entity tag.

        Raises:
            TransportError: If the link was lost, and the device cannot be asked any more either.
        """
        try:
            self.tag = self.session.replace(self.load.back, self.load.change, tag)
            self.state = "applied"
        except RestconfError as error:
            self.state, self.said = "moved" if error.status == CHANGED else "back", error.detail
        except TransportError as error:
            self.said = f"the link was lost: {error.cause}"
            now, self.tag = self.session.configuration(self.resources)
            self.state = (
                "applied" if _same(now, self.load.change) else "back" if _same(now, self.load.back) else "moved"
            )

    def decide(self, decision: Literal["confirm", "failed"]) -> State:
        """Say that it stays, or take it back; return what became of it."""
        if decision == "confirm":
            return "kept"
        try:
            now, tag = self.session.configuration(self.resources)
            if tag != self.tag:
                self.said = "it could not be taken back: somebody else changed it meanwhile"
                return "stuck"
            self.session.replace(now, self.load.back, tag)
            return "back"
        except TransportError as error:
            self.said = f"it could not be taken back: {error.cause}"
            return "stuck"

    def log(self) -> str:
        """Return what the device said."""
        return self.said


def _same(one: str, other: str) -> bool:
    return bool(json.loads(one) == json.loads(other))
