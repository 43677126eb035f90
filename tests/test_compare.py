"""Differences: none if and only if two devices are the same, and each where it is."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import SECTIONS, Device, Helper, HostEntry, Settings
from agile_lattice.intent.normal import normal
from agile_lattice.intent.services import Service
from strategies import devices
from test_laws import MANY
from where import DEMO, ROOT

ALL = frozenset(SECTIONS)


def as_captured(device: Device) -> Capture:
    """The device as if every section of it had been read."""
    return Capture(replace(device, answers=normal(device).answers), (), ALL)


@MANY
@given(devices(), st.data())
def test_there_is_a_difference_exactly_where_something_differs(device: Device, data: st.DataObject) -> None:
    assert al.diff(device, as_captured(device)).same
    section = data.draw(st.sampled_from(["routes", "translations", "interfaces"]))
    members = getattr(device, section)
    if not members:
        return
    gone = data.draw(st.integers(0, len(members) - 1))
    other = replace(device, **{section: members[:gone] + members[gone + 1 :]})
    for intent, there in ((device, other), (other, device)):
        found = al.diff(intent, as_captured(there)).differences
        left, right = normal(intent), normal(there)
        if section == "interfaces":
            # Of an interface with nothing set nobody says anything, and its next hops change with it.
            named = [each for each in found if members[gone].name in each.subject]
            assert bool(members[gone].addresses) <= bool(named)
            continue
        assert bool(found) == (
            (left.routes, left.translations, left.answers) != (right.routes, right.translations, right.answers)
        )
        assert {each.section for each in found} <= {section, "answers"}


QUAY = """
lattice: 1
devices:
  quay:
    speaks: [frr, nftables]
    interfaces:
      wan0: {address: 203.0.113.2/28}
      lan0: {address: [10.40.10.1/24, 10.40.11.1/24], description: office}
    routes:
      - {to: default, via: 203.0.113.1}
      - {to: 10.41.0.0/16, via: 10.40.10.2}
    translations:
      - {name: one, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7, facing: wan0}
      - {name: two, publish: 203.0.113.5, service: tcp/80, on: 10.40.10.8, facing: wan0}
      - {name: keep, exempt: true, to: wan0, destination: 192.0.2.0/24}
      - {name: out, to: wan0, source-becomes: interface}
