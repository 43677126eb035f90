"""The laws of dialects, over generated devices."""

from __future__ import annotations

import re
from typing import Any

import pytest
from hypothesis import HealthCheck, currently_in_test_context, event, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.equivalence import between
from agile_lattice.compare.rules import ACCESS, PERMITS, TRANSLATIONS, rule_gaps
from agile_lattice.dialects import Rendered, as_intent, read_device, render_device
from agile_lattice.dialects.assembly import assemble
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.lowering import facts_of
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.reading.texts import Reading
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.interfaces import Bridge, Interface
from agile_lattice.intent.model import SECTIONS, Device, Settings
from agile_lattice.intent.normal import normal
from agile_lattice.transport.capturing import sealed
from strategies import devices
from where import examples

SPOKEN = [
    ("iproute2", "bridge", "nftables", "sysctl", "resolv", "hosts"),
    ("frr", "nftables"),
    ("bird", "iproute2", "nftables"),
    ("netplan", "nftables"),
    ("networkd", "nftables"),
    ("ifupdown", "ppp", "nftables"),
    ("iproute2", "iptables", "ip6tables"),
    ("ietf-yang", "nftables"),
    ("ietf-yang/xml", "nftables"),
    ("ietf-yang", "ietf-nat"),
    ("bollard",),
    ("mooring",),
    ("tideway",),
]
# Where a strange line is a line by itself, and does not make another document of the whole.
LINED = [("iproute2", "bridge", "nftables", "sysctl", "resolv"), *SPOKEN[1:3]]
MANY = settings(max_examples=examples(24), deadline=None, suppress_health_check=list(HealthCheck))
SOME = settings(MANY, max_examples=examples(20))


# Sections that a device may have and none of its dialects carries, by their keys.
FELT = ("interfaces", "routes", "translations", "permits", "access")
FIELDS = {"management": {"access": ()}, "permits": {"permits": ()}, "settings": {"settings": Settings()}}
FIELDS |= dict.fromkeys(("identity", "resolvers", "hosts", "helpers"), FIELDS["settings"])


def members(one: Interface) -> tuple[str, ...]:
    return one.bridge.members if one.bridge else ()


def in_effect(one: Device, other: Device) -> list[str]:
    """Compare lists of rules; order that no packet notices is none: some devices have an order of their own."""
    found = [
        *rule_gaps(TRANSLATIONS, one.translations, other.translations),
        *rule_gaps(PERMITS, one.permits, other.permits),
        *rule_gaps(ACCESS, one.access, other.access),
    ]
    return [each.difference.subject for each in found if each.difference.effect != "no-effect"]


def without_vlans(device: Device) -> Device:
    bare = (replace(one, tagged=(), untagged=None) for one in device.interfaces)
    return replace(
        device, interfaces=tuple(replace(one, bridge=Bridge(members(one)) if one.bridge else None) for one in bare)
    )


def without(device: Device, refused: Refusals) -> Device | None:
    """Take out every object that a dialect refused; None if that is not possible."""
    kept = device
    for each in refused.refusals:
        subject = each.subject
        kept = replace(
            kept,
            interfaces=tuple(
                replace(
                    one,
                    resolvers=tuple(to for to in one.resolvers if subject != f"resolver {to} of {one.name}"),
                    search=tuple(to for to in one.search if subject != f"search domain {to} of {one.name}"),
                )
                for one in kept.interfaces
                # A bridge or a VLAN is nothing without what it is made of.
                if subject not in (f"interface {name}" for name in (one.name, one.parent, *members(one)))
                and subject not in (f"{name} as a member of {one.name}" for name in members(one))
            ),
            routes=tuple(one for one in kept.routes if f"route {one.to}" != subject),
            translations=tuple(one for one in kept.translations if f"translation {one.name}".rstrip() != subject),
            permits=tuple(one for one in kept.permits if f"permit {one.name}".rstrip() != subject),
            access=tuple(one for one in kept.access if f"management {one.name}".rstrip() != subject),
        )
        if subject == f"device {kept.name}" and each.field == "dial-up":
            kept = replace(kept, interfaces=tuple(one for one in kept.interfaces if one.dial is None))
        elif subject == f"device {kept.name}":
            kept = without_vlans(kept) if each.field == "bridging" else replace(kept, **FIELDS[each.field])
    return None if kept == device else without_dangling(kept)


def without_dangling(device: Device) -> Device:
    """Take out the rules for interfaces that a device does not have: no intent has such."""
    known = {each.name for each in device.interfaces}

    def kept(rules: tuple[Any, ...]) -> tuple[Any, ...]:
        sides = [
            {name.lstrip("!") for side in ("arrives", "leaves", "facing") for name in getattr(each, side, None) or ()}
            for each in rules
        ]
        return tuple(rule for rule, named in zip(rules, sides, strict=True) if named <= known)

    rules = {name: kept(getattr(device, name)) for name in ("translations", "permits", "access")}
    return replace(device, **rules)


def rendered(device: Device) -> tuple[Device, list[Rendered]]:
    """Render what can be said; what is refused is taken out, which must make progress each time."""
    while True:
        try:
            return device, render_device(device)
        except Refusals as refused:
            if currently_in_test_context():
                event("refused")
            smaller = without(device, refused)
            assert smaller is not None, f"taking out what was refused changes nothing: {refused}"
            device = smaller


