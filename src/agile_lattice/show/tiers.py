"""Where devices and the links between them stand in a drawing: in tiers, from the public side inwards.

Links and devices take turns: public links, the devices on them, the links behind those, and so on. So a line from a
device to a link never passes another device, and since every port has a place of its own on its device's edge, lines
are straight and do not fall together.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from agile_lattice.behaviour.topology import Port, Topology
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.model import Device, Network

CARD_WIDTH, CARD_GAP, BAR_STEP, SPACE = 2.6, 0.35, 0.4, 0.4  # inches
APART = 0.07  # inches between two lines, if there is room


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
    """A link in the drawing: a horizontal line, and the places of its ports on it with those at the cards."""

    link: Link
    y: float
    drops: list[tuple[float, float]]

    @property
    def ends(self) -> tuple[float, float]:
        """Where the line begins and ends."""
        places = [x for x, _ in self.drops]
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
    for (name, subnet), ports in Topology(network).segments.items():
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
    links = links_of(network)
    tiers = _tiers(network, links)
    cards: dict[str, Card] = {}
    bars: list[Bar] = []
    y = 0.0
    for above, names in tiers:
        y += SPACE + BAR_STEP * len(above)
        bars += [Bar(link, y - SPACE - BAR_STEP * (len(above) - at - 1), []) for at, link in enumerate(above)]
        wanted = {name: _above(name, above, cards) for name in names}
        names = sorted(names, key=lambda name: wanted[name])
        for name, x in zip(names, _spread([wanted[name] for name in names]), strict=True):
            device = next(each for each in network.devices if each.name == name)
            cards[name] = Card(device, x - CARD_WIDTH / 2, y, heights[name])
        y += max((heights[name] for name in names), default=0) + SPACE
    left = min((card.x for card in cards.values()), default=0.0) - CARD_GAP
    for card in cards.values():
        card.x -= left
    _drop(cards, bars)
    return Placed(list(cards.values()), bars, max(card.x for card in cards.values()) + CARD_WIDTH + CARD_GAP, y)


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
        for name in bar.link.devices:
            edges[name, bar.y < cards[name].y].append(bar)
    lines: list[tuple[float, float, float]] = []
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
