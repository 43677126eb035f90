"""What a change leaves alone: the way by which a device is managed, and every line that is not ours."""

from __future__ import annotations

import re
from textwrap import dedent

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import semantics
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.comparing import compared
from agile_lattice.compare.doubts import unknown_of
from agile_lattice.compare.equivalence import between
from agile_lattice.compare.mending import mend
from agile_lattice.compare.withholding import IN_ORDER
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.errors import CaptureError, ChangeError, Refusals
from agile_lattice.intent.addresses import Address
from agile_lattice.notation.loading import loads
from strategies import devices
from test_changes import WITH, only_what_is_carried
from test_laws import SOME, rendered
from where import examples

MANAGED = """
lattice: 1
zones: {office: {exposure: own}, sea: {exposure: public}}
devices:
  quay:
    speaks: frr
    interfaces:
      wan0: {zone: sea, address: 203.0.113.2/28}
      lan0: {zone: office, address: 10.40.10.1/24}
      lan1: {zone: office, address: 10.40.11.1/24}
    routes: ROUTES
    management: [{name: office, service: tcp/22, source: 10.50.7.0/24}]
"""
BASE = "interface wan0\n ip address 203.0.113.2/28\nexit\ninterface lan0\n ip address 10.40.10.1/24\nexit\n"
BASE += "interface lan1\n ip address 10.40.11.1/24\nexit\n"
BASE += "ip route 0.0.0.0/0 203.0.113.1\nip route 10.50.0.0/16 10.40.10.9\n"
PLAIN = ["{to: default, via: 203.0.113.1}", "{to: 10.50.0.0/16, via: 10.40.10.9}"]

# What an intent says of routes that would divert management, each in another way.
DIVERSIONS = {
    "another distance of the same prefix": [PLAIN[0], "{to: 10.50.0.0/16, via: 10.40.10.9, distance: 20}",
                                            "{to: 10.50.0.0/16, via: 10.40.11.9, distance: 5}"],
    "equal cost": [*PLAIN, "{to: 10.50.0.0/16, via: 10.40.11.9}"],
    "an interface route": [*PLAIN, "{to: 10.50.7.0/24, interface: lan1}"],
    "discard": [*PLAIN, "{to: 10.50.7.128/25, discard: true}"],
    "a longer prefix": [*PLAIN, "{to: 10.50.7.4/32, via: 10.40.11.9}"],
    "a longer prefix over the next hop's subnet": [*PLAIN, "{to: 10.40.10.9/32, via: 10.40.11.9}"],
    "no route any more": [PLAIN[0]],
}  # fmt: skip


def test_an_address_more_on_the_interface_that_a_device_is_managed_over_is_withheld() -> None:
    [intent] = loads(MANAGED.replace("ROUTES", f"[{', '.join(PLAIN)}]")).devices
    more = " ip address 192.0.2.77/32\n"
    for interface, withheld in (("lan0", True), ("lan1", False)):
        text = BASE.replace(f"interface {interface}\n", f"interface {interface}\n{more}")
        mending = mend(intent, [("running.conf", text)])
        assert [f"address 192.0.2.77/32 on {interface}" in each.subject for each in mending.held] == [True] * withheld
        assert all(each.reason == "the device is managed over lan0" for each in mending.held)
        assert any("no ip address 192.0.2.77/32" in each.change for each in mending.mends) != withheld


def test_an_interface_that_the_intent_does_not_have_stays_where_somebody_manages_the_device_over_it() -> None:
    [intent] = loads(MANAGED.replace("ROUTES", f"[{', '.join(PLAIN)}]")).devices
    for address, withheld in (("10.50.7.1/24", True), ("10.51.7.1/24", False)):
        mending = mend(intent, [("running.conf", f"{BASE}interface lan2\n ip address {address}\nexit\n")])
        assert [each.reason for each in mending.held] == ["the device is managed over lan2"] * withheld
        assert any("lan2" in each.change for each in mending.mends) != withheld


