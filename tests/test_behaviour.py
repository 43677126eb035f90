"""A device as a function: images of boxes against every packet of a small space, links, look-ups."""

from __future__ import annotations

from itertools import product
from textwrap import dedent

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.images import REWRITTEN, after, before, chained, packets_apart, pulled_back
from agile_lattice.behaviour.links import described, wire
from agile_lattice.behaviour.matching import DESTINATION, Space
from agile_lattice.behaviour.probing import plan_probes
from agile_lattice.behaviour.proving import prove
from agile_lattice.behaviour.rule_list import RuleList
from agile_lattice.behaviour.stage_lists import KEEP
from agile_lattice.behaviour.tables import Table
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN
from agile_lattice.behaviour.walking import walk
from agile_lattice.compare.equivalence import between
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Bridge, Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route
from agile_lattice.packets.actions import Action
from agile_lattice.packets.boxes import Box
from agile_lattice.packets.spans import Spans, meet, merged
from test_laws import SOME
from where import ROOT

Point = tuple[int, ...]
Change = tuple[str, int] | None  # of one number: to another, or by an offset
SIDES = (1, 1, 2, 4, 4, 3)  # how many numbers there are in each dimension


def spans_of(numbers: frozenset[int]) -> Spans:
    return merged((each, each) for each in numbers)


@st.composite
def boxes(draw: st.DrawFn) -> Box:
    return tuple(spans_of(draw(st.frozensets(st.integers(0, side - 1), min_size=1))) for side in SIDES)


@st.composite
def actions(draw: st.DrawFn, dimensions: tuple[int, ...] = REWRITTEN) -> Action:
    changed = draw(st.lists(st.sampled_from(dimensions), unique=True, max_size=2)) if dimensions else []
    shifted = [each for each in changed if draw(st.booleans())]
    sets = tuple((each, draw(st.integers(0, 3))) for each in changed if each not in shifted)
    shifts = tuple((each, draw(st.sampled_from([-2, -1, 1, 2]))) for each in shifted)
    return Action(draw(st.sampled_from([KEEP.verdict, "one of"])), sets, shifts)


def points(box: Box) -> set[Point]:
    return set(product(*([number for low, high in spans for number in range(low, high + 1)] for spans in box)))


def done(action: Action, point: Point) -> Point:
    return action.applied(point)[1:]  # type: ignore[return-value]


@SOME
@given(boxes(), actions())
def test_after_an_action_a_dimension_has_the_numbers_of_its_packets(box: Box, action: Action) -> None:
    for at in REWRITTEN:
        assert {point[at] for point in points((*box[:at], after(box, action, at), *box[at + 1 :]))} == {
            done(action, point)[at] for point in points(box)
        }


@SOME
@given(boxes(), actions(), boxes())
def test_before_an_action_are_the_packets_that_come_to_what_is_asked(box: Box, action: Action, wanted: Box) -> None:
    for at in REWRITTEN:
        found = before(box, action, at, wanted[at])
        inside = {number for low, high in wanted[at] for number in range(low, high + 1)}
        assert (points(found) if found is not None else set()) == {
            point for point in points(box) if done(action, point)[at] in inside
        }
    back = pulled_back(wanted, action, box)
    assert (points(back) if back is not None else set()) == {
        point for point in points(box) if done(action, point) in points(wanted)
    }


@SOME
@given(boxes(), actions(), actions())
def test_packets_are_apart_if_two_actions_make_different_ones_of_each(box: Box, one: Action, other: Action) -> None:
    apart = [point for each in packets_apart(box, one, other) for point in points(each)]
    different = {point for point in points(box) if one.applied(point) != other.applied(point)}
    assert {*apart} == different and len(apart) == len(different), "all of them, each in one box"


@pytest.mark.parametrize(
    ("one", "other"), list(product([None, *[("to", n) for n in range(4)], ("by", -1), ("by", 2)], repeat=2))
)
def test_numbers_are_apart_of_which_two_changes_make_different_ones(one: Change, other: Change) -> None:
    numbers = ((0, 3),)
    first, second = (
        Action("one of", *(((4, each[1]),) if each and each[0] == kind else () for kind in ("to", "by")))
        for each in (one, other)
    )
    apart = packets_apart((((0, 0),),) * 4 + (numbers, ((0, 0),)), first, second)
    wanted = {n for n in range(4) if made(one, n) != made(other, n)}
    assert {n for each in apart for low, high in each[4] for n in range(low, high + 1)} == wanted