"""

# (That masquerade takes the address it has is no difference to any packet; nor is a distance without another way.)
# What stands there, what is put in its place; what is said: the change, the object, the effect, a field.
CHANGES = """
ip address 10.40.11.1/24|ip address 10.40.11.1/25|differs|address 10.40.11.1/24 on lan0|changes-traffic|address
ip address 10.40.11.1/24|ip address 10.40.12.1/24|differs|address 10.40.11.1/24 on lan0|changes-traffic|address
ip address 10.40.11.1/24 | ! | missing | address 10.40.11.1/24 on lan0 | changes-traffic |
ip address 203.0.113.5/32 | ! | missing | proxy ARP for 203.0.113.5 on wan0 | changes-traffic |
description office | description shop | differs | interface lan0 | description-only | description
office~ no shutdown | office~ shutdown | differs | interface lan0 | changes-traffic | enabled
10.41.0.0/16 10.40.10.2 | 10.41.0.0/16 10.40.10.3 | differs | route 10.41.0.0/16 | changes-traffic | via
10.41.0.0/16 10.40.10.2|10.41.0.0/16 10.40.10.2 9|differs|route 10.41.0.0/16 via 10.40.10.2|no-effect|distance
10.41.0.0/16 10.40.10.2 | 10.41.0.0/16 blackhole | differs | route 10.41.0.0/16 | changes-traffic | via
tcp dport 443 | tcp dport 444 | differs | translation one | changes-traffic | service
comment "one" | comment "uno" | differs | translation one | description-only | name
comment "out" |  | differs | translation out | description-only | name
dnat to 10.40.10.8 | dnat to 10.40.10.8:8080 | differs | translation two | changes-traffic | internal-port
masquerade | snat to 203.0.113.2 | differs | translation out | no-effect | source-becomes
ip daddr 192.0.2.0/24 counter | tcp dport 1 counter | differs | translation keep | changes-traffic | destination
""".strip().splitlines()


@pytest.mark.parametrize("row", CHANGES)
def test_each_change_is_named_for_what_it_is(row: str) -> None:
    # A tilde stands for a line break.
    old, new, change, subject, effect, field = (each.strip(" ").replace("~", "\n") for each in row.split("|"))
    quay = al.loads(QUAY).devices[0]
    texts = {each.file: each.text for each in al.render(quay)}
    assert sum(text.count(old) for text in texts.values()) == 1
    changed = {file: text.replace(old, new) for file, text in texts.items()}
    comparison = al.diff(quay, al.read("quay", quay.speaks, changed))
    assert comparison.leftovers == ()
    [found] = comparison.differences
    assert (found.change, found.subject, found.effect) == (change, subject, effect), found.witness
    assert field in [each.name for each in found.fields] or field == ""
    written = subject.split()[3 if subject.startswith("proxy") else 1].partition("/")[0]
    assert written in QUAY.splitlines()[found.intent.line - 1]
    assert bool(found.device.line) == (change == "differs")
    assert (found.witness is not None) == (effect == "changes-traffic")


def test_wrong_order_matters_only_if_some_packet_can_tell() -> None:
    quay = al.loads(QUAY).devices[0]
    texts = {each.file: each.text for each in al.render(quay)}
    for first, second, effect in (("one", "two", "no-effect"), ("keep", "out", "changes-traffic")):
        lines = texts["nftables.nft"].splitlines()
        a, b = (next(n for n, line in enumerate(lines) if f'"{name}"' in line) for name in (first, second))
        lines[a], lines[b] = lines[b], lines[a]
        swapped = {**texts, "nftables.nft": "\n".join(lines)}
        found = al.diff(quay, al.read("quay", quay.speaks, swapped)).differences
        assert [(each.change, each.effect) for each in found] == [("moved", effect)]


def test_of_two_routes_that_stand_for_one_another_neither_is_cosmetic() -> None:
    quay = al.loads(QUAY).devices[0]
    texts = {each.file: each.text for each in al.render(quay)}
    plain = "ip route 10.41.0.0/16 10.40.10.2\n"
    for there, effects in (
        # The second way is extra on the device if the first goes; if both are too many, one of them is seen.
        ("", ["changes-traffic"]),
        (f"{plain}ip route 10.41.0.0/16 10.40.10.3 9\n", ["no-effect"]),
        (f"{plain}ip route 10.42.0.0/16 10.40.10.2\nip route 10.42.0.0/16 10.40.10.3 9\n", ["changes-traffic"] * 2),
    ):
        changed = {file: text.replace(plain, there) for file, text in texts.items()}
        assert changed != texts
        found = al.diff(quay, al.read("quay", quay.speaks, changed)).differences
        assert sorted(each.effect for each in found) == sorted(effects)


SHOWN = """
lattice: 1
devices:
  quay:
    speaks: [SPEAKS, nftables]
    interfaces:
      wan0: {address: [203.0.113.9/28, 203.0.113.2/28]}
      lan0: {address: 10.40.10.1/24}
    routes: [{to: default, via: 203.0.113.1}]
    translations: [{name: out, to: wan0, source-becomes: RULE}]
"""


@pytest.mark.parametrize(("speaks", "rule", "effects"), [
    ("iproute2", "interface", ["changes-traffic"]), ("iproute2", "{pool: 203.0.113.9}", []),
    ("frr", "interface", []),  # which sorts what it prints, so that nothing is known of the order
])  # fmt: skip
def test_the_order_of_addresses_counts_where_packets_leave_with_the_first(
    speaks: str, rule: str, effects: list[str]
) -> None:
    [intent] = al.loads(SHOWN.replace("SPEAKS", speaks).replace("RULE", rule)).devices
    turned = [replace(one, addresses=one.addresses[::-1]) for one in intent.interfaces]
    texts = {each.file: each.text for each in al.render(replace(intent, interfaces=tuple(turned)))}
    found = al.diff(intent, al.read("quay", intent.speaks, texts))
    assert [each.effect for each in found.differences] == effects
    assert al.prove(intent, al.read("quay", intent.speaks, texts), running=False).same == (not effects)
    mending = al.mend(intent, texts.items())
    assert (len(mending.mends), [each.firm for each in mending.held]) == (0, [True] * len(effects))


def test_the_order_of_permits_that_let_the_same_packets_pass_means_nothing() -> None:
    rules = "[{name: a, from: lan0, service: tcp/80-90}, {name: b, from: lan0, service: tcp/85-95}]"
    text = "lattice: 1\ndevices: {quay: {speaks: [nftables], interfaces: {lan0: {}}, permits: RULES}}"
    one = al.loads(text.replace("RULES", rules)).device("quay")
    other = replace(one, permits=one.permits[::-1])
    [found] = al.diff(one, as_captured(other)).differences
    told = "no rule that it was moved past decides otherwise about a packet of it"
    assert (found.change, found.effect, found.note) == ("moved", "no-effect", told)


def test_rules_that_share_what_they_are_for_are_told_apart_by_the_rest_when_their_names_change() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, nftables]
            interfaces: {lan0: {address: 10.40.10.1/24}, wan0: {address: 203.0.113.2/28}}
            permits:
              - {name: web, from: lan0, to: wan0, service: tcp/443}
              - {name: mail, from: lan0, to: wan0, service: tcp/25}
    """
    [quay], [other] = (al.loads(each).devices for each in (text, text.replace("web", "www").replace("mail", "post")))
    found = al.diff(quay, as_captured(other)).differences
    assert [(each.effect, [(f.name, f.intent, f.device) for f in each.fields]) for each in found] == [
        ("description-only", [("name", "web", "www")]), ("description-only", [("name", "mail", "post")])
    ]  # fmt: skip


