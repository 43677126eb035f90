"""Rulesets that somebody else wrote, mended: what is meant comes in, what is not goes, and no other line moves."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Mapping
from pathlib import Path
from random import Random

import pytest
from hypothesis import event, given, settings
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.stage_lists import lines
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.mending import Mending
from agile_lattice.compare.ruleset_mending import NO_NUMBER
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device
from agile_lattice.show.differences import shown_differences
from machines import Machine
from test_laws import MANY
from test_programs import RULESETS, TABLES, first
from test_real import kernel
from where import DEMO, examples

NUMBER = NO_NUMBER.format("nft -a list ruleset")
CASES = [*(("nftables", each) for each in RULESETS), *(("iptables", each) for each in TABLES)]
RULES = """
      - {{name: one, from: {0}, to: {1}, destination: {2}, service: {3}}}
      - {{name: two, from: {1}, to: {0}, source: {4}, service: {5}}}"""
INTENT = """
lattice: 1
zones: {{inside: {{exposure: own}}, outside: {{exposure: public}}}}
devices:
  edge:
    speaks: [iproute2, {speaks}]
    interfaces:
      in0: {{zone: inside, address: 10.40.10.1/24}}
      out0: {{zone: outside, address: 203.0.113.2/28}}
    routes: [{{to: default, via: 203.0.113.1}}]
    permits:{permits}
