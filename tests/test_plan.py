"""The address plan and the arithmetic of prefixes, against Python's own and by counting."""

from __future__ import annotations

import io
import ipaddress
import json
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.masks import length_of, netmask, wildcard
from agile_lattice.packets.spans import meet, merged, size
from agile_lattice.plan.calculation import bounds, split, summary
from agile_lattice.plan.usage import plans
from strategies import networks, prefixes
from where import DEMO, ROOT


@given(st.integers(0, 32))
def test_masks_are_pythons(length: int) -> None:
    theirs = ipaddress.ip_network(f"0.0.0.0/{length}")
    assert (netmask(length), wildcard(length)) == (str(theirs.netmask), str(theirs.hostmask))
    assert length_of(netmask(length)) == length
    if 0 < length < 32:
        assert length_of(wildcard(length)) == length
        assert Prefix.parse(f"10.0.0.1/{wildcard(length)}") == Prefix.parse(f"10.0.0.1/{length}")


@given(st.sampled_from([4, 6]).flatmap(prefixes), st.integers(0, 6))
def test_bounds_and_parts_are_pythons(prefix: Prefix, more: int) -> None:
    theirs = ipaddress.ip_network(str(prefix), strict=False)
    ours = bounds(prefix)
    assert str(ours.network) == str(theirs)
    assert ours.addresses == theirs.num_addresses
    if prefix.family == 4 and prefix.host_bits > 1:
        assert str(ours.broadcast) == str(theirs.broadcast_address)
        assert (int(theirs[1]), int(theirs[-2])) == (ours.first.value, ours.last.value)
    length = min(prefix.length + more, theirs.max_prefixlen)
    assert [str(each) for each in split(prefix, length)] == [str(each) for each in theirs.subnets(new_prefix=length)]


@given(st.lists(networks(4), min_size=1, max_size=6))
def test_a_summary_is_the_smallest_and_says_what_it_covers_too_much(members: list[Prefix]) -> None:
    found = summary(members)
    assert all(found.prefix.contains(each) for each in members)
    if found.prefix.length < 32:
        halves = split(found.prefix, found.prefix.length + 1)
        assert not any(all(half.contains(each) for each in members) for half in halves), "a smaller one would do"
    theirs = list(ipaddress.collapse_addresses(ipaddress.IPv4Network(str(each)) for each in members))
    assert [str(each) for each in found.exact] == [str(each) for each in theirs]
    together = merged((each.first, each.last) for each in (*found.exact, *found.too_much))
    assert together == ((found.prefix.first, found.prefix.last),)
    assert found.extra == (1 << found.prefix.host_bits) - sum(each.num_addresses for each in theirs)


@pytest.mark.parametrize("intent", [DEMO / "saltmarsh.yaml", DEMO / "draft.yaml", ROOT / "examples" / "coast"])
def test_every_address_of_a_plan_is_used_or_spare(intent: Path) -> None:
    found = plans(al.load(intent))
    assert len({plan.prefix for plan in found}) == len(found)
    for plan in found:
        used = merged(span for use in plan.uses for span in use.addresses.spans)
        assert size(used) + plan.left == 1 << plan.prefix.host_bits
        run = plan.next_free(3)
        if run is not None:
            assert size(run.spans) == 3 and not meet(used, run.spans)


def test_the_plan_of_the_demo(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    intent = str(DEMO / "saltmarsh.yaml")
    assert main(["addresses", intent, "--only", "harbour-isp", "--format", "csv"]) == 0
    frame = pd.read_csv(io.StringIO(capsys.readouterr().out))
    uses = dict(zip(frame["first"], frame["use"], strict=True))
    assert [uses[f"203.0.113.{n}"] for n in (0, 1, 2, 3, 5, 6, 7, 8, 12, 14, 15)] == [
        "network", "gateway", "interface", "spare", "published", "static", "spare", "pool", "spare", "reserved",
        "broadcast",
    ]  # fmt: skip
    assert main(["addresses", intent, "--only", "harbour-isp", "--run", "2", "--format", "json"]) == 0
    [plan] = json.loads(capsys.readouterr().out)
    assert (plan["left"], plan["next"], plan["run"]) == (5, "203.0.113.3", "203.0.113.3-203.0.113.4")
    assert main(["addresses", intent, "--only", "pier-radio", "--run", "2"]) == 1
    assert "2 in a row: none" in capsys.readouterr().out
    for name, begins in (("strip.png", b"\x89PNG"), ("strip.svg", b"<?xml")):
        assert main(["addresses", intent, "--picture", str(tmp_path / name)]) == 0
        assert (tmp_path / name).read_bytes().startswith(begins)
    capsys.readouterr()


@pytest.mark.parametrize(
    ("asked", "answered"),
    [
        ("mask 0.0.15.255", ["/20", "255.255.240.0", "4096"]),
        ("subnet 10.40.10.77 255.255.240.0", ["10.40.0.0/20", "10.40.0.1 to 10.40.15.254", "10.40.15.255"]),
        ("subnet 2001:db8::5/64", ["2001:db8::/64", "none"]),
        ("summary 10.41.0.0/24 10.41.2.0/24", ["10.41.0.0/22", "512 addresses", "10.41.1.0/24", "10.41.3.0/24"]),
        ("split 203.0.113.0/28 /30", ["203.0.113.0/30", "203.0.113.12/30"]),
        ("pool 203.0.113.8/30 --hosts 100", ["4", "258048", "2580"]),
    ],
)
def test_calc_answers(asked: str, answered: list[str], capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["calc", *asked.split()]) == 0
    text = capsys.readouterr().out
    assert all(each in text for each in answered)
    assert main(["calc", *asked.split(), "--format", "json"]) == 0
    assert json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("asked", ["mask 255.0.255.0", "subnet 10.0.0.1", "split 10.0.0.0/24 /8", "pool x",
                                   "split 10.0.0.0/8 /30", "summary 10.0.0.0/8 2001:db8::/32"])  # fmt: skip
def test_calc_refuses_what_makes_no_sense(asked: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["calc", *asked.split()]) == 2
    assert capsys.readouterr().err.startswith("lattice: ")