def test_rules_without_names_are_paired_by_what_they_do() -> None:
    """Somebody wrote them: which of them has the effect of which rule, no name tells."""
    text = """
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, iptables, ip6tables]
            interfaces: {lan0: {address: 10.40.10.1/24}, wan0: {address: 203.0.113.2/28}}
            permits: [{name: web, from: lan0, to: wan0, service: [tcp/80, tcp/443]}]
            management: [{name: ssh, from: lan0, service: tcp/22}]
    """
    [quay] = al.loads(text).devices
    texts = {each.file: each.text for each in al.render(quay) if each.dialect == "iproute2"}
    texts["r.save"] = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -i lo -j ACCEPT
-A INPUT -i lan0 -d 10.40.10.1/32 -p tcp -m tcp --dport 22 -j ACCEPT
-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -o wan0 -p tcp -m tcp --dport 443 -j ACCEPT
-A FORWARD -i lan0 -o wan0 -p tcp -m tcp --dport 80 -j ACCEPT
COMMIT
"""
    texts["r6.save"] = "# Generated by ip6tables-save\n*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\nCOMMIT\n"
    found = al.diff(quay, al.read("quay", quay.speaks, texts)).rules
    assert found is not None
    told = [(each.name, each.standing, [place.line for place in each.same]) for each in found.rules]
    assert told == [("web", "same", [9, 10]), ("ssh", "partly", [0, 7])]
    examples = {str(each.example) for each in found.rules[1].otherwise}
    assert all("-> 203.0.113.2" in each or ":" in each for each in examples), examples


# What a list of the device says, in which a line was not understood that could do what the intent wants.
DOUBTED = {
    "permits": """
        chain f { type filter hook forward priority filter; policy drop;
            ct state established,related accept
            iifname "lan0" @th,0,8 3 accept
        }""",
    "permits, where the rest passes": """
        chain f { type filter hook forward priority filter; policy accept;
            iifname "lan0" @th,0,8 3 drop
        }""",
    "management": """
        chain i { type filter hook input priority filter; policy drop;
            ct state established,related accept
            iifname "lan0" @th,0,8 3 accept
        }""",
    "arrival": """
        chain a { type nat hook prerouting priority dstnat; policy accept;
            iifname "wan0" ip daddr 203.0.113.5 @th,0,8 3 dnat ip to 10.40.10.7
        }""",
    "departure": """
        chain d { type nat hook postrouting priority srcnat; policy accept;
            oifname "wan0" ip saddr 10.40.10.0/24 @th,0,8 3 snat ip to 203.0.113.2
        }""",
}
WANTED = {
    "permits": "permits: [{name: out, from: lan0}]",
    "permits, where the rest passes": "permits: [{name: no, from: lan0, deny: true}, {name: rest}]",
    "management": "management: [{name: all, from: lan0}]",
    "arrival": "translations: [{name: web, publish: 203.0.113.5, on: 10.40.10.7, facing: wan0}]",
    "departure": "translations: [{name: out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.2}}]",
}


@pytest.mark.parametrize("case", DOUBTED)
def test_no_packet_is_shown_that_a_line_which_was_not_understood_may_decide(case: str) -> None:
    text = f"""
        lattice: 1
        devices:
          quay:
            speaks: [iproute2, nftables]
            interfaces: {{lan0: {{address: 10.40.10.1/24}}, wan0: {{address: 203.0.113.2/28, answers: [203.0.113.5]}}}}
            routes: [{{to: default, via: 203.0.113.1}}]
            {WANTED[case]}
    """
    [quay] = al.loads(text).devices
    texts = {each.file: each.text for each in al.render(quay) if each.dialect == "iproute2"}
    for rules, known in ((DOUBTED[case], False), (DOUBTED[case].replace("@th,0,8 3 ", "udp dport 9 "), True)):
        read = al.read("quay", quay.speaks, {**texts, "r.nft": f"table inet f {{{rules}\n}}\n"})
        found, differences = al.prove(quay, read), al.diff(quay, read)
        assert bool(read.leftovers) is not known and not found.same
        assert found.different is known, [each.witness for each in found.shown]
        witnesses = [each.witness for each in differences.differences if each.witness is not None]
        assert known or not witnesses
    # Nor where a route could lead packets elsewhere that are not for the device, or an interface could stop them.
    plain = f"table inet f {{{DOUBTED[case].replace('@th,0,8 3 ', 'udp dport 9 ')}\n}}\n"
    [batch] = texts
    for line, sure in (("route replace 10.9.0.0/16 encap seg6 dev lan0\n", case in ("management", "arrival")),
                       ("link set dev lan0 xdp obj filter.o\n", False)):  # fmt: skip
        read = al.read("quay", quay.speaks, {batch: texts[batch] + line, "r.nft": plain})
        assert len(read.leftovers) == 1 and al.prove(quay, read).different is sure


def test_a_line_that_dials_is_compared_by_what_speaks_of_it_only() -> None:
    backup = next(each for each in al.load(ROOT / "examples" / "coast").devices if each.name == "backup")
    rendering = al.render(backup)
    texts = {each.file: each.text for each in rendering if each.dialect != "ppp"}
    found = al.diff(backup, al.read("backup", [each for each in backup.speaks if each != "ppp"], texts))
    assert not found.differences and "dial-up" in found.unseen
    assert not al.prove(backup, al.read("backup", [each for each in backup.speaks if each != "ppp"], texts)).different


def test_what_bridges_do_between_their_ports_is_not_proven() -> None:
    text = """
        lattice: 1
        devices:
          quay:
            speaks: iproute2
            interfaces:
              p1: {tagged: [7, 8]}
              p2: {tagged: [7, 8]}
              br0: {bridge: {members: [p1, p2]}}
              br0.7: {parent: br0, vlan: 7, address: 10.40.10.1/24}
    """
    [quay], [other] = (
        al.loads(each).devices for each in (text, text.replace("p1: {tagged: [7, 8]}", "p1: {tagged: [7]}"))
    )
    [found] = al.diff(quay, as_captured(other)).differences
    assert found.subject == "interface p1" and found.effect != "no-effect"
    ports = tuple(each for each in quay.interfaces if not each.name.startswith("br0"))
    bare = replace(quay, interfaces=(*ports, Interface("lan0", (Prefix.parse("10.40.11.1/24"),))))
    joined = replace(bare, interfaces=(*bare.interfaces, *(each for each in quay.interfaces if each.name == "br0")))
    for one, two, change in ((joined, bare, "missing"), (bare, joined, "extra")):
        [found] = al.diff(one, as_captured(two)).differences
        assert (found.change, found.subject, found.effect) == (change, "interface br0", "may-change-traffic")


def test_permits_of_two_families_have_no_order_between_them() -> None:
    permits = [f'{{name: {name}, from: lan0, destination: "{to}"}}' for name, to in (
        ("six", "2001:db8:66::/48"), ("four", "192.0.2.0/24"), ("more", "2001:db8:67::/48"))]  # fmt: skip
    text = SHOWN.replace("SPEAKS, nftables", "iproute2, iptables, ip6tables").replace("RULE", "interface")
    [intent] = al.loads(f"{text}    permits: [{', '.join(permits)}]\n").devices
    texts = {each.file: each.text for each in al.render(intent)}
    assert al.diff(intent, al.read("quay", intent.speaks, texts)).same


PLAIN = """
lattice: 1
devices:
  quay:
    speaks: [networkd, nftables]
    settings: {}
    interfaces:
      lan0: {address: 10.40.10.1/24}
      lan1: {address: 10.40.11.1/24}
    routes: [{to: 10.50.0.0/16, via: 10.40.10.9}]
    management: [{service: tcp/22, from: lan0}]
