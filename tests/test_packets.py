"""Sets of packets and ways through a network, against trying every point."""

from __future__ import annotations

from itertools import product
from random import Random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.behaviour import flows
from agile_lattice.behaviour.matching import Space, is_of_ipv4
from agile_lattice.behaviour.shadowing import taken_rules
from agile_lattice.behaviour.tables import Table
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Translation
from agile_lattice.packets.boxes import Undecided, count, difference, overlap, remainder, some_point
from agile_lattice.packets.functions import Entry, differing
from agile_lattice.packets.spans import merged
from strategies import devices
from test_ground import PACKETS, RULES, matches

SMALL = range(6)
SPANS = st.frozensets(st.sampled_from(SMALL), min_size=1).map(lambda found: merged((each, each) for each in found))
BOXES = st.tuples(SPANS, SPANS, SPANS)
Point = tuple[int, ...]


def points(boxes: list[tuple[tuple[tuple[int, int], ...], ...]]) -> list[Point]:
    return [
        point
        for box in boxes
        for point in product(SMALL, repeat=3)
        if all(any(first <= at <= last for first, last in spans) for at, spans in zip(point, box, strict=True))
    ]


@given(BOXES, BOXES, st.lists(BOXES, max_size=4))
def test_boxes_are_the_sets_of_their_points(left: tuple, right: tuple, more: list) -> None:  # type: ignore[type-arg]
    both, rest = overlap(left, right), difference(left, right)
    assert set(points([both] if both else [])) == set(points([left])) & set(points([right]))
    assert sorted(points(rest)) == sorted(set(points([left])) - set(points([right]))), "disjoint, and exact"
    left_over = remainder([left], [right, *more])
    assert sorted(points(left_over)) == sorted(set(points([left])) - set(points([right, *more])))
    assert count(left_over) == len(points(left_over))
    assert some_point(left, [(3,), (), (9, 1)]) in points([left])


def test_too_much_work_is_said_and_not_guessed() -> None:
    comb = tuple((2 * n, 2 * n) for n in range(40))
    grid = [(((0, 100),), ((n, n),), comb) for n in range(60)]
    with pytest.raises(Undecided, match="more than 500 boxes"):
        remainder([(((0, 99),), ((0, 99),), ((0, 99),))], grid, limit=500)


@settings(max_examples=150, deadline=None)
@given(RULES)
def test_what_earlier_rules_leave_is_what_no_earlier_rule_matches(translations: list[Translation]) -> None:
    space = Space([Interface("a"), Interface("b")])
    rules = [(one, split([one])) for one in translations]
    before: list = []  # type: ignore[type-arg]
    for one, results in taken_rules(space, rules):
        for taken in results:
            expected = {
                packet for packet in PACKETS
                if matches(taken.rule, packet)
                and not any(rule.stage == taken.rule.stage and matches(rule, packet) for rule in before)
            }  # fmt: skip
            assert taken.left is not None
            numbers = {"tcp": 6, "udp": 17}
            found = {
                (arrives, leaves, source, destination, protocol, port)
                for arrives, leaves, source, destination, protocol, port in PACKETS
                for box in taken.left
                if all(
                    any(first <= at <= last for first, last in spans)
                    for at, spans in zip(
                        ("ab".index(arrives), "ab".index(leaves), numbers[protocol], source, destination, port),
                        box, strict=True,
                    )
                )
            }  # fmt: skip
            assert found == expected
        before += split([one])


ROUTES = st.lists(
    st.builds(
        lambda value, length, hop, distance: Route(Prefix(4, value, length).network, hop, distance=distance),
        st.integers(0, 2**32 - 1) | st.integers(0x0A000000, 0x0A0000FF), st.integers(0, 32),
        st.sampled_from([Address.parse("10.0.0.2"), Address.parse("10.0.1.2"), None]), st.integers(1, 3),
    ).map(lambda route: route if route.via else Route(route.to, discard="blackhole", distance=route.distance)),
    max_size=12,
)  # fmt: skip


@settings(deadline=None)
@given(ROUTES, st.lists(st.integers(0, 2**32 - 1) | st.integers(0x0A000000, 0x0A0001FF), min_size=5))
def test_a_table_is_the_longest_prefix_and_the_lowest_distance(routes: list[Route], probes: list[int]) -> None:
    near, far = Interface("a", (Prefix.parse("10.0.0.1/24"),)), Interface("b", (Prefix.parse("10.0.1.1/24"),))
    table = Table(Device("quay", interfaces=(near, far), routes=tuple(routes)), 4)
    entries = [(Prefix.host(own), (0, 0), "own") for own in (near.addresses[0].address, far.addresses[0].address)]
    entries += [(one.addresses[0].network, (0, 0), "connected") for one in (near, far)]
    entries += [(each.to, (each.distance, 0), "discard" if each.discard else "via") for each in routes]
    for value in [*probes, *(each.to.first for each in routes), *(each.to.last for each in routes)]:
        around = [each for each in entries if each[0].contains(Address(4, value))]
        hop = table.look_up(value)
        if not around:
            assert hop is None
            continue
        length = max(each[0].length for each in around)
        best = min(each[1] for each in around if each[0].length == length)
        assert hop is not None and hop.prefix.length == length and hop.rank == best
        assert hop.means in {each[2] for each in around if each[0].length == length and each[1] == best}