def test_a_description_of_the_interface_that_a_device_is_managed_over_is_changed() -> None:
    described = MANAGED.replace("address: 10.40.10.1/24}", "address: 10.40.10.1/24, description: Office}")
    [intent] = loads(described.replace("ROUTES", f"[{', '.join(PLAIN)}]")).devices
    mending = mend(intent, [("running.conf", BASE)])
    assert not mending.held and "description Office" in "".join(each.change for each in mending.mends)


@pytest.mark.parametrize(("source", "withheld"), [("10.40.0.0/16", False), ('"::/0"', True)])
def test_who_is_let_in_of_one_family_is_not_let_in_of_the_other(source: str, withheld: bool) -> None:
    [intent] = loads(f"""
        lattice: 1
        devices:
          quay:
            speaks: nftables
            management: [{{name: new, service: tcp/22, source: {source}}}]
    """).devices
    [old] = loads("""
        lattice: 1
        devices: {quay: {speaks: nftables, management: [{name: old, service: tcp/22, source: 10.40.10.0/24}]}}
    """).devices
    mending = mend(intent, [(each.file, each.text) for each in render_device(old)])
    assert [each.subject for each in mending.held if "permits management" in each.reason] == [
        "management old"
    ] * withheld


def test_a_filter_of_the_reverse_path_does_not_cut_management() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, sysctl, nftables]
            settings: {reverse-path: MODE}
            interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
            routes: [{to: 10.50.0.0/16, via: 203.0.113.1}]
            management: [{name: office, from: lan0, service: tcp/22, source: 10.50.7.0/24}]
    """
    for mode, withheld in (("strict", True), ("loose", False)):
        [intent], [now] = (loads(text.replace("MODE", each)).devices for each in (mode, "'off'"))
        mending = mend(intent, [(each.file, each.text) for each in render_device(now)])
        assert [each.subject for each in mending.held] == ["settings"] * withheld


def test_what_no_dialect_of_a_device_writes_is_withheld_and_the_rest_is_mended() -> None:
    [intent] = loads(MANAGED.replace("ROUTES", f"[{', '.join(PLAIN)}]")).devices
    mending = mend(intent, [("running.conf", "no ip forwarding\n" + BASE + "ip route 10.99.0.0/16 10.40.11.9\n")])
    assert [(each.subject, "add one to `speaks`" in each.reason) for each in mending.held] == [("settings", True)]
    assert [each.change for each in mending.mends] == ["no ip route 10.99.0.0/16 10.40.11.9\n"]


def test_what_follows_from_silence_is_mended_but_for_the_order_of_addresses() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, nftables, sysctl]
            interfaces:
              wan0: {address: [203.0.113.2/28, 203.0.113.3/28]}
              lan0: {address: 10.40.10.1/24}
            routes: [{to: default, via: 203.0.113.1}]
            translations: [{name: out, to: wan0, source-becomes: interface}]
    """
    [intent] = loads(dedent(text)).devices
    texts = {each.file: each.text for each in render_device(intent)} | {"90-lattice.conf": "net.ipv4.ip_forward = 0\n"}
    swapped = {"203.0.113.2": "203.0.113.3", "203.0.113.3": "203.0.113.2"}
    texts["iproute2.batch"] = re.sub(r"203\.0\.113\.[23]", lambda one: swapped[one[0]], texts["iproute2.batch"])
    mending = mend(intent, texts.items())
    assert [each.reason for each in mending.held] == [IN_ORDER]
    assert any("net.ipv4.ip_forward = 1" in each.change for each in mending.mends)