"""
# What is changed in the intent, and why `prove` does not decide then.
UNDECIDED = {
    "MTU": ("10.40.11.1/24}", "10.40.11.1/24, mtu: 1400}", "the MTU of lan1 differs (1400 and 1500)"),
    "learned": ("10.40.11.1/24}", "10.40.11.1/24, learns: dhcp6}", "lan1 learns its address in a different way"),
    "bridged": ("    routes", "      br0: {bridge: {members: [lan1]}}\n    routes", "br0 is bridged differently"),
    "unsaid": ("settings: {}", "settings: {forwarding: true}", "no input says whether it forwards IPv4"),
    "filter unsaid": ("settings: {}", "settings: {reverse-path: off}", "no input says whether it filters"),
}


@pytest.mark.parametrize("case", UNDECIDED)
def test_what_is_not_worked_out_is_not_decided(case: str) -> None:
    old, new, words = UNDECIDED[case]
    assert PLAIN.count(old) == 1
    [there], [intent] = (al.loads(text).devices for text in (PLAIN, PLAIN.replace(old, new)))
    found = al.prove(intent, as_captured(there))
    assert (found.same, found.different) == (False, False)
    assert any(words in each for each in (*found.proof.undecided, *found.incomplete))
    assert al.prove(there, as_captured(there), running=False).same


def test_what_was_not_captured_or_understood_is_not_decided() -> None:
    [quay] = al.loads(PLAIN).devices
    texts = {each.file: each.text for each in al.render(quay)}
    for file, text, words in (
        ("nftables.nft", None, "no input covers access"),
        ("nftables.nft", 'iifname "lo" accept', "in management what the device sends to itself may be dropped"),
        (
            "nftables.nft",
            "ct state established,related accept",
            "in management replies to permitted connections may be dropped",
        ),
        ("10-lan0.network", "[Match]", "1 line not understood, the first is 10-lan0.network:2"),
    ):
        changed = {**texts, file: texts[file].replace(text or "", "[Match]\nZz9=plural" if text == "[Match]" else "")}
        if text is None:
            del changed[file]
        capture = al.read("quay", quay.speaks, changed)
        found = al.prove(quay, capture)
        assert not found.same and not found.different
        assert any(words in each for each in found.incomplete), (words, found.incomplete)
        assert not al.diff(quay, capture).same


INCLUDING = """
lattice: 1
devices:
  quay:
    speaks: [ifupdown]
    interfaces:
      lan0: {address: 10.40.10.1/24}
