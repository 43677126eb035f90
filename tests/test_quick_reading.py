"""The quick way of reading long texts understands nothing otherwise than the thorough one."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from itertools import product
from random import Random
from typing import Any

import pytest
from hypothesis import event, example, given, settings
from hypothesis import strategies as st

from agile_lattice.dialects import read_device
from agile_lattice.dialects.base_kinds import BASE
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.patterns import NOT_OF_KIND
from agile_lattice.dialects.reading.texts import Reading, best_reading, read_form
from agile_lattice.intent.addresses import BITS
from agile_lattice.intent.places import Place
from strategies import devices
from test_laws import MANY, SOME, SPOKEN, rendered


@pytest.mark.parametrize("speaks", SPOKEN)
@settings(SOME, max_examples=12)
@given(data=st.data())
def test_the_quick_way_of_reading_is_the_thorough_one(speaks: tuple[str, ...], data: st.DataObject) -> None:
    device, texts = rendered(data.draw(devices(speaks)))
    pairs = [(each.file, each.text) for each in texts if each.text]
    quick, thorough = both_ways(lambda: read_device(device.name, speaks, pairs))
    assert thorough == quick
    assert [spots(one.place) for one in thorough.device.routes] == [spots(one.place) for one in quick.device.routes]


def spots(place: Place) -> tuple[int, dict[str | int, int]]:
    """Return the lines of a place and its parts: places themselves are equal wherever they are."""
    return place.line, {part: each.line for part, each in (place.parts or {}).items()}


def both_ways(read: Callable[[], Any]) -> tuple[Any, Any]:
    """Read quickly, with a mould for whatever could have one, and statement by statement."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("agile_lattice.dialects.moulds.SEEN_OFTEN", 1)
        patch.setattr("agile_lattice.dialects.reading.plain.ALIKE", 2)
        patch.setattr("agile_lattice.dialects.surfaces.shortening.MANY", 2)
        patch.setattr("agile_lattice.dialects.surfaces.shortening.ALIKE", 2)
        quick = read()
        patch.setattr("agile_lattice.dialects.reading.understanding.all_but_plain", lambda statements, *_: statements)
        patch.setattr("agile_lattice.dialects.reading.texts.shortened", lambda text: None)
        return quick, read()


def spellings(name: str, family: int) -> st.SearchStrategy[str]:
    """Draw right spellings of a kind of addresses."""
    address = st.ip_addresses(v=family)
    prefix = st.tuples(address, st.integers(0, BITS[family])).map("%s/%d".__mod__)
    span = st.lists(address, min_size=2, max_size=2).map(lambda ends: "-".join(map(str, sorted(ends))))
    whole = {"address": [], "prefix": [prefix], "prefixed": [prefix]}.get(name, [prefix, span])
    return st.one_of(*whole, *([] if name == "prefix" else [address.map(str)]))


@pytest.mark.parametrize("name", [name for name, kind in BASE.items() if kind.columns])
@settings(MANY, max_examples=60)
@given(data=st.data())
def test_many_values_are_read_as_each_is(name: str, data: st.DataObject) -> None:
    kind = BASE[name]
    assert kind.columns is not None
    grouped, read_all = kind.columns
    near = st.from_regex(rf"\A(?:{grouped})\Z", alphabet=st.characters(codec="ascii"))
    right = spellings(name[:-1], int(name[-1])) if name[-1].isdigit() else st.integers(0, 99999).map(str)
    texts = data.draw(st.lists(right, min_size=1, max_size=4) | st.lists(right | near, min_size=1, max_size=4))
    rows = [match.groups() for match in map(re.compile(grouped).fullmatch, texts) if match]
    if len(rows) == len(texts):
        try:
            values = [*read_all(*zip(*rows, strict=True))]
        except NOT_OF_KIND:
            event("not of this kind")
            return
        assert values == [kind.read(text) for text in texts]
        assert all(re.fullmatch(kind.pattern, text) for text in texts)
        event("read")


# Phrases of which many lines could be understood in several ways: the first that leads to the end counts.
AMBIGUOUS = """
dialect = "murky"
title = "what could be many things"
[kinds]
interface = {is = "word", pattern = '[a-z0-9]+'}
door = {is = "word", pattern = '[a-z]+'}
discard = {words = {drop = "blackhole", fail = "unreachable"}}
distance = {is = "number", least = 1, most = 255}
metric = {is = "number", least = 1, most = 99}
[[forms]]
name = "lines"
file = "murky.txt"
carries = ["routes"]
surface = {kind = "lines"}
phrases = '''
note <_:line>                                                                      => aside
%s
<to:prefix4> [<interface>]                                                         => route discard=prohibit
'''
"""
PHRASES = [
    "to <to:prefix4> (<distance> | <interface>) [<metric>]",
    "to <to:prefix4> [<discard>] [<interface:door>] [<distance>]",
    "to <to:prefix4> [(via [<via:address4>] | dev)] [<interface>] {[at <distance>] [by <metric>] [<discard>]}",
    "[to] <to:prefix4> (<discard> | [dev] <interface> | ) [<distance>]",
    "to <to:prefix4> ([dev <interface>] | drop <distance> | <discard> [<metric>])",
    "{[dev <interface>] [at <distance>]} to <to:prefix4> [[quick] <discard>] [<metric>]",
    "to <to:prefix4> {[quick <discard>] [<distance>]} [<interface>]",
]
STARTS = st.sampled_from(["to ", "", "note ", "dev lan0 to ", "at 7 to "])
WORDS = [
    "7, drop, dev",
    "7, drop, lan0",
    "at 7, by 8, lan0",
    "quick drop, 7, lan0",
    "dev lan0, drop, 300",
    "via, dev, 7",
]