@pytest.mark.parametrize("speaks", SPOKEN)
@MANY
@given(data=st.data())
def test_what_is_rendered_reads_back_as_the_same(speaks: tuple[str, ...], data: st.DataObject) -> None:
    device, texts = rendered(data.draw(devices(speaks)))
    for each in texts:  # there is no secret in an intent, so that nothing is taken for one
        hidden = [re.compile(pattern) for pattern in BUILT_IN.dialect(each.dialect).running.secrets]
        assert sealed(each.text, hidden, b"") == each.text
    capture = read_device(device.name, speaks, [(each.file, each.text) for each in texts if each.text.strip()])
    assert capture.leftovers == ()
    was, now = normal(device), normal(capture.device)
    assert now.interfaces == was.interfaces
    assert now.answers == was.answers
    assert now.routes == was.routes
    assert in_effect(was, now) == []
    assert now.settings == was.settings
    there = as_it_is(device, capture)
    unseen = {each: getattr(device, each) for each in ("answers", *FELT) if each not in capture.sections}
    assert between(device, replace(there, **unseen)).same, "not by samples: for every packet"
    again = {each.file: each.text for each in render_device(capture.device) if each.text.strip()}
    repeated = read_device(device.name, speaks, again.items())
    assert (repeated.leftovers, repeated.sections) == ((), capture.sections)
    assert in_effect(now, normal(repeated.device)) == []
    unruled = {"translations": (), "permits": (), "access": ()}
    assert replace(normal(repeated.device), **unruled) == replace(now, **unruled)


@settings(SOME, max_examples=examples(70))
@given(data=st.data())
def test_what_is_read_in_one_syntax_renders_in_another(data: st.DataObject) -> None:
    here, there = data.draw(st.sampled_from(SPOKEN)), data.draw(st.sampled_from(SPOKEN))
    _, texts = rendered(data.draw(devices(here)))
    capture = read_device("quay", here, [(each.file, each.text) for each in texts if each.text.strip()])
    moved, leftovers = as_intent(capture)
    assert leftovers == ()
    device, texts = rendered(replace(moved, speaks=there))
    again = read_device("quay", there, [(each.file, each.text) for each in texts if each.text.strip()])
    assert again.leftovers == ()
    was, now = normal(device), normal(again.device)
    assert in_effect(was, now) == []
    for section in ("interfaces", "answers", "routes"):
        assert getattr(now, section) == getattr(was, section)


@pytest.mark.parametrize("speaks", LINED)
@SOME
@given(data=st.data())
def test_reading_loses_no_line(speaks: tuple[str, ...], data: st.DataObject) -> None:
    device, texts = rendered(data.draw(devices(speaks)))
    for each in texts:
        lines = each.text.splitlines()
        if not lines:
            continue
        at = data.draw(st.integers(0, len(lines) - 1))
        strange = data.draw(
            st.sampled_from(["zz9 plural", "ip rout 10.0.0.0/8 10.0.0.1", "accept all", lines[at] + " zz9 zz8 zz7"])
        )
        if "{ zz9" in strange or strange[0] in "!#" or strange.split()[0] == "description" or ";" in strange:
            return  # a comment, another block altogether, a longer description, or two statements
        indent = lines[at][: len(lines[at]) - len(lines[at].lstrip())]
        inner = len(indent) + lines[at].strip().startswith("}")  # what stands before a closing line is inside the block
        around = next((line for line in lines[at - 1 :: -1] if len(line) - len(line.lstrip()) < inner), "")
        if at and around.lstrip().startswith("ct helper "):
            return  # that helper is not declared then, and what uses it is named, too
        # In place of an opening or a closing line it would not be one strange line but a broken block.
        damaged = "\n".join([*lines[:at], indent + strange.strip(), *lines[at:]])
        reading = read_device(device.name, speaks, [("damaged", damaged)])
        assert [(left.place.line, left.text) for left in reading.leftovers] == [(at + 1, strange.strip())]
        clean = read_device(device.name, speaks, [("clean", each.text)])
        assert reading.device == clean.device


#: What a field says only where another does, or what nothing but the rendering in another dialect needs.
BESIDE = {("identity", "derived"), ("rule", "rewrites_dns"), ("access", "log")}


@SOME
@given(data=st.data())
def test_what_a_fact_says_is_in_the_device_or_named(data: st.DataObject) -> None:
    """A word that was read and then counts for nothing would be a difference that nobody hears of."""
    facts = facts_of(data.draw(devices(("iproute2",))))
    whole = _put_together(facts)
    for kind in [kind for kind, said in facts.items() if said]:
        at = data.draw(st.integers(0, len(facts[kind]) - 1))
        fact: Any = facts[kind][at]
        for field in fact.__struct_fields__:
            value = getattr(fact, field)
            if isinstance(value, int) and (kind, field) not in BESIDE:
                other = replace(fact, **{field: not value if isinstance(value, bool) else value + 1})
                changed = {**facts, kind: [*facts[kind][:at], other, *facts[kind][at + 1 :]]}
                assert _put_together(changed) != whole, (kind, field, fact)


def _put_together(facts: Facts) -> tuple[Device, list[str]]:
    reading = Reading("iproute2", "batch", "text", facts, (), frozenset(SECTIONS), (1, 1))
    capture = assemble("quay", [BUILT_IN.dialect("iproute2")], [reading])
    return capture.device, [each.text for each in capture.leftovers]