"""


def test_files_that_a_configuration_includes_are_captured_or_not_decided() -> None:
    [quay] = al.loads(INCLUDING).devices
    [text] = [each.text for each in al.render(quay)]
    including = {"interfaces": f"source /etc/network/interfaces.d/*.cfg\n{text}"}
    more = "auto lan1\niface lan1 inet static\n    address 10.40.11.1/24\n"
    for texts, same, words in (
        (including, False, "the first is interfaces:1"),
        ({**including, "lan1": more}, False, "the first is interfaces:1"),
        ({**including, "lan1.cfg": "# nothing\nauto lan0\n"}, True, ""),
    ):
        found = al.prove(quay, al.read("quay", quay.speaks, texts), running=False)
        assert found.same is same
        assert any(words in each for each in found.incomplete) or not words, (words, found.incomplete)
    assert al.prove(quay, al.read("quay", quay.speaks, {**including, "lan1.cfg": more})).different


def test_a_capture_leaves_out_what_includes_nothing(tmp_path: Path) -> None:
    (tmp_path / "some").mkdir()
    (tmp_path / "none").mkdir()
    (tmp_path / "some" / "lan1").write_text("auto lan1\n")
    lines = [f"source {tmp_path}/{each}/*" for each in ("some", "none")]
    lines += [f"source-directory {tmp_path}/{each}" for each in ("some", "none")] + ["auto lan0"]
    (tmp_path / "interfaces").write_text("\n".join(lines))
    command = BUILT_IN.dialect("ifupdown").running.capture["interfaces"].replace("/etc/network", str(tmp_path))
    done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == [lines[0], f"# {lines[1]}", lines[2], f"# {lines[3]}", lines[4]]


HIDING = """
lattice: 1
devices:
  quay:
    speaks: [frr]
    interfaces: {lan0: {address: 10.40.10.1/24}, tun0: {}, tun1: {}}
    routes: [{to: 10.60.0.0/16, interface: tun0}]