@settings(MANY, max_examples=250)
@given(
    phrases=st.lists(st.sampled_from(PHRASES), min_size=1, max_size=2, unique=True),
    starts=st.lists(STARTS, min_size=1, max_size=2, unique=True),
    words=st.sampled_from(WORDS),
    order=st.randoms(use_true_random=False),
)
def test_a_mould_understands_no_line_otherwise(
    phrases: list[str], starts: list[str], words: str, order: Random
) -> None:
    dialect = parse_dialect(AMBIGUOUS % "\n".join(f"{each} => route" for each in phrases), "murky.toml")
    # All lines that a few words make, twice over.
    ends = [" ".join(each) for length in range(4) for each in product(words.split(", "), repeat=length)]
    lines = [(start, end) for start in starts for end in ends] * 2
    order.shuffle(lines)
    text = "".join(f"{start}10.0.{n}.0/24 {end}\n" for n, (start, end) in enumerate(lines))
    quick, thorough = both_ways(lambda: read_form(dialect, dialect.forms[0], text, "x"))
    assert quick == thorough
    event(f"{len(thorough.facts.get('route', [])) * 10 // len(lines)} of 10 lines understood")


# Entries of a document that mean different things by what stands in them, and values that mean different things.
ENTRIES = """
dialect = "murky"
title = "entries that could be many things"
[kinds]
interface = {is = "word", pattern = '[a-z0-9]+'}
distance = {is = "number", least = 1, most = 99}
[[forms]]
name = "json"
file = "murky.json"
carries = ["routes"]
surface = {kind = "json", lists = %s, texts = []}
phrases = '''
routes
  %s / to <to:prefix4> / (kind | note) drop           => route discard=blackhole
    note <_:line>                                     => aside
    by <distance>
  %s / kind <_:distance>                              => aside
  %s / to <to:prefix4>                                => route
    kind (quick | <_:interface>)
    by <distance>
    by <_:interface>                                  => distance=number:77
    note <interface:line>
    hop
      via <via:address4>
      dev <interface>
'''
"""
USUAL: dict[str, list[Any]] = {
    "kind": ["drop", "quick", "lan0", 7],
    "by": ["7", 7, 12, "low"],
    "note": ["n", 8, None],
    "via": ["192.0.2.1"],
    "dev": ["lan0", "wan0"],
}
ODD = ["drop", "7", 7, "low", None, 'a "b', "a\\b", "}, {", "\x01", "ü", 1e3, "10.0.0.0/33", []]
LAYOUTS = [
    ("to", "kind"),
    ("kind", "to", "by"),
    ("to", "by", "kind"),
    ("to", "hop"),
    ("by", "to", "note", "kind", "hop"),
]


@st.composite
def entries(draw: st.DrawFn) -> list[dict[str, Any]]:
    """Draw entries of one or two layouts, which are the same but for what one of their values is in some."""
    usual = {name: draw(st.sampled_from(values)) for name, values in USUAL.items()}
    layouts = draw(st.lists(st.sampled_from(LAYOUTS), min_size=1, max_size=2))
    name = draw(st.sampled_from(["to", *sorted({name for layout in layouts for name in layout} & {*USUAL})]))
    odd = draw(st.sampled_from([*USUAL.get(name, []), *ODD]))
    found = []
    for number in range(draw(st.integers(4, 12))):
        values = {**usual, "to": f"10.0.{number}.0/24"}
        if number > 2 and draw(st.booleans()):
            values[name] = odd
        values["hop"] = {name: values[name] for name in ("via", "dev")}
        found.append({name: values[name] for name in draw(st.sampled_from(layouts))})
    return found


def but_one(usual: dict[str, Any], **odd: Any) -> dict[str, Any]:
    """Return what is rare: entries that are the same, and a last one that is odd."""
    found = [{"to": f"10.0.{number}.0/24", **usual} for number in range(4)]
    return {
        "found": [*found, {**found[-1], **odd}],
        "listed": True,
        "indent": None,
        "close": False,
        "between": ", ",
        "end": 0,
    }


@example(**but_one({"note": "n", "kind": "drop"}, note="drop"))  # another statement meets the condition
@example(**but_one({"by": "low"}, by="7"))  # an earlier phrase understands it
@example(**but_one({"note": "n"}, note="a\\b"))  # what is written is not what is meant
@example(**but_one({"note": 8}, note=[7]))  # no value, but a list
@example(**but_one({"note": "n"}, kind="lan0"))  # more than a value
@settings(MANY, max_examples=500)
@given(
    found=entries(), listed=st.booleans(), indent=st.sampled_from([None, 0, 2]), close=st.booleans(),
    between=st.sampled_from([",", ", "]), end=st.sampled_from([0, 0, 0, 1, 7, 30, 90]),
)  # fmt: skip
def test_what_is_cut_out_of_a_list_is_read_as_it_stands(
    found: list[dict[str, Any]], listed: bool, indent: int | None, close: bool, between: str, end: int
) -> None:
    name = "route" if listed else "-"
    dialect = parse_dialect(ENTRIES % ((json.dumps(["route"] if listed else []),) + (name,) * 3), "murky.toml")
    separators = (",", ":") if close and indent is None else (between if indent is None else ",", ": ")
    document = {"routes": {"route": found} if listed else found}
    text = json.dumps(document, indent=indent, separators=separators, ensure_ascii=close)
    text = text[: len(text) - end]  # it may be cut off

    def read() -> tuple[Reading | None, list[Any]]:
        try:
            reading = best_reading([dialect], text, "x")
        except CaptureError:
            return None, []
        return reading, [spots(each.place) for each in reading.facts.get("route", [])]

    quick, thorough = both_ways(read)
    assert quick == thorough
