"""A reader written by hand for one syntax alone, as one would write it: what ours is measured against."""

from __future__ import annotations

import re

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.intent.routes import Discard, Route

DISCARD: dict[str | None, Discard | None] = {
    None: None, "blackhole": "blackhole", "Null0": "blackhole", "reject": "unreachable",
}  # fmt: skip
LINE = re.compile(
    r"ip(?:v6)? route (?P<to>\S+)(?: (?P<discard>blackhole|reject|Null0)| (?P<via>[0-9a-f.:]*[.:][0-9a-f.:]*)(?: (?P<beside>"
    r"[a-z]\w*))?| (?P<interface>[a-z]\w*))(?: (?P<distance>\d+))?"
)


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
