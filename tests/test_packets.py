"""Sets of packets and ways through a network, against trying every point."""

from __future__ import annotations

from itertools import product
from random import Random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import agile_lattice as al
import rule_lists as lists
import solver
from agile_lattice.behaviour import flows
from agile_lattice.behaviour.matching import Space
from agile_lattice.behaviour.proving import prove
from agile_lattice.behaviour.tables import Table
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import BITS, Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.intent.permits import passages
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.intent.stages import family_of, split
from agile_lattice.packets.actions import Action, same_on
from agile_lattice.packets.boxes import Box, Undecided, count, difference, overlap, remainder, some_point
from agile_lattice.packets.classes import worth_it
from agile_lattice.packets.functions import Entry, Exactly, differing
from agile_lattice.packets.shadows import crossings, meetings, shadows
from agile_lattice.packets.spans import meet, merged, minus
from strategies import devices
from where import examples

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


def numbers(spans: tuple[tuple[int, int], ...]) -> set[int]:
    return {number for first, last in spans for number in range(first, last + 1)}


@pytest.mark.parametrize("seed", range(examples(3)))
def test_sets_of_few_and_of_many_spans_are_met_and_parted_exactly(seed: int) -> None:
    random = Random(seed)
    for _ in range(3000):
        one, other = (
            merged(
                (at, at + random.randrange(4)) for at in random.choices(range(150), k=random.choice([0, 1, 2, 5, 40]))
            )
            for _ in range(2)
        )
        for found, wanted in (
            (meet(one, other), numbers(one) & numbers(other)),
            (minus(one, other), numbers(one) - numbers(other)),
        ):
            assert numbers(found) == wanted and found == merged(found), (one, other)


def test_too_much_work_is_said_and_not_guessed() -> None:
    comb = tuple((2 * n, 2 * n) for n in range(40))
    grid = [(((0, 100),), ((n, n),), comb) for n in range(60)]
    with pytest.raises(Undecided, match="more than 500 boxes"):
        remainder([(((0, 99),), ((0, 99),), ((0, 99),))], grid, limit=500)


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
    entries += [(Prefix(4, one.addresses[0].last, 32), (0, 0), "own") for one in (near, far)]
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


@settings(max_examples=examples(60), deadline=None)
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


@settings(max_examples=examples(130), deadline=None, suppress_health_check=list(HealthCheck))
@given(devices(("iproute2", "nftables")), st.data())
def test_a_rule_matches_a_packet_exactly_if_its_box_holds_it(device: Device, data: st.DataObject) -> None:
    names = [each.name for each in device.interfaces]
    space = Space(device.interfaces, data.draw(st.sampled_from([4, 4, 6])))
    rules = [each for each in split(device.translations) if space.speaks(each)]
    if not names or not rules:
        return
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
    top = 1 << BITS[space.family]
    if not (0 <= source < top and 0 <= destination < top and 0 <= port < 65536):
        return
    ends = Address(space.family, source), Address(space.family, destination)
    header = flows.Header(*ends, known[protocol], port)
    assert flows.matches(rule, header, names[arrives], names[leaves]) == inside


def decided(device: Device, header: flows.Header, arrives: str, leaves: str, part: str) -> object:
    """What a stage makes of a packet, worked out rule by rule in the plainest way."""
    if part == "permits":
        rules = passages(device.permits)
        verdicts = (each.verdict for each in rules if flows.matches(each, header, arrives, leaves))
        return next(verdicts, "drop" if rules else "pass")
    for rule in split(device.translations):
        if (
            rule.stage == part
            and family_of(rule) == header.source.family
            and flows.matches(rule, header, arrives, leaves)
        ):
            return rule.verdict, rule.to, rule.to_port, leaves if rule.verdict == "egress" else ""
    return "keep", None, None, ""