def made(change: Change, number: int) -> int:
    return number if not change else change[1] if change[0] == "to" else number + change[1]


TWO_ROUTERS = """
lattice: 1
zones: {sea: {exposure: public}, quay: {exposure: own}}
devices:
  one:
    speaks: frr
    interfaces:
      lo: {loopback: 10.255.0.1/32}
      wan0: {zone: sea, address: [203.0.113.2/29, "fe80::1/64", "2001:db8:1::1/64", 192.0.2.1/32]}
      lan0: {zone: quay, address: [10.40.10.1/24, 10.40.11.1/24]}
  two:
    speaks: frr
    interfaces:
      lo: {loopback: 10.255.0.2/32}
      wan0: {zone: sea, address: [203.0.113.3/29, "fe80::2/64", "2001:db8:2::2/64", 192.0.2.2/32]}
"""


def test_interfaces_share_a_link_by_their_subnets_alone() -> None:
    shared = Topology(al.loads(TWO_ROUTERS)).neighbours.segments
    assert {str(subnet): sorted(port.device.name for port in ports) for (_, subnet), ports in shared.items()} == {
        "203.0.113.0/29": ["one", "two"], "2001:db8:1::/64": ["one"], "2001:db8:2::/64": ["two"],
        "10.40.10.0/24": ["one"], "10.40.11.0/24": ["one"],
    }  # fmt: skip


@pytest.mark.parametrize(
    ("destination", "said"),
    [("10.40.11.1", "10.40.11.1/24"), ("10.40.10.9", "10.40.10.1/24"), ("2001:db8:1::", "2001:db8:1::1/64")],
)
def test_a_look_up_says_where_the_address_is_written_that_it_follows_from(destination: str, said: str) -> None:
    network = al.loads(TWO_ROUTERS)
    source = "2001:db8:1::9" if ":" in destination else "203.0.113.5"
    stages = (
        al.walk(network, source, destination, "icmp6" if ":" in destination else "icmp", at="one:wan0").visits[0].stages
    )
    [place] = [each.place for each in stages if each.stage == "way"]
    line = TWO_ROUTERS.splitlines()[place.line - 1]
    assert line[place.column - 1 :].strip('"').startswith(said)


@pytest.mark.parametrize(
    ("source", "destination", "dropped"),
    [
        ("203.0.113.3", "10.40.10.9", False), ("10.40.10.1", "10.40.10.9", True), ("10.40.11.1", "203.0.113.2", True),
        ("2001:db8:1::1", "2001:db8:1::9", False),
    ],
)  # fmt: skip
def test_a_packet_of_ipv4_that_claims_to_come_from_the_device_itself_is_dropped(
    source: str, destination: str, dropped: bool
) -> None:
    service = "icmp6" if ":" in source else "icmp"
    found = al.walk(al.loads(TWO_ROUTERS), source, destination, service, at="one:wan0")
    assert ("is an address of one" in found.reason) == dropped


@pytest.mark.parametrize("apart", [True, False])
def test_a_vlan_of_a_bridge_is_told_with_its_ports_if_the_bridge_keeps_vlans_apart(apart: bool) -> None:
    vlans = ((20,), (30,)) if apart else ((), ())
    ports = tuple(Interface(f"port{at}", tagged=each) for at, each in enumerate(vlans))
    bridge = Interface("br0", bridge=Bridge(("port0", "port1"), (20,) if apart else ()))
    device = Device("quay", interfaces=(*ports, bridge, Interface("br0.20", parent="br0", vlan=20)))
    told = described(device, "br0.20")
    assert told == "br0.20 is VLAN 20 of br0" + " (VLAN 20: port0, br0)" * apart


