"""Where devices and the links between them stand in a drawing: in tiers, from the public side inwards.

Links and devices take turns: public links, the devices on them, the links behind those, and so on. So a line from a
device to a link never passes another device, and since every port has a place of its own on its device's edge, lines
are straight and do not fall together.

A tier of many devices is folded into rows, on both sides of a lane that stays free below those that lead to it. Each
row has the links of its devices above it; a link that several rows share goes on in the lane.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

import msgspec

from agile_lattice.behaviour.neighbours import Port
from agile_lattice.behaviour.topology import Topology
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.model import Device, Network

CARD_WIDTH, CARD_GAP, BAR_STEP, SPACE = 2.6, 0.35, 0.4, 0.4  # inches
APART = 0.07  # inches between two lines, if there is room
ACROSS = 6  # devices side by side, before a tier is folded


class Link(msgspec.Struct, frozen=True):
    """A subnet that is drawn as a bar: shared by devices, or towards a public side.

    Attributes:
        subnets: One for each family, if the same ports share both.
        ports: Who is on it.
        public: Whether it faces a public side.
    """

    subnets: tuple[Prefix, ...]
    ports: tuple[Port, ...]
    public: bool

    @property
    def devices(self) -> list[str]:
        """The names of the devices on it, in order."""
        return list(dict.fromkeys(port.device.name for port in self.ports))


class Card(msgspec.Struct):
    """A device in the drawing: its left upper corner, in inches, y downwards."""

    device: Device
    x: float
    y: float
    height: float


class Bar(msgspec.Struct):
    """A link in the drawing, or as much of it as is there for one row: a horizontal line.

    Attributes:
        y: How far down.
        devices: The devices that hang on it.
        joined: Where it goes on from the bar of the row before: how far right, and how far down that one is.
        drops: Of each device how far right its line is, and where that ends at the card.
    """

    link: Link
    y: float
    devices: list[str]
    joined: tuple[float, float] | None = None
    drops: list[tuple[float, float]] = []

    @property
    def ends(self) -> tuple[float, float]:
        """Where the line begins and ends."""
        places = [x for x, _ in self.drops]
        if self.joined is not None:
            places.append(self.joined[0])
        middle = (min(places) + max(places)) / 2
        half = max((max(places) - min(places)) / 2 + 0.15, 0.9)
        return middle - half, middle + half


class Placed(msgspec.Struct):
    """A network laid out: cards, bars, and how large it is, in inches."""

    cards: list[Card]
    bars: list[Bar]
    width: float
    height: float


def links_of(network: Network) -> list[Link]:
    """Return the links that a drawing shows: what several devices share, and what faces a public side."""
    by_ports: dict[tuple[tuple[str, str], ...], list[tuple[Prefix, list[Port]]]] = defaultdict(list)
    for subnet, ports in _segments(network):
        by_ports[tuple(sorted((port.device.name, port.interface.name) for port in ports))].append((subnet, ports))
    found = []
    for members in by_ports.values():
        ports = members[0][1]
        public = any(network.exposure(port.interface.zone) == "public" for port in ports)
        if public or len({port.device.name for port in ports}) > 1:
            subnets = sorted((subnet for subnet, _ in members), key=lambda each: (each.family, each.value))
            found.append(Link(tuple(subnets), tuple(ports), public))
    return found


def _segments(network: Network) -> Iterator[tuple[Prefix, list[Port]]]:
    """Yield the subnets that ports share; who names no link is on the one that others name, if that is only one."""
    by_subnet: dict[Prefix, dict[str, list[Port]]] = defaultdict(dict)
    for (name, subnet), ports in Topology(network).neighbours.segments.items():
        by_subnet[subnet][name] = list(ports)
    for subnet, links in by_subnet.items():
        named = [name for name in links if name]
        if "" in links and len(named) == 1:
            links[named[0]] += links.pop("")
        yield from ((subnet, ports) for ports in links.values())


def placed(network: Network, heights: dict[str, float]) -> Placed:
    """Lay a network out.

    Args:
        network: The network.
        heights: How high the card of each device is, in inches.
    """
    plan = _Plan(network, heights)
    links = links_of(network)
    for above, names in _tiers(network, links):
        leading = [link for link in links if link not in above]
        plan.tier(above, names, {name for link in leading for name in link.devices})
    return plan.done()


class _Plan:
    """Puts tiers below one another."""

    def __init__(self, network: Network, heights: Mapping[str, float]) -> None:
        self.devices = {each.name: each for each in network.devices}
        self.heights = heights
        self.cards: dict[str, Card] = {}
        self.bars: list[Bar] = []
        self.y = 0.0

    def tier(self, above: Sequence[Link], names: Sequence[str], leading_on: Collection[str]) -> None:
        """Put a tier below what is there.

        Args:
            above: Its links.
            names: Its devices.
            leading_on: Devices that other links lead away from; of many devices these stand in the last row.
        """
        hang = {*self.cards}
        wanted = {name: _above(name, above, self.cards) for name in names}
        names = sorted(names, key=lambda name: wanted[name])
        over = [
            self.cards[name] for name in dict.fromkeys(name for link in above for name in link.devices if name in hang)
        ]
        lane = _lane(over)
        if len(names) <= ACROSS or lane is None:
            self.row(above, names, _spread([wanted[name] for name in names]), lane)
            return
        leaves = [name for name in names if name not in leading_on]
        rows = [leaves[at : at + ACROSS] for at in range(0, len(leaves), ACROSS)]
        rows += [[name for name in names if name in leading_on]]
        for row in rows:
            if row:
                self.row([link for link in above if {*row} & {*link.devices}], row, _beside(lane, len(row)), lane)

    def row(
        self, above: Sequence[Link], names: Sequence[str], places: Sequence[float], lane: tuple[float, float] | None
    ) -> None:
        """Put a row of devices, and their links above them, below what is there."""
        self.y += SPACE + BAR_STEP * len(above)
        for at, link in enumerate(above):
            y = self.y - SPACE - BAR_STEP * (len(above) - at - 1)
            before = next((bar for bar in reversed(self.bars) if bar.link == link), None)
            here = [name for name in link.devices if name in names or (name in self.cards and before is None)]
            joined = None
            if before is not None and lane is not None:
                shared = len({bar.link.subnets for bar in self.bars if bar.joined and bar.link != link})
                joined = (lane[0] + APART * (1 + shared), before.y)
            self.bars.append(Bar(link, y, here, joined, []))
        for name, x in zip(names, places, strict=True):
            self.cards[name] = Card(self.devices[name], x - CARD_WIDTH / 2, self.y, self.heights[name])
        self.y += max((self.heights[name] for name in names), default=0) + SPACE

    def done(self) -> Placed:
        """Return what was laid out, from the left edge on."""
        cards = list(self.cards.values())
        left = min((card.x for card in cards), default=0.0) - CARD_GAP
        for card in cards:
            card.x -= left
        for bar in self.bars:
            if bar.joined is not None:
                bar.joined = (bar.joined[0] - left, bar.joined[1])
        _drop(self.cards, self.bars)
        return Placed(cards, self.bars, max(card.x for card in cards) + CARD_WIDTH + CARD_GAP, self.y)


def _lane(over: Sequence[Card]) -> tuple[float, float] | None:
    """Return the lane that stays free below the devices that lead to a tier; None if they are too far apart for one."""
    if not over:
        return -CARD_GAP, CARD_GAP
    low, high = min(card.x for card in over), max(card.x for card in over) + CARD_WIDTH
    return (low - CARD_GAP, high + CARD_GAP) if high - low < 3 * (CARD_WIDTH + CARD_GAP) else None


def _beside(lane: tuple[float, float], count: int) -> list[float]:
    """Return the middles of so many cards, in ascending order, half of them on each side of a lane."""
    step = CARD_WIDTH + CARD_GAP
    left = [lane[0] - CARD_WIDTH / 2 - step * at for at in reversed(range(count // 2))]
    return [*left, *(lane[1] + CARD_WIDTH / 2 + step * at for at in range(count - count // 2))]


def _above(name: str, links: Sequence[Link], cards: Mapping[str, Card]) -> float:
    """Return where a device would best stand: under the middle of those that its links lead up to."""
    near = [cards[each].x + CARD_WIDTH / 2 for link in links if name in link.devices for each in link.devices
            if each in cards]  # fmt: skip
    return sum(near) / len(near) if near else 0.0


def _spread(wanted: Sequence[float]) -> list[float]:
    """Return places in ascending order that are far enough apart for cards, about where they were wanted."""
    places: list[float] = []
    for x in wanted:
        places.append(max(x, places[-1] + CARD_WIDTH + CARD_GAP) if places else x)
    shift = sum(place - x for place, x in zip(places, wanted, strict=True)) / len(places) if places else 0.0
    return [place - shift for place in places]


def _tiers(network: Network, links: Sequence[Link]) -> list[tuple[list[Link], list[str]]]:
    """Part links and devices into tiers: the links that stand above some devices, and these devices, in order."""
    left = [each.name for each in network.devices]
    waiting = list(links)
    tiers: list[tuple[list[Link], list[str]]] = []
    order: dict[str, int] = {}
    above = [link for link in waiting if link.public]
    while left:
        if not above:  # nothing that stands leads to these
            above = [link for link in waiting if left[0] in link.devices]
        waiting = [link for link in waiting if link not in above]
        above.sort(key=lambda link: _mean(order.get(name, len(order)) for name in link.devices))
        reached = [name for link in above for name in link.devices] or [left[0]]
        names = [name for name in dict.fromkeys(reached) if name in left]
        tiers.append((above, names))
        order.update({name: at for at, name in enumerate(names)})
        left = [name for name in left if name not in names]
        above = [link for link in waiting if any(name in names for name in link.devices)]
    if above or waiting:
        tiers.append(([*above, *(link for link in waiting if link not in above)], []))
    return tiers


def _mean(values: Iterable[int]) -> float:
    found = list(values)
    return sum(found) / len(found) if found else 0.0


def _drop(cards: dict[str, Card], bars: Sequence[Bar]) -> None:
    """Give every port its place on the edge of its card: those of bars above on the top, the others below."""
    edges: dict[tuple[str, bool], list[Bar]] = defaultdict(list)
    for bar in bars:
        for name in bar.devices:
            edges[name, bar.y < cards[name].y].append(bar)
    lines = [(bar.joined[0], bar.joined[1], bar.y) for bar in bars if bar.joined is not None]
    for (name, top), members in edges.items():
        card = cards[name]
        members.sort(key=lambda bar: _mean(round(100 * cards[each].x) for each in bar.link.devices))
        edge = card.y if top else card.y + card.height
        for at, bar in enumerate(members, 1):
            low, high = min(bar.y, edge), max(bar.y, edge)
            near = [x for x, start, end in lines if start < high and low < end]
            x = _free(card.x + CARD_WIDTH * at / (len(members) + 1), near, card)
            lines.append((x, low, high))
            bar.drops.append((x, edge))


def _free(wanted: float, taken: Sequence[float], card: Card) -> float:
    """Return the place on a card's edge nearest to the wanted one that is apart from other lines."""
    steps = sorted((step for step in range(-20, 21)), key=abs)
    places = (wanted + step * APART / 2 for step in steps)
    inside = (x for x in places if card.x + APART < x < card.x + CARD_WIDTH - APART)
    return next((x for x in inside if all(abs(x - other) >= APART * 0.99 for other in taken)), wanted)