@settings(max_examples=examples(100), deadline=None, suppress_health_check=list(HealthCheck))
@given(devices(("iproute2", "nftables")), st.data())
def test_what_devices_do_otherwise_is_in_the_regions_of_their_proof(device: Device, data: st.DataObject) -> None:
    names = [each.name for each in device.interfaces]
    lists = {"translations": list(device.translations), "permits": list(device.permits)}
    if not names or not any(lists.values()):
        return
    for members in lists.values():
        data.draw(st.randoms(use_true_random=False)).shuffle(members)
        del members[: data.draw(st.integers(0, 1))]
    other = replace(device, **{section: tuple(members) for section, members in lists.items()})
    proof = prove(device, other)
    assert not proof.undecided
    space = Space(device.interfaces, data.draw(st.sampled_from([4, 4, 6])))
    rules = [*split(device.translations), *passages(device.permits)]
    boxes = [box for each in rules if space.speaks(each) and all(box := space.of_rule(each))]
    known = {number: name for name, number in PROTOCOL_NUMBERS.items()}
    for box in data.draw(st.lists(st.sampled_from(boxes), max_size=6)) if boxes else ():
        point = [data.draw(st.sampled_from(data.draw(st.sampled_from(spans)))) for spans in box]
        if point[2] not in known:
            continue
        ends = (Address(space.family, value) for value in point[3:5])
        header = flows.Header(*ends, known[point[2]], point[5])
        sides = names[point[0]], names[point[1]]
        for part in ("arrival", "permits", "departure"):
            mine, its = (decided(with_learned(each), header, *sides, part) for each in (device, other))
            regions = [each.region for each in proof.partings if each.part == part and each.region is not None]
            held = [
                region for region in regions if region.family == space.family
                and any(holds(space.of_match(match), tuple(point)) for match in region.matches)
            ]  # fmt: skip
            assert held or mine == its or (part != "permits" and _equal_effect(device, header, part, mine, its))


def _equal_effect(device: Device, header: flows.Header, part: str, mine: object, its: object) -> bool:
    """Whether two ways of writing what is done come to the same address and port for a packet."""
    results = []
    for verdict, to, to_port, leaves in (mine, its):  # type: ignore[attr-defined]
        now = header.destination if part == "arrival" else header.source
        if verdict == "egress":
            one = device.interface(leaves)
            own = [each.address for each in one.addresses if each.family == now.family] if one else []
            now = next((each for each in own if not each.is_link_local), None)
        elif verdict == "rewrite":
            now = to.single or to
        elif verdict == "shift":
            return True  # where a prefix is moved, the algebra of actions is held against single packets elsewhere
        results.append((now, header.port if to_port is None else to_port))
    return results[0] == results[1]


def chosen(chance: Random, count: int, dimensions: int, top: int) -> list[Entry]:
    """Entries that overlap a lot, and whose actions meet in single points."""
    found = []
    for _ in range(count):
        box = []
        for _ in range(dimensions):
            starts = [chance.randrange(top) for _ in range(chance.choice([1, 1, 1, 2]))]
            spans = [(first, min(top - 1, first + chance.choice([0, 0, 1, 2, top]))) for first in starts]
            box.append(((0, top - 1),) if chance.random() < 0.3 else merged(spans))
        sets, shifts = [], []
        for dimension in range(dimensions):
            way = chance.random()
            if way < 0.15:
                sets.append((dimension, chance.randrange(top)))
            elif way < 0.3:
                shifts.append((dimension, chance.choice([-2, -1, 1, 2])))
        drops = chance.random() < 0.25
        action = Action("drop") if drops else Action("go", tuple(sets), tuple(shifts))
        found.append(Entry(tuple(box), action))
    return found


def rewritten(chance: Random, entries: list[Entry], top: int) -> list[Entry]:
    """A list as somebody else would write it: much the same, some of it split, some of it moved."""
    found = list(entries)
    for _ in range(chance.randrange(3)):
        found[chance.randrange(len(found) + 1) : 0] = chosen(chance, 1, len(entries[0].box) if entries else 1, top)
    if found and chance.random() < 0.5:
        each = found.pop(chance.randrange(len(found)))
        for first, last in each.box[0]:
            for number in range(first, last + 1):
                at = chance.randrange(len(found) + 1) if chance.random() < 0.3 else len(found) // 2
                found.insert(at, Entry((((number, number),), *each.box[1:]), each.action))
    if chance.random() < 0.6:
        chance.shuffle(found)
    return found


def holds(box: tuple[tuple[tuple[int, int], ...], ...], point: Point) -> bool:
    return all(any(low <= at <= high for low, high in one) for at, one in zip(point, box, strict=True))


