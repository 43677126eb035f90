"""A packet's way as the intent says, and on devices as they were captured."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flow_parsing import Sent
from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Visit, Walk, walk
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.comparing import declares
from agile_lattice.compare.doubts import beyond_program, unknown_of
from agile_lattice.compare.equivalence import WHAT_PACKETS_FEEL
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.passes.rulesets import Ruleset
from agile_lattice.dialects.programs.lowering import lowered as lowered_rules
from agile_lattice.dialects.usual import Assumed
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Network
from agile_lattice.programs.model import Program

EVERYTHING = {"arrival", "routes", "interfaces", "access", "permits", "departure"}
ASKED = {"way": {"routes", "interfaces"}}  # what a stage depends on, where that is not the stage itself


class Beside(msgspec.Struct, frozen=True):
    """A packet's way as the intent says, and on devices as they were captured.

    Attributes:
        intent, captured: The two ways.
        unless: What of the devices on the second way was not understood, and may decide otherwise.
        uncovered: What no capture of a device on it covers, and is taken to be as the intent says.
        assumed: The conditions of their rules that were taken for granted since somebody asked for that.
    """

    intent: Walk
    captured: Walk
    unless: tuple[str, ...] = ()
    uncovered: tuple[str, ...] = ()
    assumed: tuple[Assumed, ...] = ()

    @property
    def alike(self) -> bool:
        """Whether it ends in the same way, as the same packet, and its reply does, as far as was understood."""
        both = self.intent, self.captured
        ends = [(each.end, each.visits[-1].after, each.answer, each.succeeds) for each in both]
        return ends[0] == ends[1]

    @property
    def decided(self) -> bool:
        """Whether it is known what becomes of the packet on the devices as they were captured."""
        return "not known" not in (self.captured.end, self.captured.reply) and not self.unless

    @property
    def same(self) -> bool:
        """Whether it ends in the same way, and all that could decide about it was captured and understood."""
        return self.alike and self.decided and not self.uncovered

    @property
    def settled(self) -> bool:
        """Whether it gets to its destination in the same way on both, and the reply to its sender."""
        return self.same and self.captured.succeeds and not self.assumed


def followed_beside(network: Network, captures: Mapping[str, Capture], sent: Sent) -> Beside:
    """Follow a packet by the intent and on captured devices.

    Args:
        network: The network.
        captures: What was read of devices, by their names; others are taken to be as the intent says.
        sent: The packet, and where it comes in.
    """

    def as_captured(device: Device) -> Device:
        capture = captures.get(device.name)
        if capture is None:
            return device
        there = as_it_is(device, capture)
        return replace(there, name=device.name, interfaces=tuple(_placed(each, device) for each in there.interfaces))

    there = replace(network, devices=tuple(map(as_captured, network.devices)))
    lowered = {name: [Ruleset(facts) for facts in each.programs] for name, each in captures.items() if each.programs}

    def program(device: Device, family: int, choice: int) -> Program | None:
        rules = lowered.get(device.name)
        return lowered_rules(rules, Surroundings(device, family, choice)) if rules else None

    topologies = Topology(network), Topology(there, lowered=program)
    ways = [walk(each, sent.header, sent.device, sent.arrives) for each in topologies]
    doubts = [
        words
        for visit in ways[1].visits
        if visit.device in captures
        for words in _doubts(captures[visit.device], visit)
    ]
    visited = {each.device for each in ways[1].visits}
    elsewhere = {each.device for each in ways[1].returns} - visited
    doubts += [words for name in elsewhere if name in captures for words in _doubts(captures[name])]
    passed = [each for each in network.devices if each.name in visited | elsewhere]
    uncovered = [
        f"{each.name}: {section}"
        for each in passed
        if each.name in captures
        for section in WHAT_PACKETS_FEEL
        if section not in captures[each.name].sections and declares(each, section)
    ]
    assumed = [one for each in passed if each.name in captures for one in captures[each.name].assumed]
    return Beside(ways[0], ways[1], tuple(dict.fromkeys(doubts)), tuple(uncovered), tuple(assumed))


def _placed(one: Interface, intent: Device) -> Interface:
    """Return an interface as captured with what the intent says of the world behind it, which no device tells."""
    meant = intent.interface(one.name)
    return one if meant is None else replace(one, zone=meant.zone, block=meant.block, link=meant.link)


def _doubts(capture: Capture, visit: Visit | None = None) -> list[str]:
    """Return the lines that were not understood and could decide about a packet before what was found to decide.

    Of a device that only the reply comes to, these are all that decide anything.
    """
    texts = {(each.place.file, each.place.line): each.text for each in capture.leftovers}
    # A list without any rule leaves no stage behind, and is asked all the same.
    asked = (
        EVERYTHING
        if visit is None
        else {"permits" if visit.leaves else "access"}.union(
            *(ASKED.get(each.stage, {each.stage}) for each in visit.stages)
        )
    )
    found = []
    for doubt in unknown_of(beyond_program(capture)).doubts:
        if doubt.touches & asked:
            found.append(f"{doubt.place}: {texts.get((doubt.place.file, doubt.place.line), '')}")
    return found