"""
INDEED = re.compile(
    r"[ \t]*# handle \d+$|\[\d+:\d+\]| packets \d+ bytes \d+", re.MULTILINE
)  # numbers that say nothing of what is done


def ruleset(speaks: str, case: str) -> str:
    """The text of a ruleset, as a file has it."""
    if speaks == "iptables":
        return f"*filter{textwrap.dedent(TABLES[case])}\nCOMMIT\n"
    surface = BUILT_IN.dialect("nftables").forms[-1].surface
    return surface.print(surface.parse(f"table inet f {{\n{RULESETS[case]}\n}}\n", "rules"))


@st.composite
def intents(draw: st.DrawFn, speaks: str) -> Device:
    """An intent with a few permits about the hosts and the services that the rulesets are about."""
    sides = draw(st.permutations(["inside", "outside"]))
    hosts = st.sampled_from(["10.40.10.7", "10.40.10.0/29", "203.0.113.14", "192.0.2.0/24", "0.0.0.0/0"])
    doors = st.sampled_from(["udp/53", "tcp/80", "tcp/443", "udp/50-60", "udp/9"])
    permits = RULES.format(*sides, draw(hosts), draw(doors), draw(hosts), draw(doors))
    return al.loads(INTENT.format(speaks=speaks, permits=permits)).device("edge")


def program_of(mending: Mending) -> list[tuple[str, str]]:
    """The ruleset before and after, if it is changed."""
    return [(one.before, one.after) for each in mending.mends if each.how == "rule-by-rule" for one in each.files]


def rules_in(text: str) -> dict[str, list[str]]:
    """The rules of each chain of a text for nftables, of all its blocks, with the values of variables."""
    found: dict[str, list[str]] = {}
    for name, value in re.findall(r"define (\w+) = (.*?)(?:;| #|$)", text, re.MULTILINE):
        text = text.replace(f"${name}", value)
    for table in BUILT_IN.dialect("nftables").forms[-1].surface.parse(text, "rules"):
        for chain in table.children or ():
            inside = [each.text for each in chain.children or () if not each.text.startswith(("type ", "policy "))]
            found.setdefault(chain.text.removeprefix("chain "), []).extend(inside)
    return found


def given_back(undo: str, now: Mapping[str, list[str]]) -> dict[str, list[str]]:
    """What an undo for nftables makes of chains as they are."""
    found = {name: [*rules] for name, rules in now.items()}
    for line in undo.splitlines():
        if command := re.fullmatch(r"(flush chain|add rule|insert rule) inet f (\S+)(?: index (\d+))?(?: (.*))?", line):
            what, name, index, rule = command.groups()
            if what == "flush chain":
                found[name] = []
            else:
                assert index is None or int(index) < len(found[name]), "nft inserts before a rule that there is"
                found[name].insert(len(found[name]) if index is None else int(index), rule)
    return found


def kept(before: str, after: str) -> list[str]:
    """The lines that went; all others must stand as they did, and in the same order."""
    rest = iter(after.splitlines())
    gone = []
    for line in before.splitlines():
        found = False
        ahead = list(rest)
        if line in ahead:
            rest, found = iter(ahead[ahead.index(line) + 1 :]), True
        else:
            rest = iter(ahead)
        if not found:
            gone.append(line)
    return gone


@pytest.mark.parametrize(("speaks", "case"), CASES)
@settings(MANY, max_examples=examples(3))
@given(data=st.data())
def test_a_mended_ruleset_does_more_of_what_is_meant_and_nothing_else(
    speaks: str, case: str, data: st.DataObject
) -> None:
    intent, chance = data.draw(intents(speaks)), data.draw(st.randoms(use_true_random=False))
    text = ruleset(speaks, case)
    numbered = data.draw(st.booleans()) or speaks == "iptables"
    if numbered and speaks == "nftables":  # with the numbers that the kernel gives
        text = "\n".join(f"{line} # handle {at}" if line.strip() else line for at, line in enumerate(text.splitlines()))
    before = al.read("edge", intent.speaks, {"rules": text})
    mending = al.mend(intent, [("rules", text)])
    for was, now in program_of(mending):
        event("changed")
        assert was == text
        [mend] = mending.mends
        gone = kept(was, now)
        rules = [each for each in gone if not re.match(r"\s*(chain .*\{|\})", each)]
        assert len(rules) == len(re.findall(r"^(delete|-D) ", mend.change, re.MULTILINE))
        if speaks == "nftables":
            assert given_back(mend.undo, rules_in(now)) == rules_in(was)
            emptied = re.findall(r"^flush chain inet f (\S+)$", mend.undo, re.MULTILINE)
            coming = re.findall(r"^(?:insert|add) rule inet f (\S+)", mend.change, re.MULTILINE)
            assert {*emptied} == {*coming}, "only what came in has no number"
        after = al.read("edge", intent.speaks, {"rules": now})
        assert not after.leftovers
        sides = [with_learned(each) for each in (intent, as_it_is(intent, before), as_it_is(intent, after))]
        better = compare_points(sides, chance)
        assert better >= 0
        comparison = al.diff(intent, after)
        assert comparison.rules is not None and not comparison.rules.undecided
        held = {each.subject for each in mending.held}
        # What the device did beyond the intent is gone, also where a line did what is wanted besides; or it is said.
        beyond = {each.packets.place.line for each in comparison.rules.beyond if not each.packets.stray}
        withheld = [each for each in mending.held if " rules:" in each.subject]
        assert len(beyond) <= len(withheld), (beyond, withheld)
        assert not numbered or all(each.reason != NUMBER for each in withheld)
        for each in comparison.rules.rules:
            stray = all(one.stray for one in each.otherwise)
            assert stray or f"permit {each.name}" in held, (each.name, each.otherwise)


def compare_points(sides: list[Device], chance: Random) -> int:
    """Ask many packets: what was right is right. Return how many became so."""
    better = 0
    space = common_space(sides[0], sides[1], 4)
    lists = [lines(each, "permits", space) for each in sides]
    boxes = [each.entry.box for one in lists for each in one]
    for _ in range(300):
        point = [chance.choice(chance.choice(spans)) for spans in chance.choice(boxes)]
        meant, was, now = (first(each, point).entry.action for each in lists)
        assert now in (meant, was), point
        better += (now == meant) - (was == meant)
        assert now == meant or was != meant, point
    return better


LOAD = {"nftables": ("nft", "-f"), "iptables": ("iptables-restore",)}
ALTER = {"nftables": ("nft", "-f"), "iptables": ("iptables-restore", "--noflush")}
SAVE = {"nftables": ("nft", "-a", "list", "ruleset"), "iptables": ("iptables-save",)}


@pytest.mark.real
@kernel
@pytest.mark.parametrize(("speaks", "case"), CASES)
def test_the_kernel_takes_what_is_changed_and_gives_it_back(speaks: str, case: str) -> None:
    permits = RULES.format("inside", "outside", "192.0.2.0/24", "tcp/443", "203.0.113.14", "udp/9")
    intent = al.loads(INTENT.format(speaks=speaks, permits=permits)).device("edge")
    with Machine("edge") as machine:
        for name in ("in0", "out0"):
            machine.inside("ip", "link", "add", name, "type", "bridge")
        load = machine.folder / "rules"
        load.write_text(ruleset(speaks, case))
        machine.inside(*LOAD[speaks], str(load))
        captured = machine.inside(*SAVE[speaks])
        mending = al.mend(intent, [("rules", captured)])
        if not mending.mends:
            assert mending.held, "there is a reason"
            return
        [mend] = mending.mends
        load.write_text(mend.change)
        machine.inside(*ALTER[speaks], str(load))
        changed = machine.inside(*SAVE[speaks])
        load.write_text(mend.undo)
        machine.inside(*ALTER[speaks], str(load))
        back = machine.inside(*SAVE[speaks])
    assert rules_of(changed) == rules_of(mend.files[0].after)
    assert rules_of(back) == rules_of(captured)
    gone = kept("\n".join(rules_of(captured)), "\n".join(rules_of(changed)))
    assert len(gone) == len(re.findall(r"^(delete|-D) ", mend.change, re.MULTILINE))


def rules_of(text: str) -> list[str]:
    """The lines of a listing, without remarks and numbers."""
    found = (INDEED.sub("", line).strip().replace('"', "") for line in text.splitlines())
    return [re.sub(r"\{ (.*) \}", lambda match: "{ " + ", ".join(sorted(match[1].split(", "))) + " }", each)
            for each in found if each and not each.startswith("#")]  # fmt: skip


def test_the_router_on_the_island_is_mended_where_it_is_certain() -> None:
    place = DEMO / "by-hand"
    [island] = al.load(place / "island.yaml").devices
    text = Path(place / "island-gate/ruleset.nft").read_text()
    mending = al.mend(island, [("ruleset.nft", text)])
    [mend] = mending.mends
    # Before the jump to the chain in which it is dropped, since others go there, too.
    assert mend.change.startswith("insert rule inet gate forward index 3 ")
    # A line that does more than is meant is narrowed: what is meant of it comes in its place.
    gone = [each.strip() for each in kept(text, mend.files[0].after)]
    assert gone == [
        "ip daddr 10.42.60.10 tcp dport { 80, 443 } ct state new accept # handle 6",
        "ip saddr @offices tcp dport 22 accept # handle 7",
        'iifname "main0" tcp dport { 80, 443 } dnat to 10.42.60.10 # handle 4',
        'iifname "main0" tcp dport 2222 dnat to 10.42.60.11:22 # handle 5',
    ]
    assert [each.subject for each in mending.held] == [
        "source NAT ruleset.nft:36",
        "permit ruleset.nft:11",
    ]
    assert "limit rate" in mending.held[1].reason
    after = al.diff(island, al.read("island-gate", island.speaks, {"ruleset.nft": mend.files[0].after}))
    assert after.rules is not None and {each.standing for each in after.rules.rules} == {"same"}
    assert all(each.packets.stray or each.packets.conditional for each in after.rules.beyond)
    # Without the numbers that a kernel gives lines, none can be told to go.
    mending = al.mend(island, [("ruleset.nft", re.sub(" # handle.*", "", text))])
    assert {each.subject for each in mending.held if each.reason == NUMBER} == {
        f"{what} ruleset.nft:{line}"
        for what, line in (("destination NAT", 30), ("destination NAT", 31), ("permit", 9), ("permit", 10))
    }


NARROWED = {
    "nftables": (
        "chain forward {\n type filter hook forward priority 0; policy drop;\n"
        ' iifname "in0" oifname "out0" tcp dport { 25, 443 } accept\n'
        ' iifname "in0" udp dport 53 accept\n log prefix "gone: " drop\n}',
        ["log prefix", "udp dport 53"],
    ),
    "iptables": (
        ":INPUT ACCEPT [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n"
        "-A FORWARD -i in0 -o out0 -p tcp -m multiport --dports 25,443 -j ACCEPT\n"
        "-A FORWARD -i in0 -p udp -m udp --dport 53 -j ACCEPT\n-A FORWARD -j LOG --log-prefix gone",
        ["-j LOG", "--dport 53"],
    ),
}


@pytest.mark.real
@kernel
@pytest.mark.parametrize("speaks", NARROWED)
def test_a_line_that_does_more_than_is_meant_is_narrowed_in_a_kernel(speaks: str) -> None:
    rules, stay = NARROWED[speaks]
    permits = RULES.format("inside", "outside", "0.0.0.0/0", "tcp/443", "10.40.10.7", "udp/53")
    permits = permits.replace("from: outside, to: inside, source: 10.40.10.7", "from: inside, to: outside")
    intent = al.loads(INTENT.format(speaks=speaks, permits=permits)).device("edge")
    with Machine("edge") as machine:
        for name in ("in0", "out0"):
            machine.inside("ip", "link", "add", name, "type", "bridge")
        load = machine.folder / "rules"
        load.write_text(f"*filter\n{rules}\nCOMMIT\n" if speaks == "iptables" else f"table inet f {{\n{rules}\n}}\n")
        machine.inside(*LOAD[speaks], str(load))
        captured = machine.inside(*SAVE[speaks])
        [mend] = al.mend(intent, [("rules", captured)]).mends
        load.write_text(mend.change)
        machine.inside(*ALTER[speaks], str(load))
        changed = machine.inside(*SAVE[speaks])
    after = al.diff(intent, al.read("edge", intent.speaks, {"rules": changed}))
    assert after.rules is not None and {each.standing for each in after.rules.rules} == {"same"}
    assert all(each.packets.stray or each.packets.conditional for each in after.rules.beyond)
    assert all(each in changed for each in stay) and ("25" in captured) and "dports 25" not in changed
    assert not re.search(r"\{ 25, 443 \}", changed)


def test_a_rule_that_its_chain_cannot_hold_is_withheld_with_the_reason() -> None:
    text = """
