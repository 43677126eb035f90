"""The ground floor, held against the standard library and against a naive interpreter."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from itertools import pairwise

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.intent.addresses import BITS, Address, AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.joining import join
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal, normal_routes
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import Service
from agile_lattice.intent.stages import Rule, Stage, overlap, split
from agile_lattice.intent.translations import Dynamic, Exempt, Intercept, Publish, Reserved, Static, Translation, Twice
from agile_lattice.packets.order import longest_run
from agile_lattice.packets.spans import Spans, aligned_blocks, covers, meet, merged, minus, size
from where import examples

NUMBERS = st.frozensets(st.integers(0, 40))
QUICK = settings(max_examples=examples(400), deadline=None)


def spans(numbers: Iterable[int]) -> Spans:
    return merged((each, each) for each in numbers)


def numbers(found: Spans) -> set[int]:
    return {each for first, last in found for each in range(first, last + 1)}


@QUICK
@given(NUMBERS, NUMBERS)
def test_spans_are_sets(left: frozenset[int], right: frozenset[int]) -> None:
    one, other = spans(left), spans(right)
    assert numbers(meet(one, other)) == left & right
    assert numbers(minus(one, other)) == left - right
    assert numbers(merged([*one, *other])) == left | right
    assert covers(one, other) == (right <= left)
    assert size(one) == len(left)
    assert all(one[i][1] + 1 < one[i + 1][0] for i in range(len(one) - 1)), "canonical: sorted, apart"


@QUICK
@given(st.sampled_from([4, 6]), st.data())
def test_addresses_agree_with_the_standard_library(family: int, data: st.DataObject) -> None:
    value, length = data.draw(st.integers(0, 2 ** BITS[family] - 1)), data.draw(st.integers(0, BITS[family]))
    theirs = ipaddress.ip_interface((value if family == 4 else ipaddress.IPv6Address(value), length))
    ours = Prefix.parse(f"{theirs.ip}/{length}")
    assert (ours.value, ours.first, ours.last) == (
        value, int(theirs.network.network_address), int(theirs.network.broadcast_address),
    )  # fmt: skip
    # The C library spells IPv4-mapped addresses with dots (RFC 5952 section 5), the module does not.
    assert ipaddress.ip_interface(str(ours)) == theirs
    assert ours.address.is_link_local == theirs.ip.is_link_local
    first, count = value >> 8 << 8, data.draw(st.integers(1, 200))
    blocks = [Prefix(family, *block) for block in aligned_blocks(((first, first + count - 1),), BITS[family])]
    make = ipaddress.IPv4Address if family == 4 else ipaddress.IPv6Address
    summary = ipaddress.summarize_address_range(make(first), make(first + count - 1))  # type: ignore[type-var]
    assert [ipaddress.ip_network(str(block)) for block in blocks] == list(summary)


@QUICK
@given(st.text("0123456789abcdef.:/-x ", max_size=20))
def test_what_is_no_prefix_is_refused_as_the_standard_library_does(text: str) -> None:
    try:
        theirs = str(ipaddress.ip_interface(text)) if "/" in text and text.partition("/")[2].isdigit() else None
    except ValueError:
        theirs = None
    try:
        ours = str(ipaddress.ip_interface(str(Prefix.parse(text))))
    except ValueError:
        ours = None
    assert ours == theirs


@QUICK
@given(st.lists(st.integers(0, 12), max_size=9))
def test_the_longest_run_is_the_longest(values: list[int]) -> None:
    chain = longest_run(values)
    assert all(a < b and values[a] <= values[b] for a, b in pairwise(chain))
    best = [0] * len(values)
    for i, value in enumerate(values):
        best[i] = 1 + max((best[j] for j in range(i) if values[j] <= value), default=0)
    assert len(chain) == max(best, default=0)


# A universe small enough to try every packet: two sides, four addresses, two protocols, three ports.
SIDES, HOSTS, PORTS = ("a", "b"), (1, 2, 3, 4), (1, 2, 3)
SIDE = st.none() | st.sampled_from([("a",), ("b",), ("a", "b")])
SOME = st.none() | st.frozensets(st.sampled_from(HOSTS), min_size=1).map(lambda found: AddressSet(4, spans(found)))
PORT_SETS = st.frozensets(st.sampled_from(PORTS), min_size=1).map(spans)
SERVICES = st.none() | st.sampled_from(["tcp", "udp"]).flatmap(
    lambda protocol: (st.none() | PORT_SETS).map(lambda ports: (Service(protocol, ports),))
)
NAME = st.sampled_from(["", "", "x", "y"])
HOST = st.sampled_from(HOSTS).map(lambda value: Address(4, value))
Packet = tuple[str, str, int, int, str, int]


def exempts() -> st.SearchStrategy[Exempt]:
    at = st.sampled_from(["both", "arrival", "departure"])
    made = st.builds(Exempt, NAME, SIDE, SIDE, SOME, SOME, SERVICES, at)
    return made.map(lambda one: replace(one, at="departure") if one.leaves else one)


ENDS = st.sampled_from([(Prefix(4, a, n), Prefix(4, b, n)) for a, b, n in [(1, 3, 32), (2, 2, 32), (2, 4, 31)]])
DIRECTION, DNS = st.sampled_from(["both", "both", "outbound", "inbound"]), st.booleans()
INSIDE = st.sampled_from([(), (), ("a",), ("a", "b")])
RESERVED = st.lists(st.builds(Reserved, HOST, HOST), max_size=2, unique=True).map(tuple)
POOL = st.none() | HOST.map(AddressSet.of)
RULES = st.lists(
    exempts()
    | st.builds(Dynamic, NAME, SIDE, SIDE, SOME, SOME, SERVICES, POOL)
    | st.builds(Dynamic, NAME, SIDE, SIDE, SOME, SOME, SERVICES, SOME, st.just("kept"), RESERVED)
    | ENDS.flatmap(
        lambda ends: st.builds(Static, st.just(ends[0]), st.just(ends[1]), NAME, SIDE, DIRECTION, DNS, INSIDE)
    )
    | st.builds(Publish, HOST.map(AddressSet.of), HOST, NAME, SIDE, SOME, SERVICES, st.none(), DNS, INSIDE)
    | st.builds(Intercept, NAME, SIDE, SOME, SOME, SERVICES)
    | st.builds(Twice, HOST, HOST, NAME, SIDE, SIDE, SOME, SERVICES, POOL),
    max_size=6,
)
PACKETS: list[Packet] = [
    (arrives, leaves, source, destination, protocol, port)
    for arrives in SIDES for leaves in SIDES for source in HOSTS for destination in HOSTS
    for protocol in ("tcp", "udp") for port in PORTS
]  # fmt: skip


def matches(rule: Rule, packet: Packet) -> bool:
    arrives, leaves, source, destination, protocol, port = packet
    return (
        (rule.arrives is None or arrives in rule.arrives)
        and (rule.leaves is None or leaves in rule.leaves)
        and (rule.source is None or source in numbers(rule.source.spans))
        and (rule.destination is None or destination in numbers(rule.destination.spans))
        and (rule.protocol is None or rule.protocol == protocol)
        and (rule.ports is None or port in numbers(rule.ports))
    )


def treated(rules: list[Rule], stage: Stage, packet: Packet) -> object:
    """What happens to a packet in one stage, by trying every rule in turn."""
    for rule in rules:
        if rule.stage == stage and matches(rule, packet):
            return rule.verdict, rule.to, rule.to_port, rule.port_use, rule.rewrites_dns
    return None


@settings(max_examples=examples(120), deadline=None)
@given(RULES)
def test_the_normal_form_treats_every_packet_the_same(translations: list[Translation]) -> None:
    settled, unsaid = join(split(translations))
    assert unsaid == []
    assert join(split(settled)) == (settled, [])
    before, after = split(translations), split(settled)
    for stage in ("arrival", "departure"):
        for packet in PACKETS:
            assert treated(before, stage, packet) == treated(after, stage, packet)


@settings(max_examples=examples(200), deadline=None)
@given(RULES)
def test_what_rules_take_from_each_other_is_exact(translations: list[Translation]) -> None:
    rules = split(translations)
    for left in rules:
        for right in rules:
            if left.stage != right.stage:
                continue
            here = {packet for packet in PACKETS if matches(left, packet)}
            there = {packet for packet in PACKETS if matches(right, packet)}
            if overlap(left, right):
                assert here & there
            else:
                assert not here & there


def test_a_next_hop_implies_the_interface_with_the_longest_subnet() -> None:
    wide, narrow = Interface("wide", (Prefix.parse("10.0.0.1/8"),)), Interface("narrow", (Prefix.parse("10.1.0.1/24"),))
    route = Route(Prefix.parse("192.0.2.9/24"), Address.parse("10.1.0.2"))
    assert normal_routes([route], [wide, narrow]) == (
        Route(Prefix.parse("192.0.2.0/24"), Address.parse("10.1.0.2"), "narrow"),
    )
    device = Device("quay", (), (wide, narrow), (route, replace(route, distance=9)))
    assert normal(normal(device)) == normal(device)
    assert [each.distance for each in normal(device).routes] == [1]
