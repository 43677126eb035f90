"""What is said of rules that somebody wrote, rule by rule: what one packet after the other meets in their program."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from random import Random

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.images import after
from agile_lattice.behaviour.matching import Match, Space
from agile_lattice.behaviour.program_stage import HOOKS, action_of, first_packets
from agile_lattice.behaviour.stage_lists import DROP, Listed, lines
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.counterparts import Counterparts
from agile_lattice.compare.pairs import Otherwise
from agile_lattice.compare.plausible import Plausible
from agile_lattice.compare.witnesses import Sides
from agile_lattice.dialects import read_device
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.services import number_of
from agile_lattice.notation.loading import loads
from agile_lattice.packets.actions import Action, same_on
from agile_lattice.packets.boxes import Box, overlap
from agile_lattice.programs import model
from agile_lattice.programs.following import Following, Part
from agile_lattice.programs.model import Constant, Program, Unknown
from foreign import PROGRAMS, RULESETS, family_of, intent_of, packets
from test_foreign import MEANT

PACKETS = 40
MANAGED = """
    management:
      - {name: ssh, from: inside, service: tcp/22}
      - {name: pings, service: [icmp, icmp6]}
"""
# Of rulesets whose rules hang on rates, sets that fill themselves and other header fields, more may be left open.
OPEN = {"meters.nft", "no-scrub.nft", "scans.save"}
CHOSEN = {"chance"}  # of what a device chooses, one is as good as another here
Point = tuple[int, ...]


class Case:
    """One way that all may be which nobody knows: decided by a number, alike whoever asks."""

    def __init__(self, number: int) -> None:
        self.number = number

    def holds(self, part: Part) -> bool:
        return all(self.so(unknown) == way for unknown, way in part.taken if unknown.kind not in CHOSEN)

    def so(self, unknown: Unknown) -> bool:
        return bool(zlib.crc32(f"{unknown.key} {self.number}".encode()) & 1)


class Device:
    """A router whose rules are a program: one packet at a time, and as which it comes to each list."""

    def __init__(self, sides: Sides, program: Program, family: int) -> None:
        self.sides, self.program, self.space = sides, program, sides.space(family)
        self.following = Following(program)
        self.table = sides.topologies()[1].table(sides.name, family)

    def met(self, side: str, header: Header, case: Case) -> Iterator[tuple[Listed, Box, Part]]:
        """Yield the lists that a packet comes to, as what, and what becomes of it there."""
        came = self.point(side, header)
        for part in self.start(came, header):
            for arrived in filter(case.holds, self.following.at("incoming", [part])):
                if arrived.outcome == "accept":
                    yield "arrival", came, arrived
                yield from self.passing(came, arrived, case)

    def passing(self, came: Box, arrived: Part, case: Case) -> Iterator[tuple[Listed, Box, Part]]:
        here = self.become(came, arrived)
        hop = self.table.look_up(here[4][0][0])
        if hop is not None and hop.means == "own" and arrived.outcome == "accept":
            for part in filter(case.holds, self.following.at("access", [arrived])):
                yield "access", here, part
        if hop is None or hop.means not in ("connected", "via"):
            return
        leaves = self.space.numbers[hop.interface]
        here = (here[0], ((leaves, leaves),), *here[2:])
        if arrived.outcome != "accept":
            yield "permits", here, arrived  # at the door, which is a chain more that has to let it pass
            return
        leaving = replace(arrived, now={**arrived.now, model.LEAVES: Constant(leaves)})
        for part in filter(case.holds, self.following.at("permit", [leaving])):
            for last in self.following.at("outgoing", [part]) if part.outcome == "accept" else [part]:
                if case.holds(last):
                    yield "permits", here, last
                    if last.outcome == "accept":
                        yield "departure", here, last

    def point(self, side: str, header: Header) -> Box:
        protocol, port = (((number, number),) for number in (number_of(header.protocol), header.port or 0))
        ends = AddressSet.of(header.source), AddressSet.of(header.destination)
        return self.space.of_match(Match((side,), None, protocol, *ends, port))

    def start(self, came: Box, header: Header) -> Iterator[Part]:
        for part in first_packets(came, self.space.family, len(self.space.names)):
            ports = {} if header.source_port is None else {model.SOURCE_PORT: ((header.source_port,) * 2,)}
            yield replace(part, box={**part.box, **ports})

    def become(self, came: Box, part: Part) -> Box:
        action = action_of(part, self.program, came)
        chosen = {at: change.numbers[:1] for at, change in part.now.items() if isinstance(change, model.OneOf)}
        return tuple(
            ((chosen[at][0][0],) * 2,) if at in chosen else after(came, action, at) if at in (4, 5) else spans
            for at, spans in enumerate(came)
        )


def done_by(stage: Listed, part: Part, program: Program, point: Box) -> Action:
    """What a list does to a packet that comes out of it as it says, whatever others did before."""
    if part.outcome != "accept":
        return DROP
    own = {"arrival": range(9), "departure": (model.SOURCE, model.SOURCE_PORT, model.TRANSLATED)}.get(stage, ())
    now = {dimension: change for dimension, change in part.now.items() if dimension in own}
    return action_of(replace(part, now=now), program, point)


def told(found: Counterparts, stage: Listed, name: str | None) -> list[Otherwise]:
    """What is said to be treated otherwise of the packets of a rule, or of those that no rule decides about."""
    if name is None:
        return [each.packets for each in found.beyond if each.stage == stage]
    mine = [each for each in found.rules if (each.stage, each.name) == (stage, name)]
    return [one for each in mine for one in (*each.otherwise, *each.maybe)]


def in_case(said: list[Otherwise], space: Space, point: Box) -> dict[bool, list[Otherwise]]:
    """Those that a packet is in, by whether it is certain that it is one of them."""
    here = [
        each for each in said
        if each.family in (None, space.family) and any(overlap(point, space.of_match(match)) for match in each.packets)
    ]  # fmt: skip
    return {sure: [each for each in here if sure is not bool(each.depends or each.among)] for sure in (True, False)}


@pytest.mark.parametrize("name", RULESETS)
def test_what_diff_says_of_each_rule_is_what_packets_meet(name: str) -> None:
    speaks, text, family = PROGRAMS[name.rpartition(".")[2]][0], RULESETS[name], family_of(name)
    [intent] = loads(intent_of(speaks, family) + MEANT[family] + MANAGED).devices
    capture = read_device("edge", (speaks,), {name: text})
    found = al.diff(intent, capture).rules
    assert found is not None and not found.undecided
    there = as_it_is(intent, capture)
    sides = Sides(intent, there, programs=capture.programs)
    program = sides.program(family)
    assert program is not None
    device, mine = Device(sides, program, family), with_learned(intent)
    rows = {stage: lines(mine, stage, device.space) for stage in HOOKS}
    never = {stage: Plausible(with_learned(there), stage, device.space, True).never for stage in HOOKS}
    looked = open_ = 0
    for number, (side, header) in enumerate(packets(text, PACKETS, Random(name), 1024, family)):
        case = Case(number)
        for stage, point, part in device.met(side, header, case):
            if stage not in found.stages or any(overlap(point, each) for each in never[stage]):
                continue
            line = next(each for each in rows[stage] if overlap(point, each.entry.box))
            does = done_by(stage, part, program, point)
            alike = same_on(line.entry.action, does, point)
            said = in_case(told(found, stage, line.rule.name if line.rule else None), device.space, point)
            looked += 1
            open_ += any(each.depends for each in said[False])
            what = (stage, header, str(line), does, part.decided_by, case.number)
            if part.outcome == "not known":
                assert said[False], what
            elif not alike:
                assert said[True] or said[False], ("not told", what)
            else:
                assert not [each for each in said[True] if not each.at_most], ("told", what, said[True])
    assert looked > PACKETS / 4
    assert open_ <= looked * (0.7 if name in OPEN else 0.35), f"{open_} of {looked} are left open"


def test_where_lists_cannot_be_made_nothing_is_said_to_be_the_same() -> None:
    """Two chains that translate, of which one makes marks that others ask for: what comes of it is not worked out."""
    text = """table ip t {
        chain first { type nat hook prerouting priority -105; policy accept; tcp dport 22 meta mark set 1; }
        chain second { type nat hook prerouting priority -95; policy accept; tcp dport 80 dnat to 10.40.10.7; }
        chain f { type filter hook forward priority 0; policy drop; meta mark 1 accept; }
    }"""
    [intent] = loads(intent_of("nftables") + MEANT[4]).devices
    found = al.diff(intent, read_device("edge", ("nftables",), {"r.nft": text}))
    assert found.rules is not None and any("makes marks" in each for each in found.rules.undecided)
    assert not found.complete and not found.same
    assert not any(each.effect == "no-effect" for each in found.differences)


def test_of_a_family_that_no_text_covers_nothing_is_said() -> None:
    [intent] = loads(
        intent_of("iptables, ip6tables").replace('"10.40.10.1/24"', '["10.40.10.1/24", "2001:db8:40::1/64"]')
        + MEANT[4]
        + MANAGED
    ).devices
    found = al.diff(
        intent, read_device("edge", ("iptables", "ip6tables"), {"r.save": RULESETS["who-may-manage.save"]})
    ).rules
    assert found is not None and found.beyond
    every = [*(each.packets for each in found.beyond), *(one for rule in found.rules for one in rule.otherwise)]
    assert {each.family for each in every} == {4}