def test_a_bridge_is_told_from_one_of_other_ports() -> None:
    def device(members: tuple[str, ...], up: bool = True) -> Device:
        ports = Interface("p1"), Interface("p2"), Interface("p3", enabled=up)
        own = Interface("br0", (Prefix.parse("10.40.10.1/24"),), bridge=Bridge(members))
        return Device("quay", interfaces=(*ports, own))

    pair, other, half = device(("p1", "p2")), device(("p1", "p3")), device(("p1", "p3"), up=False)
    for one, two in ((pair, other), (other, half)):
        [parting, *_] = [each for each in between(one, two).proof.partings if each.interface == "br0"]
        assert parting.left != parting.right
    assert between(pair, replace(pair, interfaces=pair.interfaces[::-1])).same


NEAR = """
    lattice: 1
    zones: {sea: {exposure: public}, hall: {exposure: own}, shed: {exposure: own}}
    devices:
      quay:
        speaks: [nftables]
        interfaces:
          sea0: {zone: sea, address: 203.0.113.2/28}
          hall0: {zone: hall, address: 10.70.1.1/24}
          shed0: {zone: shed, address: 10.70.2.1/24}
        routes: [{to: default, via: 203.0.113.1}]
        permits: [RULE]
"""


def test_a_packet_that_just_misses_a_rule_comes_from_where_it_could_come_from() -> None:
    network = al.loads(NEAR.replace("RULE", "{from: hall, to: shed}"))
    missing = [each for each in plan_probes(network, network.devices).probes if not each.hits]
    subnets = {"hall0": Prefix.parse("10.70.1.0/24"), "shed0": Prefix.parse("10.70.2.0/24")}
    assert [each.arrives == "hall0" for each in missing] == [False], "it comes in elsewhere, since the rule says where"
    for each in missing:
        here = [name for name, subnet in subnets.items() if subnet.contains(each.header.source)]
        assert here == [each.arrives] or (not here and each.arrives == "sea0"), each


def test_a_packet_that_just_misses_a_rule_goes_elsewhere_if_the_rule_says_where() -> None:
    network = al.loads(NEAR.replace("RULE", "{to: shed}"))
    [missing] = [each for each in plan_probes(network, network.devices).probes if not each.hits]
    assert not Prefix.parse("10.70.2.0/24").contains(missing.header.destination)


@pytest.mark.parametrize(("service", "beside"), [("tcp/1000-65535", 999), ("tcp/0-1023", 1024), ("udp/53", 54)])
def test_a_packet_that_just_misses_a_rule_goes_to_the_port_beside_its_own(service: str, beside: int) -> None:
    network = al.loads(NEAR.replace("RULE", f"{{to: shed, service: {service}}}"))
    [missing] = [each for each in plan_probes(network, network.devices).probes if not each.hits]
    assert (missing.header.protocol, missing.header.port) == (service[:3], beside)


def test_vlans_are_told_apart_whether_their_parent_is_described_or_not() -> None:
    vlans = tuple(Interface(f"lan0.{vlan}", parent="lan0", vlan=vlan) for vlan in (10, 20))
    up, down = Interface("lan0"), Interface("lan0", enabled=False)
    bare, over, dead = (Device("quay", interfaces=(*vlans, *more)) for more in ((), (up,), (down,)))
    assert len({wire(each, one.name) for each in (bare, over) for one in vlans}) == 2, "up, as far as anything is said"
    assert wire(over, "lan0.10") != wire(dead, "lan0.10")


@pytest.mark.parametrize(
    ("wan", "lan", "gateway", "same"),
    [
        ("2001:db8:1::2/64", "2001:db8:2::1/64", "2001:db8:1::1", True),
        ("203.0.113.2/28", "10.40.10.1/24", "203.0.113.1", False),
    ],
)
def test_a_reverse_path_filter_is_for_ipv4(wan: str, lan: str, gateway: str, same: bool) -> None:
    text = f"""
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, sysctl]
            settings: {{reverse-path: "strict"}}
            interfaces: {{wan0: {{address: "{wan}"}}, lan0: {{address: "{lan}"}}}}
            routes: [{{to: default, via: "{gateway}"}}]
    """
    strict, off = (al.loads(dedent(each)).device("quay") for each in (text, text.replace("strict", "off")))
    assert al.between(strict, off).same == same


