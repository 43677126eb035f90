"""Readers written by hand, each for one syntax alone: what ours are measured against.

`routes_by_line` is as one would write it. The two others are the quickest that we could write: they look at nothing that
this one text does not have, check next to nothing, and read values column by column.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from itertools import repeat
from socket import AF_INET, AF_INET6, inet_pton

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Discard, Route
from agile_lattice.intent.services import Service
from agile_lattice.intent.translations import Publish

DISCARD: dict[str | None, Discard | None] = {
    None: None, "blackhole": "blackhole", "Null0": "blackhole", "reject": "unreachable",
}  # fmt: skip
LINE = re.compile(
    r"ip(?:v6)? route (?P<to>\S+)(?: (?P<discard>blackhole|reject|Null0)| (?P<via>[0-9a-f.:]*[.:][0-9a-f.:]*)(?: (?P<beside>"
    r"[a-z]\w*))?| (?P<interface>[a-z]\w*))(?: (?P<distance>\d+))?"
)
QUICK_LINE = re.compile(
    r"(?:ip route ([0-9.]+)/([0-9]+) (?:([0-9.]+)(?: (\w+))?|(blackhole|reject|Null0)|([a-z]\w*))(?: ([0-9]+))?"
    r"|ipv6 route ([0-9a-f:]+)/([0-9]+) ([0-9a-f:]+))"
)
LENGTHS = {str(length): length for length in range(129)}


def routes_by_line(text: str) -> list[Route]:
    """Read static routes of FRRouting: a regular expression, line by line."""
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        got = LINE.fullmatch(line)
        if got is None:
            continue
        to, discard, via, beside, interface, distance = got.groups()
        found.append(
            Route(
                Prefix.parse(to), Address.parse(via) if via else None, beside or interface, DISCARD[discard],
                int(distance or 1), place=Place("text", number),
            )
        )  # fmt: skip
    return found


def routes_by_column(text: str) -> list[Route]:
    """Read the same as quickly as we can."""
    matches = [*map(QUICK_LINE.fullmatch, text.split("\n"))]
    rows = [(number, *match.groups()) for number, match in enumerate(matches, 1) if match]
    numbers, to, length, via, beside, discard, interface, distance, *_ = zip(
        *[row for row in rows if row[1]], strict=True
    )
    known = {each: Address.parse(each) if each else None for each in {*via}}
    four = map(
        Route, _prefixes(4, to, length), map(known.__getitem__, via),
        [one or other for one, other in zip(beside, interface, strict=True)], map(DISCARD.__getitem__, discard),
        [int(each) if each else 1 for each in distance], *_rest(numbers),
    )  # fmt: skip
    numbers, *_, to, length, via = zip(*[row for row in rows if row[8]], strict=True)
    six = map(
        Route, _prefixes(6, to, length), _addresses(6, via), repeat(None), repeat(None), repeat(1), *_rest(numbers)
    )
    return sorted([*four, *six], key=lambda each: each.place.line)


def _rest(numbers: Sequence[int]) -> list[Iterable[object]]:
    """Return what follows the distance of a route: all as it is by default, and the place."""
    return [repeat(None), repeat(False), repeat(""), repeat(()), repeat(""), map(Place, repeat("text"), numbers)]


def published_by_column(text: str) -> list[Publish]:
    """Read rules of iptables that publish one port each as quickly as we can."""
    numbered = [(number, line) for number, line in enumerate(text.split("\n"), 1) if line.startswith("-A PREROUTING")]
    heads, names, tails = zip(*[line.split('"') for _, line in numbered], strict=True)
    words = " ".join(heads).split(" ")
    width = heads[0].count(" ") + 1
    outside, faces, ports = ([*words[index::width]] for index in (3, 5, 11))
    addresses = {each: Address.parse(each.removesuffix("/32")) for each in {*outside}}
    facing = {each: (each,) for each in {*faces}}
    services = {each: (Service("tcp", ((int(each), int(each)),)),) for each in {*ports}}
    return [
        *map(
            Publish, map(addresses.__getitem__, outside), _addresses(4, [tail.rpartition(" ")[2] for tail in tails]), names,
            map(facing.__getitem__, faces), repeat(None), map(services.__getitem__, ports), repeat(None), repeat(False),
            repeat(()), repeat(""), map(Place, repeat("text"), [number for number, _ in numbered]),
        )
    ]  # fmt: skip


def _addresses(family: int, texts: Iterable[str]) -> Iterable[Address]:
    values = map(int.from_bytes, map(inet_pton, repeat(AF_INET if family == 4 else AF_INET6), texts))
    return map(Address, repeat(family), values)


def _prefixes(family: int, texts: Iterable[str], lengths: Iterable[str]) -> Iterable[Prefix]:
    values = map(int.from_bytes, map(inet_pton, repeat(AF_INET if family == 4 else AF_INET6), texts))
    return map(Prefix, repeat(family), values, map(LENGTHS.__getitem__, lengths))
