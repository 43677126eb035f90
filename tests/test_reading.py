"""Reading means the same whatever else is asked for, and however a document is laid out."""

from __future__ import annotations

import json
import re
from itertools import product
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import event, given, settings
from hypothesis import strategies as st

from agile_lattice.dialects import read_device
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.reading.texts import Reading, read_form, read_statements
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.surfaces import Statement
from test_laws import MANY
from where import ROOT, examples

# Phrases of which many lines could be understood in several ways: the first that takes a line counts.
AMBIGUOUS = """
dialect = "murky"
title = "what could be many things"
[types]
interface = {is = "word", pattern = '[a-z0-9]+'}
door = {is = "word", pattern = '[a-z]+'}
discard = {words = {drop = "blackhole", fail = "unreachable"}}
distance = {is = "number", least = 1, most = 255}
metric = {is = "number", least = 1, most = 99}
[[forms]]
name = "lines"
file = "murky.txt"
carries = ["routes"]
syntax = {kind = "lines"}
statements = '''
note <_:line>                                                                      => ignored
%s
<to:prefix4> [<interface>]                                                         => route discard=prohibit
'''
"""
PHRASES = [
    "to <to:prefix4> (<distance> | <interface>) [<metric>]",
    "to <to:prefix4> [<discard>] [<interface:door>] [<distance>]",
    "to <to:prefix4> [(via [<via:address4>] | dev)] [<interface>] {[at <distance>] [by <metric>] [<discard>]}",
    "[to] <to:prefix4> (<discard> | [dev] <interface> | ) [<distance>]",
    "to [<to:prefix4>] [dev <interface>] [<discard>]",
    "(to | at) (<to:prefix4> | dev <interface>) [<distance>]",
    "{[dev <interface>] [at <distance>]} to <to:prefix4> [[quick] <discard>] [<metric>]",
]
STARTS = st.sampled_from(["to ", "", "note ", "dev lan0 to ", "at 7 to "])
WORDS = [
    "7, drop, dev", "7, drop, lan0", "at 7, by 8, lan0", "quick drop, 7, lan0", "dev lan0, drop, 300", "via, dev, 7",
]  # fmt: skip


def with_trace(dialect: Dialect, text: str) -> Reading:
    [form] = dialect.forms
    return read_statements(dialect, form, form.surface.parse(text, "x"), "x", {})


@settings(MANY, max_examples=examples(150))
@given(
    phrases=st.lists(st.sampled_from(PHRASES), min_size=1, max_size=2, unique=True),
    starts=st.lists(STARTS, min_size=1, max_size=2, unique=True),
    words=st.sampled_from(WORDS),
    order=st.randoms(use_true_random=False),
)
def test_a_line_means_the_same_with_a_trace_and_without(
    phrases: list[str], starts: list[str], words: str, order: Random
) -> None:
    dialect = parse_dialect(AMBIGUOUS % "\n".join(f"{each} => route" for each in phrases), "murky.toml")
    ends = [" ".join(each) for length in range(4) for each in product(words.split(", "), repeat=length)]
    lines = [(start, end) for start in starts for end in ends]
    order.shuffle(lines)
    # The last lines have no destination, which a route cannot do without.
    text = "".join(f"{start}10.0.{n}.0/24 {end}\n" for n, (start, end) in enumerate(lines)) + "to drop\nat dev lan0\n"
    found = read_form(dialect, dialect.forms[0], text, "x")
    traced = with_trace(dialect, text)
    # Only of what is read without a trace it is said where it stops fitting.
    assert (found.facts, found.statements) == (traced.facts, traced.statements)
    assert [each.text for each in found.leftovers] == [each.text for each in traced.leftovers]
    event(f"{len(found.facts.get('route', [])) * 10 // len(lines)} of 10 lines understood")