"""


def test_a_bare_interface_that_a_program_does_not_print_is_not_missing() -> None:
    [quay] = al.loads(HIDING).devices
    shown = "interface lan0\n ip address 10.40.10.1/24\nexit\n"
    text = f"{shown}ip route 10.60.0.0/16 tun0\n"
    capture = al.read("quay", quay.speaks, {"a.conf": text})
    assert al.prove(quay, capture, running=False).same and al.diff(quay, capture).same
    for other in (shown, text.replace("tun0", "tun1"), f"interface tun0\n shutdown\nexit\n{text}"):
        assert al.prove(quay, al.read("quay", quay.speaks, {"a.conf": other})).different
    [addressed] = al.loads(HIDING.replace("tun1: {}", "tun1: {address: 10.41.0.1/24}")).devices
    assert al.prove(addressed, capture).different, "what has an address is printed"


def test_an_interface_without_settings_that_is_shut_on_one_side_is_a_difference() -> None:
    text = PLAIN.replace("    routes", "      lan2: {}\n    routes")
    [intent] = al.loads(text).devices
    shut = [replace(one, enabled=one.name != "lan2") for one in intent.interfaces]
    found = al.prove(intent, as_captured(replace(intent, interfaces=tuple(shut))))
    assert found.different and found.shown[0].witness is not None and found.shown[0].witness.arrives == "lan2"


BRIDGED = """
lattice: 1
devices:
  quay:
    speaks: [iproute2, bridge]
    interfaces:
      p1: {tagged: 7}
      br0: {bridge: {members: [p1], vlans: [7]}}
      br0.7: {parent: br0, vlan: 7, address: 10.40.7.1/24}
"""


def test_vlans_that_were_not_captured_are_not_the_same() -> None:
    [quay] = al.loads(BRIDGED).devices
    texts = {each.file: each.text for each in al.render(quay)}
    assert al.prove(quay, al.read("quay", quay.speaks, texts), running=False).same
    [seen] = [file for file in texts if "iproute2" in file]
    found = al.prove(quay, al.read("quay", quay.speaks, {seen: texts[seen]}))
    assert (found.same, found.different) == (False, False) and "no input covers bridging" in found.incomplete


@pytest.mark.parametrize("silent", ["iproute2", "frr", "nftables"])
def test_what_no_dialect_of_a_device_carries_is_never_proven(silent: str) -> None:
    device = next(each for each in al.load(DEMO / "saltmarsh.yaml").devices if silent in each.speaks)
    spoken = tuple(each for each in device.speaks if each != silent)
    texts = {each.file: each.text for each in al.render(device) if each.dialect != silent}
    rest = replace(device, speaks=spoken)
    capture = al.read(rest.name, spoken, texts)
    unseen = {"interfaces", "routes", "translations", "permits", "access"} & {*al.diff(rest, capture).unseen}
    found = al.prove(rest, capture)
    assert unseen and not found.same
    assert {f"no input covers {each}" for each in unseen} <= {*found.incomplete}


def test_an_unknown_route_may_be_the_way_back_to_a_source() -> None:
    text = PLAIN.replace("[networkd, nftables]", "[iproute2, nftables, sysctl]").replace(
        "settings: {}", "settings: {reverse-path: strict}"
    )
    [quay] = al.loads(text).devices
    texts = {each.file: each.text for each in al.render(quay)}
    batch = "iproute2.batch"
    texts[batch] = texts[batch].replace("route replace 10.50.0.0/16", "route replace zz9 10.50.0.0/16")
    capture = al.read("quay", quay.speaks, texts)
    assert len(capture.leftovers) == 1
    assert not al.prove(quay, capture).different, "what was not understood may be that very route"


SET = Settings(
    "gate", True, True, "strict", (Address.parse("10.40.10.53"),), (HostEntry("till", (Address.parse("10.40.10.9"),)),),
    Address.parse("10.255.0.9"), ("pier.example",), True, (Helper("ftp", (Service("tcp", ((21, 21),)),)),),
)  # fmt: skip


@pytest.mark.parametrize("field", [each for each in Settings.__struct_fields__ if each != "place"])
def test_every_setting_that_differs_is_shown(field: str) -> None:
    other = {"host_name": "quay", "forwarding4": False, "forwarding6": False, "reverse_path": "loose",
             "identity": Address.parse("10.255.0.8"), "lookups": False}.get(field, ())  # fmt: skip
    intent = Device("edge", ("frr",), settings=SET)
    device = replace(intent, settings=replace(SET, **{field: other}))
    assert len(al.diff(intent, as_captured(device)).differences) == 1
    if other != () or field == "helpers":
        assert len(al.diff(device, as_captured(intent)).differences) == 1, "whichever of the two is the intent"
    assert al.diff(intent, as_captured(intent)).same


ANSWERING = """
lattice: 1
zones: {sea: {exposure: public}, crew: {exposure: own}}
devices:
  gate:
    speaks: [SYSTEM, nftables]
    interfaces:
      wan0: {zone: sea, address: OWN, answers: [EXTERNAL]}
      lan0: {zone: crew, address: INSIDE}
    translations: [{static: EXTERNAL, on: HOST, facing: sea}]
