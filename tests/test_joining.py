"""What rules of a device say is what its objects say, field by field, or it is named as left out."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from typing import Literal

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import asdict, replace

from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.joining import join
from agile_lattice.intent.permits import Passage, joined_access, joined_permits, passages
from agile_lattice.intent.places import NOWHERE
from agile_lattice.intent.stages import Rule, Stage, Verdict, split
from agile_lattice.intent.translations import Own
from test_laws import MANY

SIDES = st.sampled_from([None, ("lan0",), ("!lan0",), ("lan0", "wan0")])
SETS = st.sampled_from([None, *(AddressSet.of(Prefix.parse(each)) for each in (
    "10.40.10.7/32", "10.40.10.0/28", "203.0.113.0/28", "203.0.113.5/32"))])  # fmt: skip
PORTS = st.sampled_from([None, ((80, 80),), ((80, 80), (443, 450))])
SERVICES = st.one_of(st.just((None, None)), st.tuples(st.sampled_from(["tcp", "udp"]), PORTS))
NAMES = st.sampled_from(["", "", "web", "mail"])


@st.composite
def rules(draw: st.DrawFn) -> Rule:
    """One rule, of anything that a reader of a ruleset can put into it."""
    stage: Stage = draw(st.sampled_from(["arrival", "departure"]))
    verdict: Verdict = draw(st.sampled_from(["keep", "keep", "rewrite", "shift"]))
    protocol, ports = draw(SERVICES)
    to = draw(SETS.filter(lambda each: each is not None)) if verdict in ("rewrite", "shift") else None
    port = draw(st.sampled_from([None, 8080])) if verdict == "rewrite" and protocol else None
    own: Own | None = draw(st.sampled_from([None, None, "interface", "device"])) if stage == "arrival" else None
    leaves = draw(SIDES) if stage == "departure" else None
    return Rule(
        stage, verdict, draw(SIDES), leaves, draw(SETS), draw(SETS), protocol, ports, to, port, name=draw(NAMES),
        own=own,
    )  # fmt: skip


@st.composite
def filters(draw: st.DrawFn, forwarded: bool) -> Passage:
    """One rule of what passes, likewise."""
    protocol, ports = draw(SERVICES)
    leaves, log = (draw(SIDES), draw(st.booleans())) if forwarded else (None, False)
    verdict: Literal["pass", "drop"] = draw(st.sampled_from(["pass", "drop"]))
    return Passage(verdict, draw(SIDES), leaves, draw(SETS), draw(SETS), protocol, ports, log, draw(NAMES))


def apart(given_rules: Iterable[Rule | Passage]) -> dict[object, set[object]]:
    """Say for each rule, but for its ports, which ports: neighbours that differ in nothing else may be one object."""
    found = defaultdict[object, set[object]](set)
    for each in given_rules:
        found[type(each), *asdict(replace(each, ports=None, place=NOWHERE)).values()].update(each.ports or (None,))
    return {rule: {None} if None in ports else ports for rule, ports in found.items()}


@MANY
@given(st.lists(rules(), max_size=5))
def test_translations_say_what_their_rules_said(read: list[Rule]) -> None:
    translations, unsaid = join(read)
    assert apart([*split(translations), *unsaid]) == apart(read)


@MANY
@given(st.lists(filters(forwarded=True), max_size=5), st.lists(filters(forwarded=False), max_size=5))
def test_permits_and_management_say_what_their_rules_said(forwarded: list[Passage], own: list[Passage]) -> None:
    assert apart(passages(joined_permits(forwarded))) == apart(forwarded)
    assert apart(passages(joined_access(own))) == apart(own)