ROUTES: list[dict[str, Any]] = [
    {"dst": "10.64.0.0/16", "gateway": "192.0.2.1", "dev": "wan0", "protocol": "static", "flags": []},
    {"type": "blackhole", "dst": "10.65.0.0/16", "protocol": "static", "flags": []},
    {"dst": "10.66.0.0/16", "dev": "lan0", "protocol": "static", "metric": 20, "flags": ["onlink"]},
    {"dst": "10.67.0.0/16", "gateway": "192.0.2.1", "dev": 'a": "b', "protocol": "static", "flags": []},
]
LAYOUTS = {
    "on one line": json.dumps(ROUTES),
    "compact": json.dumps(ROUTES, separators=(",", ":")),
    "indented": json.dumps(ROUTES, indent=2),
    "an entry a line": "[" + ",\n".join(json.dumps(each) for each in ROUTES) + "]\n",
    "with what was filtered out": "[{},\n{}," + ",\n\n".join(json.dumps(each) for each in ROUTES) + ",{}]\n",
    "ragged": json.dumps(ROUTES, separators=("\n,", "\n\t:\n ")),
}


@pytest.mark.parametrize("layout", LAYOUTS)
def test_a_document_means_the_same_in_every_layout(layout: str) -> None:
    text = LAYOUTS[layout]
    reading = read_device("quay", ("iproute2",), {"routes.json": text})
    lines = text.split("\n")
    assert [str(each.to) for each in reading.device.routes] == ["10.64.0.0/16", "10.65.0.0/16", "10.66.0.0/16"]
    for each in reading.device.routes:
        # The name stands there; in the ragged layout its value two lines below.
        assert '"dst"' in lines[each.place.line - 1]
        assert str(each.to) in "".join(lines[each.place.line - 1 : each.place.line + 2])
    [left] = reading.leftovers
    assert 'dev "a\\": \\"b"' in left.text or 'dev a": "b' in left.text


def test_a_name_twice_in_one_object_is_an_error() -> None:
    with pytest.raises(CaptureError, match="'dst' stands twice in one object"):
        read_device("quay", ("iproute2",), {"routes.json": '[{"dst": "10.0.0.0/8", "dst": "10.0.0.0/9"}]'})


RULESETS = sorted((ROOT / "tests" / "rulesets").glob("*.nft"))
BRACES = next(each.surface for each in BUILT_IN.dialect("nftables").forms if each.name == "program")


@pytest.mark.parametrize("path", RULESETS, ids=[each.stem for each in RULESETS])
def test_a_ruleset_means_the_same_in_every_layout(path: Path) -> None:
    tree = BRACES.parse(path.read_text(), path.name)
    for seed in range(20):
        text = laid_out(tree, Random(seed))
        assert shape(BRACES.parse(text, path.name)) == shape(tree), text


def laid_out(statements: list[Statement], chance: Random) -> str:
    """Return statements as somebody may write them: they begin and end within lines, or on lines of their own."""
    parts = []
    for each in statements:
        if each.children is None:
            words = each.text.replace(", ", chance.choice([", ", ",\n"])) if "{" in each.text else each.text
            parts.append(words + chance.choice(["\n", "; ", ";\n"]))
        else:
            inside = laid_out(each.children, chance)
            parts.append(f"{each.text} {{{chance.choice([' ', chr(10)])}{inside}}}{chance.choice([chr(10), '; '])}")
    return "".join(parts)


def shape(statements: list[Statement]) -> list[Any]:
    return [(each.text, each.children if each.children is None else shape(each.children)) for each in statements]


DEFINING = [each for each in RULESETS if re.search("^define ", each.read_text(), re.MULTILINE)]


@pytest.mark.parametrize("path", DEFINING, ids=[each.stem for each in DEFINING])
@pytest.mark.parametrize("name", ["names.nft", "*.nft"])
def test_definitions_mean_the_same_in_a_file_of_their_own(path: Path, name: str) -> None:
    lines = path.read_text().splitlines()
    defines = [each for each in lines if each.startswith("define ")]
    rest = "\n".join(f'include "/etc/{name}"' if each == defines[0] else each for each in lines
                     if each == defines[0] or each not in defines)  # fmt: skip
    alone = read_device("quay", ("nftables",), {"main.nft": path.read_text()})
    apart = read_device("quay", ("nftables",), {"main.nft": rest, "names.nft": "# names\n" + "\n".join(defines)})
    assert (apart.device, apart.leftovers) == (alone.device, alone.leftovers)
    missing = read_device("quay", ("nftables",), {"main.nft": rest})
    assert "not all of them are here" in missing.leftovers[0].reason