"""
FAMILIES = {
    4: {"OWN": "203.0.113.2/28", "EXTERNAL": "203.0.113.5", "INSIDE": "10.40.10.1/24", "HOST": "10.40.10.9"},
    6: {"OWN": "2001:db8:1::2/64", "EXTERNAL": "2001:db8:1::5", "INSIDE": "fd00:10::1/64", "HOST": "fd00:10::9"},
}


@pytest.mark.parametrize("system", ["iproute2", "netplan", "networkd", "ifupdown", "frr"])
@pytest.mark.parametrize("family", FAMILIES)
def test_what_neighbours_ask_for_is_answered_in_both_families(family: int, system: str) -> None:
    text = ANSWERING.replace("SYSTEM", system)
    for word, value in FAMILIES[family].items():
        text = text.replace(word, f'"{value}"')
    external = FAMILIES[family]["EXTERNAL"]
    said, silent = al.loads(text), al.loads(text.replace(f'answers: ["{external}"]', "answers: []"))
    derived = al.loads(text.replace(f', answers: ["{external}"]', ""))
    rendered = {each.file: each.text for each in al.render(derived.device("gate"))}
    assert any(external in each for file, each in rendered.items() if file != "nftables.nft")
    capture = al.read("gate", derived.device("gate").speaks, rendered)
    for intent in (said, derived):
        assert al.diff(intent.device("gate"), capture).same
        assert "not-answered" not in {each.slug for each in al.check(intent)}
        assert not _walk(intent, external).obstacle
    assert [each.section for each in al.diff(silent.device("gate"), capture).differences] == ["answers"]
    assert "not-answered" in {each.slug for each in al.check(silent)}
    assert f"ask for {external}" in _walk(silent, external).obstacle


def _walk(network: al.Network, external: str) -> al.Walk:
    neighbour = "2001:db8:1::9" if ":" in external else "203.0.113.9"
    return al.walk(network, neighbour, external, "tcp/443", at="gate:wan0")


def test_a_prefix_of_ipv6_is_routed_and_not_asked_for() -> None:
    rule = 'translations: [{static: ADDRESS, on: "2001:db8:9::/64"}]'
    text = PLAIN.replace("10.40.11.1/24}", '"2001:db8:1::2/48"}').replace("settings: {}", rule)
    for address, slugs in (("2001:db8:1:5::/64", {"not-answered"}), ("2001:db8:5::/64", set())):
        found = al.check(al.loads(text.replace("ADDRESS", f'"{address}"')))
        assert {each.slug for each in found} & {"not-answered"} == slugs


def test_more_addresses_than_an_interface_should_have_are_refused() -> None:
    text = ANSWERING.replace("SYSTEM", "netplan").replace("EXTERNAL]", '"2001:db8:1:1::/64"]')
    for word, value in FAMILIES[6].items():
        text = text.replace(word, f'"{value}"')
    with pytest.raises(al.Refusals, match="have the prefix routed"):
        al.render(al.loads(text).device("gate"))


PLUGGED = """
lattice: 1
devices:
  quay:
    speaks: [{0}]
    interfaces:
      lan1: {{{1}}}
      lan2: {{{1}}}
      hub: {{{1}{2}address: 10.0.0.1/24, bridge: {{members: [lan1, lan2]}}}}
