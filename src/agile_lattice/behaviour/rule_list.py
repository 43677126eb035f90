"""Lists of rules asked about whole boxes of packets: which rule decides about which of them."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import msgspec

from agile_lattice.behaviour.connections import by_beginning
from agile_lattice.behaviour.images import REWRITTEN, after, chained, pulled_back
from agile_lattice.behaviour.matching import DESTINATION, Space
from agile_lattice.behaviour.stage_lists import KEEP, Listed, lines
from agile_lattice.behaviour.unknown import Unknown
from agile_lattice.intent.model import Device
from agile_lattice.packets.actions import Action
from agile_lattice.packets.bounds import Bounds
from agile_lattice.packets.boxes import Box, Undecided, difference, overlap
from agile_lattice.packets.functions import Entry
from agile_lattice.packets.spans import Spans

UNTOUCHED = "unchanged: it begins no connection"


class Decided(msgspec.Struct, frozen=True):
    """Packets that a stage treats alike.

    Attributes:
        box: The packets, as they came in.
        passes: Whether they go on.
        action: What has been done to them until then.
        unsure: Why that is not known; empty if it is.
        line: What decided, in words.
    """

    box: Box
    passes: bool
    action: Action
    unsure: str = ""
    line: object = ""


class Budget:
    """How many boxes may be looked at."""

    def __init__(self, limit: int) -> None:
        self.limit = self.left = limit

    def spend(self, boxes: int) -> None:
        """Count boxes; raise `Undecided` if they are too many."""
        self.left -= boxes
        if self.left < 0:
            raise Undecided(self.limit)


class RuleList:
    """A stage that is a list of rules, made ready to be asked about boxes.

    Args:
        device: The device.
        part: The stage.
        space: Numbers of interfaces, and the family.
        unknown: What of the device is not known.
        choice: Which of several equally good routes is taken.
    """

    def __init__(self, device: Device, part: Listed, space: Space, unknown: Unknown, choice: int = 0) -> None:
        self.part, self.unknown = part, unknown
        self.family = space.family
        self.rewrites = part in ("arrival", "departure")  # and else only says what passes
        self.lines = lines(device, part, space, choice)
        self.entries: list[Entry] = [each.entry for each in self.lines]
        self._bounds = Bounds([each.box for each in self.entries])

    @cached_property
    def _images(self) -> tuple[list[Entry], Bounds]:
        """Return the entries that rewrite destinations, and the bounds of what these become."""
        rewriting = [each for each in self.entries if (each.action.sets or each.action.shifts) and all(each.box)]
        return rewriting, Bounds([(after(each.box, each.action, DESTINATION),) for each in rewriting])

    def leading_to(self, destinations: Spans) -> Iterator[Entry]:
        """Yield the entries that rewrite destinations, maybe to one of some."""
        rewriting, becomes = self._images
        for at in becomes.meeting((destinations,)):
            yield rewriting[at]

    def decided(self, box: Box, action: Action, budget: Budget) -> Iterator[Decided]:
        """Cut a box by the rules that decide about its packets.

        Args:
            box: Packets as they came in.
            action: What has been done to them so far, which the rules see.
            budget: Counts boxes.
        """
        apart = [*by_beginning(box, self.family)] if self.rewrites else [(box, True)]
        left = [each for each, begins in apart if begins]
        for at in self._meeting(box, action) if left else ():
            entry = self.entries[at]
            pulled = pulled_back(entry.box, action, box)
            if pulled is None:
                continue
            budget.spend(len(left))
            rest = []
            for each in left:
                common = overlap(each, pulled)
                if common is None:
                    rest.append(each)
                    continue
                line = self.lines[at]
                passes = self.rewrites or entry.action.verdict == KEEP.verdict
                done = chained(action, entry.action) if self.rewrites else action
                yield Decided(common, passes, done, self.unknown.before(self.part, line.place), line)
                rest += difference(each, pulled)
            left = rest
            if not left:
                break
        # The most ordinary packets come first.
        yield from (Decided(each, True, action, line=UNTOUCHED) for each, begins in apart if not begins)

    def _meeting(self, box: Box, action: Action) -> list[int]:
        return self._bounds.meeting(
            tuple(after(box, action, at) if at in REWRITTEN else spans for at, spans in enumerate(box))
        )
