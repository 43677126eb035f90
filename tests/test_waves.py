"""Pushes to many devices: what stands in for what, and what becomes of the others when one fails."""

from __future__ import annotations

import textwrap
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.push.many import Prepared, Waves
from agile_lattice.push.pushing import Pushed, Pusher
from agile_lattice.push.waves import duties, in_waves
from agile_lattice.transport.errors import TransportError

NAMES = [f"quay-{number}" for number in range(12)]
# Two ways from the office to the pier, and a third router that has both; one that is alone.
PAIRS = """
    lattice: 1
    devices:
      east:
        speaks: frr
        interfaces: {lan0: {address: 10.40.10.1/24}, pier0: {address: 10.40.20.1/24}, m: MANAGED}
      west:
        speaks: frr
        interfaces: {lan0: {address: 10.40.10.2/24}, pier0: {address: 10.40.20.2/24}, m: MANAGED}
      north: {speaks: frr, interfaces: {up0: {address: 10.40.30.1/24}, m: MANAGED}}
      south: {speaks: frr, interfaces: {up0: {address: 10.40.31.1/24}, m: MANAGED}}
      hub:
        speaks: frr
        interfaces: {n0: {address: 10.40.30.9/24}, s0: {address: 10.40.31.9/24}, m: MANAGED}
        routes: [{to: 10.60.0.0/16, via: 10.40.30.1}, {to: 10.60.0.0/16, via: 10.40.31.1, distance: 10}]
      alone: {speaks: frr, interfaces: {lan0: {address: 10.40.10.3/24}}}
"""


def test_routers_stand_in_for_each_other_where_both_lead_to_the_same() -> None:
    text = textwrap.dedent(PAIRS)
    for number in range(1, text.count("MANAGED") + 1):
        text = text.replace("MANAGED", f"{{address: 10.99.0.{number}/24, management: true}}", 1)
    devices = al.loads(text).devices
    having = duties(devices)
    pairs = {
        (one.name, other.name) for one in devices for other in devices
        if one.name < other.name and having[one.name] & having[other.name]
    }  # fmt: skip
    assert pairs == {("east", "west"), ("north", "south")}
    assert in_waves([each.name for each in devices], having, 8) == [
        ["east", "north", "hub", "alone"],
        ["west", "south"],
    ]


@given(
    st.dictionaries(st.sampled_from(NAMES), st.sets(st.integers(0, 5).map(lambda each: (each,)), max_size=3)),
    st.integers(1, 5),
)
def test_every_device_is_in_one_wave_and_no_two_of_a_wave_stand_in_for_each_other(
    having: dict[str, set[tuple[object, ...]]], most: int
) -> None:
    waves = in_waves(list(having), having, most)
    assert sorted(name for wave in waves for name in wave) == sorted(having)
    for wave in waves:
        assert 0 < len(wave) <= most
        assert sum(len(having[name]) for name in wave) == len(set().union(*(having[name] for name in wave)))


def made(name: str, outcome: str) -> Prepared:
    """A change of which is known what will come of it."""

    def push(plan: Any) -> Pushed:
        if outcome == "lost":
            raise TransportError(name, "the link was lost")
        return Pushed(name, outcome)

    pusher = SimpleNamespace(intent=SimpleNamespace(name=name), goes_back=True, push=push)
    return Prepared(cast(Pusher, pusher), cast(Any, None))


@pytest.mark.parametrize(
    ("outcomes", "failures", "came"),
    [
        ("kept kept kept", 0, "kept kept kept"),
        ("back kept kept", 0, "back left left"),
        ("back kept kept", 1, "back kept kept"),
        ("back back kept", 1, "back back left"),
        ("lost kept kept", 2, "lost left kept"),  # the second stands in for the first
        ("stuck kept kept", 2, "stuck left kept"),
        ("back kept kept", 2, "back kept kept"),  # as it was: it works
    ],
)
def test_what_fails_ends_a_push_and_spares_what_stands_in_for_it(outcomes: str, failures: int, came: str) -> None:
    changes = [made(name, outcome) for name, outcome in zip("abc", outcomes.split(), strict=True)]
    having: dict[str, set[tuple[object, ...]]] = {"a": {("x",)}, "b": {("x",)}, "c": set()}
    told: list[str] = []
    found = list(Waves([[each] for each in changes], having, failures, told.append).push())
    assert [each.outcome for each in found] == came.split() and [each.device for each in found] == ["a", "b", "c"]
    assert len(told) == sum(each.outcome != "left" for each in found)