@pytest.mark.parametrize("case", DIVERSIONS)
def test_no_change_of_routes_diverts_whoever_manages_a_device(case: str) -> None:
    [intent] = loads(MANAGED.replace("ROUTES", f"[{', '.join(DIVERSIONS[case])}]")).devices
    texts = {"running.conf": BASE}
    mending = mend(intent, texts.items())
    before = read_device("quay", ("frr",), texts).device
    for each in mending.mends:
        texts["running.conf"] = _typed(texts["running.conf"], each.change)
    after = read_device("quay", ("frr",), texts).device
    for value in range(Address.parse("10.50.7.0").value, Address.parse("10.50.7.255").value + 1):
        assert semantics.look_up(after, "", 4, value) == semantics.look_up(before, "", 4, value), case
    if case != "a longer prefix over the next hop's subnet":  # which takes no packet to 10.50.7.0/24
        assert mending.held, "it is told"


def _typed(text: str, change: str) -> str:
    """The running configuration after lines were typed: FRRouting adds a route, or takes one away."""
    lines = text.splitlines()
    for line in change.splitlines():
        if line.startswith("no ip route"):
            lines.remove(line.removeprefix("no "))
        elif line.startswith("ip route"):
            lines.append(line)
    return "\n".join(lines) + "\n"


FOREIGN = {
    "nftables": "\t\tmeta mark {} counter accept",
    "iptables": "-A zz9 -m mark --mark {} -j ACCEPT",
    "bollard": "Zz{}: plural",
    "tideway": "zz{} plural",
    "ifupdown": "    zz{} plural",
    "networkd": "Zz{}=plural",
    "bird": "zz{} plural;",
    "mooring": "(zz{} plural)",
}


@pytest.mark.parametrize("dialect", FOREIGN)
@settings(SOME, max_examples=examples(10))
@given(data=st.data())
def test_what_is_not_ours_stays_where_it_is_or_nothing_is_printed(dialect: str, data: st.DataObject) -> None:
    speaks = (dialect, *WITH.get(dialect, ()))
    intent, _ = rendered(only_what_is_carried(data.draw(devices(speaks))))
    _, rendering = rendered(only_what_is_carried(data.draw(devices(speaks))))
    texts: dict[str, str] = {}
    for each in rendering:
        lines = [line for line in each.text.splitlines() if line.strip()]
        if not lines or each.dialect != dialect:
            texts |= {each.file: each.text} if lines else {}
            continue
        for number in range(data.draw(st.integers(1, 3))):
            lines.insert(data.draw(st.integers(1, len(lines))), FOREIGN[dialect].format(number + 1))
        if dialect == "nftables":
            lines = [f"{line} # handle {number}" for number, line in enumerate(lines, 1)]
        texts[each.file] = "\n".join(lines) + "\n"
    assume(texts)
    try:
        capture = read_device("quay", speaks, texts)
        strange = [(each.place.file, each.text) for each in capture.leftovers]
        mending = mend(intent, texts.items())
    except (ChangeError, Refusals) as error:
        assert "Nothing was changed" in str(error) or isinstance(error, Refusals)
        return
    except CaptureError:
        return  # in the middle of something: a broken text
    edited = texts | {one.file: one.after for each in mending.mends for one in each.files}
    there = read_device("quay", speaks, {name: text for name, text in edited.items() if text})
    if all(each.how == "edited" for each in mending.mends):
        assert [(each.place.file, each.text) for each in there.leftovers] == strange
        left = [each.difference for each in compared(intent, there)[1] if not each.implied]
        # What is left is without effect, or that hangs on what was not understood; no packet shows anything else.
        assert {one.subject for one in left if one.effect == "changes-traffic"} <= {one.subject for one in mending.held}
        if not mending.held:
            assert not between(intent, as_it_is(intent, there), unknown_of(there)).different
    else:
        foreign = [line for line in texts["nftables.nft"].splitlines() if "meta mark" in line]
        numbers = [line.rpartition(" ")[2] for line in foreign]
        change = "".join(each.change for each in mending.mends)
        deleted = [line.rpartition(" ")[2] for line in change.splitlines() if line.startswith("delete rule")]
        assert not {*numbers} & {*deleted}