def first(entries: list[Entry], point: Point) -> int:
    return next(at for at, each in enumerate(entries) if holds(each.box, point))


@pytest.mark.parametrize("seed", range(examples(4)))
def test_two_lists_part_exactly_where_a_packet_by_packet_look_says(seed: int) -> None:
    for turn in range(400):
        chance = Random(1000 * seed + turn)
        dimensions, top = chance.choice([1, 2, 3]), chance.choice([4, 5])
        left = chosen(chance, chance.randrange(8), dimensions, top)
        other = chosen(chance, chance.randrange(8), dimensions, top)
        right = other if chance.random() < 0.3 or not left else rewritten(chance, left, top)
        rest = Entry((((0, top - 1),),) * dimensions, Action("go"))
        part_exactly([*left, rest], [*right, rest], dimensions, top)


def part_exactly(left: list[Entry], right: list[Entry], dimensions: int, top: int) -> None:
    """Look at two lists packet by packet, and find what is said of them to be so."""
    found = differing(left, right)
    assert not found.undecided and not found.unseen
    exactly = Exactly(left, right)
    regions = [(each, exactly.boxes(each)) for each in found.regions]
    for point in product(range(top), repeat=dimensions):
        mine, its = first(left, point), first(right, point)
        differs = left[mine].action.applied(point) != right[its].action.applied(point)
        here = [(each.left, each.right) for each, boxes in regions for box in boxes if holds(box, point)]
        assert here == [(mine, its)] * differs, (left, right, point)
    for each, boxes in regions:
        some = [tuple(spans[at][at] for spans in each.some) for at in (0, -1)]
        assert all(any(holds(box, point) for box in boxes) for point in some), "what it shows is one of them"


@pytest.mark.parametrize("seed", range(examples(2)))
def test_sets_of_many_spans_are_compared_as_exactly(seed: int) -> None:
    tried = 0
    for turn in range(120):
        chance = Random(1000 * seed + turn)
        dimensions, top = chance.choice([1, 2, 3]), 9
        sets = [merged((n, n) for n in chance.sample(range(0, top, 2), chance.randint(1, 5))) for _ in range(4)]
        lists_ = [
            [
                Entry(tuple(chance.choice([*sets, *each.box]) for _ in range(dimensions)), each.action)
                for each in chosen(chance, chance.randrange(2, 7), dimensions, top)
            ]
            for _ in range(2)
        ]
        if chance.random() < 0.3:
            lists_[1] = rewritten(chance, lists_[0], top)
        rest = Entry((((0, top - 1),),) * dimensions, Action("go"))
        left, right = ([*each, rest] for each in lists_)
        tried += worth_it([each.box for each in (*left, *right)])
        part_exactly(left, right, dimensions, top)
    assert tried > 30, "numbers were taken together in many of them"


def test_whether_two_actions_do_the_same_to_a_box_is_what_they_do_to_its_packets() -> None:
    chance, alike = Random(7), 0
    for _ in range(2000):
        one, other = (each.action for each in chosen(chance, 2, 2, 5))
        low = [chance.randrange(5) for _ in range(2)]
        box = tuple(((n, n + chance.choice([0, 0, 1])),) for n in low)
        every = list(product(*(range(spans[0][0], spans[0][1] + 1) for spans in box)))
        same = all(one.applied(each) == other.applied(each) for each in every)
        assert same_on(one, other, box) == same, (one, other, box)
        alike += same
    assert alike > 100