def test_masquerade_between_two_subnets_is_what_it_does_for_each_next_hop() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, nftables]
            interfaces:
              lan0: {address: 10.40.10.1/24}
              wan0: {address: [203.0.113.2/28, 198.51.100.2/28]}
            routes: [{to: default, via: 203.0.113.1}, {to: 192.0.2.0/24, via: 198.51.100.1}]
            translations: [RULES]
    """
    plain = "{to: wan0, source-becomes: interface}"
    first, second = ("{to: wan0, TO source-becomes: {pool: %s}}" % each for each in ("203.0.113.2", "198.51.100.2"))  # noqa: UP031
    towards = [second.replace("TO", f"destination: {each},") for each in ("192.0.2.0/24", "198.51.100.0/28")]
    for rules, same in (([*towards, first.replace("TO", "")], True), ([first.replace("TO", "")], False)):
        [one], [other] = (al.loads(text.replace("RULES", ", ".join(each))).devices for each in ([plain], rules))
        assert between(one, other).same is same


def test_of_two_prefixes_with_several_ways_each_has_its_own() -> None:
    routes = [
        Route(Prefix.parse(to), Address.parse(via))
        for to, via in (("10.41.0.0/16", "10.40.10.2"), ("10.41.0.0/16", "10.40.10.2"), ("10.42.0.0/16", "10.40.10.2"),
                        ("10.42.0.0/16", "10.40.10.3"))
    ]  # fmt: skip
    device = Device("quay", interfaces=(Interface("lan0", (Prefix.parse("10.40.10.1/24"),)),), routes=tuple(routes))
    table = Table(device, 4)
    ways = [table.look_up(Address.parse(each).value) for each in ("10.41.0.9", "10.42.0.9")]
    assert [[str(way.next_hop) for way in hop.way.each] for hop in ways if hop] == [
        ["10.40.10.2"], ["10.40.10.2", "10.40.10.3"]
    ]  # fmt: skip


@SOME
@given(boxes(), actions((3,)), actions((4, 5)))
def test_two_actions_in_a_chain_do_what_both_do(box: Box, first: Action, second: Action) -> None:
    both = chained(first, second)
    for point in points(box):
        assert done(both, point) == done(second, done(first, point))
    plain = [each for each in (first, second) if each.verdict == KEEP.verdict]
    assert (both.verdict == KEEP.verdict) == (len(plain) == 2)


def _publishing(learns: str, *rules: str) -> Device:
    return al.loads(
        f"""\
lattice: 1
devices:
  quay:
    speaks: [nftables]
    interfaces:
      wan0: {{{learns}}}
      lan0: {{address: 10.40.10.1/24}}
    translations: [{", ".join(rules)}]
"""
    ).devices[0]


def test_what_a_learned_address_may_be_is_not_decided() -> None:
    """Should it be the one that another rule names, then the first of both takes its packets."""
    own = "{publish: interface, service: tcp/443, on: 10.40.10.11, facing: wan0}"
    same_port = "{publish: 203.0.113.5, service: tcp/443, on: 10.40.10.12, facing: wan0}"
    other_port = same_port.replace("tcp/443", "tcp/80")
    elsewhere = own.replace("wan0", "lan0")
    dhcp, fixed = "learns: dhcp", "address: 203.0.113.2/28"
    proof = prove(_publishing(dhcp, own, same_port), _publishing(dhcp, same_port, own))
    assert not proof.same and not proof.partings and "depends on that address" in proof.undecided[0]
    assert prove(_publishing(dhcp, own, same_port), _publishing(dhcp, own, same_port)).same
    assert prove(_publishing(dhcp, own, other_port), _publishing(dhcp, other_port, own)).same
    # What arrives on another interface is for one of that, unless a rule is for all that the device has.
    anywhere = same_port.replace(", facing: wan0", "")
    whole = elsewhere.replace("publish: interface", "publish: device")
    assert prove(_publishing(dhcp, elsewhere, anywhere), _publishing(dhcp, anywhere, elsewhere)).same
    assert prove(_publishing(dhcp, whole, anywhere), _publishing(dhcp, anywhere, whole)).undecided
    # An address that is written down is decided: what is answered for is one of the interface's own.
    proof = prove(_publishing(fixed, own, same_port), _publishing(fixed, same_port, own))
    assert proof.partings and not proof.undecided


PIER = """
lattice: 1
zones: {in: {exposure: own}, out: {exposure: public}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      lan0: {zone: in, address: 10.40.10.1/24}
      wan0: {zone: out, address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}]
    translations:
      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7, facing: out}
      - {name: all, static: 198.51.100.64/26, on: 10.40.11.64/26, facing: out}
    permits:
      - {name: some, from: in, to: out, source: 10.40.10.0/25}
      - {name: web, from: out, to: in, destination: 10.40.10.7, service: tcp/443}