lattice: 1
devices:
  edge:
    speaks: [iproute2, nftables]
    interfaces: {in0: {address: 10.40.10.1/24}, out0: {address: 203.0.113.2/28}}
    routes: [{to: default, via: 203.0.113.1}]
    translations: [{name: web, publish: WHERE, service: tcp/443, on: 10.40.10.7, facing: out0}]
"""
    rules = "table inet n {\n\tchain p {\n\t\ttype nat hook prerouting priority dstnat; policy accept;\n\t}\n}\n"
    named, learned = (al.loads(text.replace("WHERE", each)).device("edge") for each in ("203.0.113.2", "interface"))
    [mend] = al.mend(named, [("rules", rules)]).mends
    # (The kernel's tools want an address named in such a chain, and say the family themselves then.)
    assert "ip daddr 203.0.113.2 tcp dport 443 counter dnat to 10.40.10.7" in mend.change
    mending = al.mend(learned, [("rules", rules)])
    assert not mending.mends
    [held] = mending.held
    assert held.subject == "destination NAT web" and "has to name an address" in held.reason


@pytest.mark.parametrize(("permits", "subject"), [
    ("", "permit"),  # the intent lets everything pass
    ("    permits: [{name: out, from: in0, to: out0}]\n", "replies to permitted connections in permits"),
])  # fmt: skip
def test_what_is_no_rule_of_the_intent_is_not_passed_over(permits: str, subject: str) -> None:
    text = """
