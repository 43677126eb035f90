"""The reply to a packet in a device whose rules are a program: which lists are asked again, and what they say.

Lists that translate are asked about first packets only. The others are asked about every packet, and see of a reply
that its connection is known (RFC 5382 and RFC 4787 leave filtering to the device).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.pipeline import End
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.services import number_of
from agile_lattice.packets.boxes import Undecided
from agile_lattice.packets.spans import Spans
from agile_lattice.programs import model
from agile_lattice.programs.deciding import Asked, hanging_on
from agile_lattice.programs.following import Following, Part
from agile_lattice.programs.model import OF_DESTINATION, OF_SOURCE, TRANSLATING, Change, Constant, Hook, Mapped

SYN_ACK: Spans = ((18, 18),)
LOWEST, HIGHEST = -(1 << 31), 1 << 31  # of priorities
ANY = range(LOWEST, HIGHEST)
BEFORE = {kind: range(LOWEST, priority) for kind, priority in TRANSLATING.items()}
BEHIND = {kind: range(priority, HIGHEST) for kind, priority in TRANSLATING.items()}
Known = dict[int, Spans]


class Crossing(msgspec.Struct, frozen=True):
    """A reply that crosses a device.

    Attributes:
        reply, restored: Its header as it comes, and with the translations of the packet taken back.
        arrives, leaves: Numbers of the interfaces; that of none where the device sends it itself, or is its receiver.
        itself: Whether the device sends it itself.
        ends: Whether the device is its receiver.
    """

    reply: Header
    restored: Header
    arrives: int
    leaves: int
    itself: bool
    ends: bool = False

    def stages(self) -> Iterator[tuple[Hook, range, Address, Address]]:
        """Yield where lists are asked, the priorities of those that are, and the source and destination that they see.

        The destination is taken back where destinations are translated, the source where sources are.
        """
        source, destination = self.reply.source, self.restored.destination
        first: Hook = "output" if self.itself else "incoming"
        yield first, BEFORE[OF_DESTINATION], source, self.reply.destination
        yield first, BEHIND[OF_DESTINATION], source, destination
        if self.ends:
            yield "access", ANY, source, destination
            return
        if not self.itself:
            yield "permit", ANY, source, destination
        yield "outgoing", BEFORE[OF_SOURCE], source, destination
        yield "outgoing", BEHIND[OF_SOURCE], self.restored.source, destination


def stopped(rules: Following, first: Sequence[Part], crossing: Crossing, before: Header) -> tuple[End, str] | None:
    """Tell why a reply does not pass.

    Args:
        rules: The program.
        first: What became of the packet, by each way that it may have taken.
        crossing: The reply.
        before: The packet as it came.

    Returns:
        How it ends, and why, or on what that depends; `None` if it passes.
    """
    parts = [Part(_box(first, crossing, before))]
    nowhere = len(rules.program.sides) - 1
    for hook, priorities, source, destination in crossing.stages():
        leaves = nowhere if hook == "incoming" else crossing.leaves
        now = _now(crossing.reply, source, destination, leaves)
        try:
            parts = rules.at(hook, [replace(each, now={**each.now, **now}) for each in parts], within=priorities)
        except Undecided as undecided:
            return "not known", str(undecided)
        if any(each.outcome != "accept" for each in parts):
            return _reason(rules, parts)
    return None


def _box(first: Sequence[Part], crossing: Crossing, before: Header) -> Known:
    """Return the connection as its first packet came, for lists that ask for that, and what is known of it since."""
    known: Known = {
        model.ARRIVES: ((crossing.arrives, crossing.arrives),), model.FLAGS: SYN_ACK, model.MARK: ((0, 0),),
        model.SOURCE: ((before.source.value,) * 2,), model.DESTINATION: ((before.destination.value,) * 2,),
    }  # fmt: skip
    known[model.PROTOCOL] = ((number_of(before.protocol),) * 2,)
    if before.port is not None and crossing.reply.port is not None:
        known[model.PORT] = ((before.port, before.port),)
    if not any(model.STATE in each.now for each in first):
        known[model.STATE] = ((model.ESTABLISHED, model.ESTABLISHED),)
    for dimension in (model.TRANSLATED, model.CONNECTION_MARK):
        numbers = {_number(each.now.get(dimension)) for each in first}
        if len(numbers) == 1 and None not in numbers:
            known[dimension] = tuple((number, number) for number in numbers if number is not None)
    return known


def _number(change: Change | None) -> int | None:
    """Return what has become of a dimension that was 0; None if that is not known."""
    match change:
        case None:
            return 0
        case Constant(number):
            return number
        case Mapped(_, table):
            return table[0]
    return None


def _now(reply: Header, source: Address, destination: Address, leaves: int) -> dict[int, Change]:
    now: dict[int, Change] = {
        model.SOURCE: Constant(source.value), model.DESTINATION: Constant(destination.value),
        model.LEAVES: Constant(leaves),
    }  # fmt: skip
    if reply.port is not None:
        now[model.PORT] = Constant(reply.port)
    if reply.source_port is not None:
        now[model.SOURCE_PORT] = Constant(reply.source_port)
    return now


def _reason(rules: Following, parts: Iterable[Part]) -> tuple[End, str]:
    """Say which rule drops it, or what it depends on whether one does."""
    fates = [(each.taken, each.outcome) for each in parts]
    ended = [each for each in parts if each.outcome != "accept"]
    by = list(dict.fromkeys(each.name or str(each.decided_by) for each in ended))
    if all(outcome == "drop" for _, outcome in fates):
        return "dropped", f"denied by {' or '.join(by)}"
    asked = Asked(rules.program)
    open_ = [asked.told(each) for each in hanging_on(fates)]
    open_ += [f"{each.decided_by}, which was not understood" for each in ended if each.outcome == "not known"]
    return "not known", f"it depends on {', and on '.join(dict.fromkeys(open_ or by))}"