@pytest.mark.parametrize("seed", range(examples(2)))
def test_what_earlier_entries_take_is_what_a_packet_by_packet_look_says(seed: int) -> None:
    for turn in range(400):
        chance = Random(1000 * seed + turn)
        dimensions, top = chance.choice([2, 3]), chance.choice([3, 5])
        boxes = [each.box for each in chosen(chance, chance.randrange(1, 10), dimensions, top)]
        everything = list(product(range(top), repeat=dimensions))
        met = meetings(boxes)
        crossed = set(crossings(boxes, [(at,) for at in range(dimensions)], range(dimensions)))
        for at, shadow in enumerate(shadows(boxes, [()] * dimensions)):
            mine = {point for point in everything if holds(boxes[at], point)}
            left = {point for point in mine if not any(holds(box, point) for box in boxes[:at])}
            taken = {point for taker in shadow.takers for point in mine if holds(boxes[taker], point)}
            assert {earlier for later, earlier in met if later == at} == {
                earlier for earlier, box in enumerate(boxes[:at]) if any(holds(box, point) for point in mine)
            }
            assert not shadow.unknown and bool(left) == (shadow.some is not None)
            assert taken == (set() if left else mine) and all(taker < at for taker in shadow.takers)
            if shadow.some is not None:
                assert tuple(spans[0][0] for spans in shadow.some) in left
            if all(len(spans) == 1 for box in boxes for spans in box):
                assert {early for late, early in crossed if late == at} == {
                    before for before in range(at) if _crosses(boxes[at], boxes[before])
                }


def _crosses(later: Box, earlier: Box) -> bool:
    """Whether an earlier box of single spans holds all of a later one but in one dimension, and reaches beyond it."""
    sides = [(mine[0], its[0]) for mine, its in zip(later, earlier, strict=True)]
    short = [not (low <= mine[0] and mine[1] <= high) for mine, (low, high) in sides]
    beyond = any(low < mine[0] or high > mine[1] for mine, (low, high) in sides)
    return sum(short) == 1 and beyond and all(low <= mine[1] and mine[0] <= high for mine, (low, high) in sides)


@pytest.mark.parametrize("top", [2**32, 2**63 - 1, 2**63, 2**64, 2**128])
def test_numbers_of_every_width_are_compared_exactly(top: int) -> None:
    # The last numbers of each width, and those around the middle: where one that is cut short would fall together.
    edges = sorted({0, 1, top // 2 - 1, top // 2, top - 2, top - 1})
    for at in edges:
        one, rest = Entry((((at, at),),), Action("drop")), Entry((((0, top - 1),),), Action("go"))
        [region] = differing([one, rest], [rest]).regions
        assert region.boxes == ((((at, at),),),) == (region.some,)
        assert shadows([rest.box, one.box])[1].takers == (0,) and not shadows([one.box, rest.box])[1].takers
        moved = Entry((((0, at),),), Action("go", (), ((0, 1),)))
        fixed = Entry((((0, at),),), Action("go", ((0, at + 1),)))
        boxes = [each.boxes for each in differing([moved, rest], [fixed, rest]).regions]
        assert boxes == ([((((0, at - 1),),),)] if at else []), "they agree on the last number, and on that only"


@pytest.mark.parametrize("seed", range(examples(2)))
def test_a_general_solver_says_the_same(seed: int) -> None:
    verdicts = []
    for turn in range(1000 * seed, 1000 * seed + 50):
        chance = Random(turn)
        left = lists.generated(chance.randrange(5, 20), seed=turn)
        right = lists.rewritten(left, seed=turn + 1)
        if chance.random() < 0.6:
            right = lists.changed(right, changes=chance.choice([1, 1, 2]), seed=turn + 2)
        found = differing(left, right)
        assert not found.undecided
        verdicts.append(solver.same(left, right))
        assert (not found.regions) == verdicts[-1], (seed, turn)
        for each in found.regions:
            point = [spans[0][0] for spans in each.some]
            assert solver.applied(left, point) != solver.applied(right, point)
    assert 12 < sum(verdicts) < 38, "as many of the one sort as of the other"


def test_a_comparison_that_would_be_too_much_work_is_not_decided() -> None:
    def prefixes(start: int, to: str) -> list[Entry]:
        at = {0x0A000000: "source", 0xAC100000: "destination"}[start]
        return [lists.entry(Action(to), **{at: lists.prefix(start + n * 256, 24)}) for n in range(300)]

    rows, columns, rest = prefixes(0x0A000000, "a"), prefixes(0xAC100000, "b"), [lists.entry(lists.KEEP)]
    assert not differing(rows + columns + rest, rows[::-1] + columns[::-1] + rest).regions
    with pytest.raises(Undecided, match="not decided"):
        differing(rows + columns + rest, columns + rows + rest, limit=50_000)
    found = differing(rows + columns + rest, columns + rows + rest)
    assert len(found.regions) + found.unseen == 300 * 300 and found.unseen, "the first ones, and how many more"