lattice: 1
devices:
  edge:
    speaks: [iproute2, nftables]
    interfaces: {in0: {address: 10.40.10.1/24}, out0: {address: 203.0.113.2/28}}
    routes: [{to: default, via: 203.0.113.1}]
"""
    rules = (
        "table inet f {\n\tchain w {\n\t\taccept\n\t}\n\tchain a {\n\t\ttype filter hook forward priority filter; "
        'policy drop;\n\t\tiifname "in0" oifname "out0" jump w\n\t}\n}\n'
    )
    intent = al.loads(text + permits).device("edge")
    mending = al.mend(intent, [("rules", rules)])
    assert not mending.mends and [each.subject for each in mending.held] == [subject]
    shown = shown_differences(al.diff(intent, al.read("edge", intent.speaks, {"rules": rules})))
    assert {each.subject for each in shown} == {subject}


ALIKE = """
table inet f {
	chain forward {
		type filter hook forward priority filter; policy drop;
		ct state established,related accept
		iifname "in0" jump out
	}
	chain out {
		tcp dport { 80, 443 } accept
		LINE
	}
}
"""


@pytest.mark.parametrize(
    ("line", "permits", "same"),
    [
        ("udp dport 53 accept", ["tcp/80", "tcp/443", "udp/53"], [9, 9, 10]),
        ("udp dport 53 accept", ["[tcp/80, tcp/443]", "udp/53"], [9, 10]),
        ("tcp dport 80 accept", ["tcp/443", "tcp/80"], [9, 9]),
    ],
)
def test_what_is_written_otherwise_and_does_the_same_is_no_difference_to_packets(
    line: str, permits: list[str], same: list[int]
) -> None:
    written = "".join(f"\n      - {{name: p{n}, from: inside, service: {each}}}" for n, each in enumerate(permits))
    device = al.loads(INTENT.format(speaks="nftables", permits=written)).device("edge")
    found = al.diff(device, al.read("edge", ["nftables"], {"rules": ALIKE.replace("LINE", line)})).differences
    assert {each.effect for each in found} == {"no-effect"}
    missing = [each.note for each in found if each.change == "missing"]
    assert missing == [f"same effect, by rules:{number}" for number in same]
    assert [each.note for each in found if each.change == "extra"] == ["the intent has the same effect"]


def test_what_a_line_does_besides_is_a_difference_however_it_is_written() -> None:
    permits = "\n      - {name: web, from: inside, service: [tcp/80, tcp/443]}"
    device = al.loads(INTENT.format(speaks="nftables", permits=permits)).device("edge")
    for line in (
        "udp dport 53 accept",
        "tcp dport 443 drop",
        "meta mark 7 accept",
        "udp dport 9 limit rate 5/second accept",
    ):
        found = al.diff(device, al.read("edge", ["nftables"], {"rules": ALIKE.replace("LINE", line)}))
        assert found.rules is not None and not found.same
        felt = [each for each in found.differences if each.effect not in ("no-effect", "description-only")]
        besides = bool(found.rules.beyond or found.leftovers or felt)
        # Nothing comes to a drop behind the permit, and no packet has a mark.
        assert besides == (line not in ("tcp dport 443 drop", "meta mark 7 accept")), line


def test_rules_of_an_intent_on_one_line_are_as_on_several() -> None:
    permits = [f"{{name: p{n}, from: inside, service: {each}}}" for n, each in enumerate(["tcp/80", "udp/9", "udp/53"])]
    layouts = ["".join(f"\n      - {each}" for each in permits), f" [{', '.join(permits)}]"]
    several, one = (al.loads(INTENT.format(speaks="nftables", permits=each)).device("edge") for each in layouts)
    text = ALIKE.replace("LINE", "udp dport 53 accept")
    found = [al.diff(each, al.read("edge", ["nftables"], {"rules": text})).rules for each in (several, one)]
    assert found[0] is not None and found[1] is not None
    told = [
        [(each.name, each.standing, [*map(str, each.same)]) for each in some.rules]
        for some in found
        if some is not None
    ]
    assert told[0] == told[1] and [standing for _, standing, _ in told[0]] == ["same", "other", "same"]
    changes = [[each.change for each in al.mend(device, [("rules", text)]).mends] for device in (several, one)]
    assert changes[0] == changes[1] and "udp dport 9 " in changes[0][0] and "udp dport 53 " not in changes[0][0]


def test_a_permit_stays_that_a_translation_may_need_which_was_not_understood() -> None:
    [intent] = al.loads("""
        lattice: 1
        devices:
          edge:
            speaks: [nftables]
            interfaces: {in0: {address: 10.40.10.1/24}, out0: {address: 203.0.113.2/28}}
            translations: [{name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7, facing: out0}]
            permits: [{name: out, from: in0}]
    """).devices
    rules = """table ip t { # handle 1
        chain a { # handle 1
            type nat hook prerouting priority dstnat; policy accept;
            iifname "out0" tcp dport 443 LINE dnat to 10.40.10.7 # handle 2
        }
        chain f { # handle 3
            type filter hook forward priority filter; policy drop;
            ct state established,related accept # handle 4
            iifname "in0" accept # handle 5
            iifname "out0" ip daddr 10.40.10.7 tcp dport 443 accept # handle 6
        }
    }"""
    for line, goes in (("ip daddr 203.0.113.5", True), ("@th,0,8 3", False)):
        found = al.mend(intent, [("r.nft", rules.replace("LINE", line))])
        printed = "\n".join(each.change for each in found.mends)
        assert ("handle 6" in printed) is goes, printed
        assert goes or any("send packets elsewhere that need it" in each.reason for each in found.held), found.held