"""
APART = {
    "networkd": ("Kind=bridge\n", "Kind=bridge\n\n[Bridge]\nVLANFiltering=yes\n", "DefaultPVID={}\n"),
    "iproute2": ("type bridge\n", "type bridge vlan_filtering 1", " vlan_default_pvid {}\n"),
}


@pytest.mark.parametrize("speaks", APART)
@pytest.mark.parametrize("vlan", ["none", "1", "7"])
def test_a_bridge_that_keeps_vlans_apart_has_one_for_ports_of_which_nothing_is_said(speaks: str, vlan: str) -> None:
    plain, apart = (
        al.loads(PLUGGED.format(speaks, *each)).devices[0]
        for each in (("", ""), (f"untagged: {1 if vlan == 'none' else vlan}", ", "))
    )
    before, after, number = APART[speaks]
    after += "\n" * (speaks == "iproute2") if vlan == "1" else number.format("0" if vlan == "none" else vlan)
    texts = {each.file: each.text.replace(before, after) for each in al.render(plain)}
    capture = al.read("quay", plain.speaks, texts)
    assert not al.prove(plain, capture).same and not al.diff(plain, capture).same
    if vlan == "none":  # nothing passes, and an intent cannot say so
        assert [each.sections for each in capture.leftovers] == [("bridging",)]
    else:
        assert al.diff(apart, capture).same and not capture.leftovers


NEEDED = """
lattice: 1
devices:
  quay:
    speaks: [{0}]
    interfaces: {{lan0: {{address: [10.0.0.1/24, "2001:db8::1/64"]}}, wan0: {1}}}
    {2}
"""
ROUTED = "routes: [{to: 10.9.0.0/16, via: 10.0.0.9}, {to: '2001:db8:9::/48', via: '2001:db8::9'}]"
DIALLED = "{dial: {over: lan0, user: {file: /etc/ppp/sea}, password: {file: /etc/ppp/sea}}}"


@pytest.mark.parametrize(("speaks", "outside", "more", "needed"), [
    ("bird, iproute2", "{}", ROUTED, r"protocol device.*\n};\n"),
    ("bird, iproute2", "{}", ROUTED, r"(?s)protocol kernel four.*?\n};\n"),
    ("bird, iproute2", "{}", ROUTED, r"(?s)protocol kernel six.*?\n};\n"),
    ("bird, iproute2", "{}", ROUTED, r"export all;"),
    ("ifupdown, ppp", DIALLED, "", r"noauth\n"),
    ("ifupdown, ppp", DIALLED, "", r"persist\n"),
    ("iproute2", "{vlan: 7, parent: lan0}", "", r"link set dev wan0 up\n"),
    ("iproute2", "{address: 10.7.0.1/24}", "", r"link set dev wan0 up\n"),
    ("ifupdown", "{}", "", r"iface wan0 inet manual\n"),
    ("ifupdown", "{}", ROUTED, r"(?<=iface lan)0(?= inet manual)"),
])  # fmt: skip
def test_what_a_system_needs_for_a_rendering_to_take_effect_is_missed(
    speaks: str, outside: str, more: str, needed: str
) -> None:
    [quay] = al.loads(NEEDED.format(speaks, outside, more)).devices
    texts = {each.file: each.text for each in al.render(quay)}
    assert al.diff(quay, al.read("quay", quay.speaks, texts)).same
    spoilt = {file: re.sub(needed, "", text, count=1) for file, text in texts.items()}
    assert spoilt != texts and not al.diff(quay, al.read("quay", quay.speaks, spoilt)).same


@pytest.mark.parametrize("gone", ["*nat", "COMMIT", "*filter"])
def test_a_table_without_its_beginning_or_its_end_is_refused_as_the_program_does(gone: str) -> None:
    text = "*nat\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n*filter\n:FORWARD DROP [0:0]\nCOMMIT\n"
    with pytest.raises(CaptureError, match="capture it again"):
        al.read("quay", ["iptables"], {"iptables.rules": text.replace(f"{gone}\n", "", 1)})


@pytest.mark.parametrize(
    ("speaks", "begins"), [("ifupdown", "iface lan0 inet static"), ("bird, iproute2", "protocol static")]
)
@pytest.mark.parametrize("name", ["a-rest", "z-rest"])
def test_what_one_text_needs_another_one_may_have(speaks: str, begins: str, name: str) -> None:
    [quay] = al.loads(NEEDED.format(speaks, "{learns: dhcp}" if speaks == "ifupdown" else "{}", ROUTED)).devices
    texts = {each.file: each.text for each in al.render(quay)}
    [file] = [file for file, text in texts.items() if begins in text]
    head, begin, rest = texts.pop(file).partition(begins)
    parted = sorted({**texts, file: head, name: begin + rest}.items())
    assert al.diff(quay, al.read("quay", quay.speaks, dict(parted))).same