LINKS = "\n".join(
    f"  r{n}: {{speaks: frr, interfaces: {{a: {{address: 10.0.0.{n + 1}/24}}, b: {{address: 10.{n + 1}.0.1/24}}}},"
    f" routes: ROUTES{n}}}"
    for n in range(4)
)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 3)), max_size=4), min_size=4, max_size=4))
def test_every_circle_is_found_and_nothing_else(routes: list[list[tuple[int, int]]]) -> None:
    text = LINKS
    for n, members in enumerate(routes):
        unique = {to: via for to, via in members if via != n}
        spelt = ", ".join(f"{{to: 10.{to}.0.0/16, via: 10.0.0.{via + 1}}}" for to, via in unique.items())
        text = text.replace(f"ROUTES{n}", f"[{spelt}]")
    topology = Topology(al.loads(f"lattice: 1\ndevices:\n{text}"))
    # Every destination that any table tells apart, from every device.
    probes = {start for name in topology.devices for start in topology.table(name, 4).starts}
    ways = [topology.way(name, Address(4, value)) for name in topology.devices for value in probes]
    circles = {frozenset(way.devices[way.devices.index(way.devices[-1]) :]) for way in ways if way.end == "loop"}
    found = [frozenset(circle) for _, circle in topology.loops(4)]
    assert set(found) == circles and len(found) == len(circles)


@settings(max_examples=200, deadline=None, suppress_health_check=list(HealthCheck))
@given(devices(("iproute2", "nftables")), st.data())
def test_a_rule_matches_a_packet_exactly_if_its_box_holds_it(device: Device, data: st.DataObject) -> None:
    names = [each.name for each in device.interfaces]
    rules = [each for each in split(device.translations) if is_of_ipv4(each)]
    if not names or not rules:
        return
    space = Space(device.interfaces)
    rule = data.draw(st.sampled_from(rules))
    box = space.of_rule(rule)
    # A point of the box, moved in some dimensions: most packets that nobody thought of match nothing.
    point = [
        data.draw(st.sampled_from([first, last])) for first, last in (data.draw(st.sampled_from(one)) for one in box)
    ]
    point[data.draw(st.integers(0, 5))] += data.draw(st.sampled_from([-1, 0, 0, 1]))
    arrives, leaves, protocol, source, destination, port = point
    inside = all(any(low <= at <= high for low, high in one) for at, one in zip(point, box, strict=True))
    known = {number: name for name, number in PROTOCOL_NUMBERS.items()}
    if protocol not in known or not (0 <= arrives < len(names) and 0 <= leaves < len(names)):
        return
    if not (0 <= source < 2**32 and 0 <= destination < 2**32 and 0 <= port < 65536):
        return
    header = flows.Header(Address(4, source), Address(4, destination), known[protocol], port)
    assert flows.matches(rule, header, names[arrives], names[leaves]) == inside


CUBES = st.tuples(*[st.lists(st.tuples(st.integers(0, 3), st.integers(0, 2)), min_size=1, max_size=2)] * 3).map(
    lambda axes: tuple(merged((first, first + more) for first, more in axis) for axis in axes)
)
EVERYTHING = (((0, 5),),) * 3
LISTS = st.lists(st.builds(Entry, CUBES, st.sampled_from([("a",), ("b",), ("c",)])), max_size=7).map(
    lambda found: [*found, Entry(EVERYTHING, ("rest",))]
)


@settings(max_examples=150, deadline=None)
@given(LISTS, LISTS, st.randoms(use_true_random=False))
def test_two_lists_part_exactly_where_a_packet_by_packet_look_says(
    left: list[Entry], other: list[Entry], chance: Random
) -> None:
    # Lists as they come in life: mostly alike, some entries moved, some others.
    mixed = [*left[:-1], *other[: chance.randrange(3)]]
    chance.shuffle(mixed)
    for right in (other, [*mixed, left[-1]]):
        found = differing(left, right)
        for point in product(range(6), repeat=3):
            mine, its = (_winner(each, point) for each in (left, right))
            holding = [region for region in found if _holds(region.box, point)]
            assert len(holding) == (left[mine].action != right[its].action), "disjoint, and all of them"
            assert all((region.left, region.right) == (mine, its) for region in holding)


def _holds(box: tuple[tuple[tuple[int, int], ...], ...], point: tuple[int, ...]) -> bool:
    return all(any(low <= at <= high for low, high in one) for at, one in zip(point, box, strict=True))


def _winner(entries: list[Entry], point: tuple[int, ...]) -> int:
    return next(at for at, each in enumerate(entries) if _holds(each.box, point))


def test_a_comparison_that_would_be_too_much_work_is_not_decided() -> None:
    with pytest.raises(Undecided):
        differing([Entry((((n, n),),) * 3, ("a",)) for n in range(6)] + [Entry(EVERYTHING, ("a",))],
                  [Entry(EVERYTHING, ("b",))], limit=5)  # fmt: skip