def in_files(statements: list[Statement], chance: Random, files: dict[str, str]) -> list[str]:
    """The lines of statements, runs of which are in files of their own, which may include others in turn."""
    lines: list[str] = []
    while statements:
        run, statements = statements[: (many := chance.randint(1, 3))], statements[many:]
        inside: list[str] = []
        for each in run:
            block = None if each.children is None else in_files(each.children, chance, files)
            inside += [each.text] if block is None else [f"{each.text} {{", *block, "}"]
        if chance.random() < 0.4:
            name = f"part-{len(files)}.nft"
            files[name] = "# a part\n" + "\n".join(inside) + "\n"
            inside = [f'include "/etc/nftables.d/{name}"']
        lines += inside
    return lines


@pytest.mark.parametrize("path", RULESETS, ids=[each.stem for each in RULESETS])
def test_a_ruleset_means_the_same_in_several_files(path: Path) -> None:
    tree = BRACES.parse(path.read_text(), path.name)
    alone = read_device("quay", ("nftables",), {"main.nft": path.read_text()})
    for seed in range(6):
        files: dict[str, str] = {}
        lines = in_files(tree, Random(seed), files)
        apart = read_device("quay", ("nftables",), {"main.nft": "\n".join(lines) + "\n", **files})
        assert bool(apart.leftovers) == bool(alone.leftovers)
        assert apart.leftovers or apart.device == alone.device, lines
        if files:
            missing = read_device("quay", ("nftables",), {"main.nft": "\n".join(lines), **dict([*files.items()][1:])})
            assert missing.leftovers, "a file is not there"


def test_files_that_include_each_other_over_and_over_are_not_all_put_in() -> None:
    files = {f"f{n}.nft": f'include "f{n + 1}.nft"\n' * 10 for n in range(25)}
    many = read_device("quay", ("nftables",), {**files, "f25.nft": "define a = 1\n"})
    each = read_device("quay", ("nftables",), {"a.nft": 'include "b.nft"\n', "b.nft": 'include "a.nft"\n'})
    for found in (many, each):
        assert found.leftovers and all("not all of them are here" in left.reason for left in found.leftovers)


@pytest.mark.parametrize(
    ("said", "left"),
    [
        ("policies of IPsec\nfilters of devices\n", []),
        ("policies of IPsec\nRTNETLINK answers: Operation not permitted\nfilters of devices\n", [2]),
        ("policies of IPsec\nsrc 10.1.0.0/16 dst 10.2.0.0/16\n\tdir out priority 0\nfilters of devices\n", [2, 3]),
        ("policies of IPsec\nsrc ::/0 dst ::/0\n\tsocket in priority 0 ptype main\nfilters of devices\n", []),
        ("filters of devices\nfilter protocol ip pref 9 u32 fh 800: flowid 1:1\n  match 0a/ff at 16\n", []),
        ("filters of devices\nfilter protocol ip flower\n  dst_ip 10.0.0.0/8\n\taction order 1: gact drop\n", [4]),
        ("filters of devices\nfilter protocol all pref 9 bpf chain 0 x.o:[y] direct-action id 5\n", [2]),
    ],
)  # fmt: skip
def test_what_may_take_packets_past_rules_and_routes_is_named(said: str, left: list[int]) -> None:
    found = read_device("quay", ("iproute2", "nftables"), {"detours.txt": said}).leftovers
    assert [each.place.line for each in found] == left
    assert all({"interfaces", "routes"} <= {*each.sections} for each in found)