"""


@given(st.integers(0, 63), st.integers(0, 63))
def test_what_may_become_one_of_some_destinations_is_found(one: int, other: int) -> None:
    device = al.loads(PIER).device("quay")
    space = Space(device.interfaces, 4)
    arrival = RuleList(device, "arrival", space, NOTHING_UNKNOWN)
    inside, outside = (Address.parse(each).value for each in ("10.40.11.64", "198.51.100.64"))
    span = inside + min(one, other), inside + max(one, other)
    leading = [each for each in arrival.leading_to((span,)) if each.action.shifts]
    assert leading and all(meet(each.box[DESTINATION], ((outside, outside + 63),)) for each in leading)
    assert not [*arrival.leading_to(((inside + 64, inside + 90),))]


@pytest.mark.parametrize(
    ("was", "becomes", "words"),
    [
        # Nobody sends from the address that is for all of a subnet.
        ("source: 10.40.10.0/25}", "source: [10.40.10.0/25, 10.40.10.255]}", None),
        ("source: 10.40.10.0/25}", "source: [10.40.10.0/25, 10.40.10.254]}",
         ("dropped: no permit on quay matches", "forwarded to next hop 203.0.113.1 via wan0")),
        # What is dropped is told by why, and not by what was made of it before.
        ("destination: 10.40.10.7, service: tcp/443", "destination: 10.40.10.7, service: udp/443",
         ("delivered to 10.40.10.7 on lan0 as 198.51.100.9 -> 10.40.10.7 tcp/443",
          "dropped: no permit on quay matches")),
    ],
)  # fmt: skip
def test_a_witness_is_a_packet_that_somebody_sends_and_what_becomes_of_it(
    was: str, becomes: str, words: tuple[str, str] | None
) -> None:
    intent, other = (al.loads(text).device("quay") for text in (PIER, PIER.replace(was, becomes)))
    texts = {each.file: each.text for each in al.render(other)}
    [one] = al.diff(intent, al.read("quay", intent.speaks, texts)).differences
    assert (one.witness and (one.witness.intent, one.witness.device)) == words
    assert one.effect == ("changes-traffic" if words else "no-effect")


@pytest.mark.parametrize("path", ["src/agile_lattice/demo/saltmarsh.yaml", "examples/coast"])
def test_a_probe_comes_to_its_rule_or_just_misses_it(path: str) -> None:
    network = al.load(ROOT / path)
    topology = Topology(network)
    plan = plan_probes(network, network.devices)
    assert {each.hits for each in plan.probes} == {True, False}
    for each in plan.probes:
        found = walk(topology, each.header, each.device, each.arrives)
        first = [stage for stage in found.visits[0].stages if stage.stage == each.part]
        decided = any(stage.place.is_line_of(each.place) and stage.decided == each.rule for stage in first)
        assert decided == each.hits, each
        assert (found.end, found.reason) == (each.end, each.reason)


def test_a_rule_of_which_earlier_ones_leave_a_little_has_a_probe_all_the_same() -> None:
    rules = "{to: shed, destination: 10.70.2.0-10.70.2.200, deny: true}, {to: shed, destination: 10.70.2.0/24}"
    network = al.loads(NEAR.replace("RULE", rules))
    plan = plan_probes(network, network.devices)
    assert plan.untested == ()
    [hit] = [each for each in plan.probes if each.hits and each.end == "delivered"]
    assert hit.header.destination.value & 255 > 200
