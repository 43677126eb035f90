"""What a kernel does with chains that somebody else wrote, and what is claimed of them: nothing that it refutes."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import walk
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.equivalence import Verdict, verdict
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Network
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.translations import Dynamic
from agile_lattice.notation.loading import loads
from machines import Machine, ProgramError
from test_real import INTENT, Wire, kernel

pytestmark = pytest.mark.real
OUT = ("in0", "10.40.10.7", "203.0.113.14", 53)
BACK = ("out0", "203.0.113.14", "10.40.10.7", 53)
TO_EXTERNAL = ("out0", "203.0.113.14", "203.0.113.5", 53)
DROP = "type filter hook forward priority filter; policy drop;"
NAT = "type nat hook prerouting priority dstnat; policy accept;"
REPLIES = "ct state established,related accept"
FROM_INSIDE = 'iifname "in0" accept'

# The rules; then whether a packet from inside comes out, and one from outside; then whether all is understood.
FILTERS = {
    "policy drop, and nothing else": (f"chain a {{ {DROP} }}", False, False, True),
    "policy drop, and a rule": (f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }}", True, False, True),
    "replies after a drop": (
        f'chain a {{ {DROP} iifname "out0" drop; {REPLIES}; {FROM_INSIDE}; }}', True, False, True),
    "no replies": (f"chain a {{ {DROP} {FROM_INSIDE}; }}", True, False, True),
    "two chains, of which both must let pass": (
        f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }} chain b {{ {DROP} {REPLIES}; }}", False, False, True),
    "two chains that both let pass": (
        f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }} chain b {{ {DROP} {REPLIES}; {FROM_INSIDE}; }}",
        True, False, True),
    "two chains, of which one lets no replies pass": (
        f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }} chain b {{ {DROP} {FROM_INSIDE}; }}", True, False, True),
    "two chains, of which one drops replies by their port": (
        f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }} "
        'chain b { type filter hook forward priority -10; iifname "out0" udp dport 1024-65535 drop; }',
        True, False, True),
    "dormant": (f"flags dormant; chain a {{ {DROP} }}", True, True, True),
    "a chain before it that drops": (
        f"chain b {{ type filter hook forward priority -10; udp dport 53 drop; }} "
        f"chain a {{ {DROP} {REPLIES}; {FROM_INSIDE}; }}", False, False, True),
    "replies in words that are not understood": (
        f"chain a {{ {DROP} {FROM_INSIDE}; ct state vmap {{ established : accept, related : accept }}; }}",
        True, False, False),
    "before destinations are rewritten": (
        'chain a { type filter hook prerouting priority raw; policy accept; iifname "in0" udp dport 53 drop; }',
        False, True, True),
    "behind all others": (
        'chain a { type filter hook postrouting priority 50; policy accept; oifname "in0" udp dport 53 drop; }',
        True, False, True),
    "of a state that is not known yet": (
        "chain a { type filter hook prerouting priority raw; policy accept; ct state new drop; }", True, True, False),
    "from an interface that may not be known any more": (
        'chain a { type filter hook postrouting priority 50; policy accept; iifname "in0" drop; }', False, True, False),
    "for IPv4 only": (f"chain a {{ {DROP} {REPLIES}; ip protocol udp accept; }}", True, True, True),
}  # fmt: skip


NFT = (("nft", "-f"), ("nft", "list", "ruleset"))
IPTABLES = (("iptables-restore",), ("iptables-save",))


def tried(
    rules: str, *sent: tuple[str, str, str, int], programs: tuple[tuple[str, ...], tuple[str, ...]] = NFT
) -> tuple[list[bool], list[Header | None], str]:
    """Load rules into a router between two hosts, and send packets; return which come out, as what, and the capture."""
    [device] = loads(INTENT.replace("SPEAKS", "iproute2")).devices
    packets = [
        (side, Header(Address.parse(source), Address.parse(destination), "udp", port, 40000 + at))
        for at, (side, source, destination, port) in enumerate(sent)
    ]
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply([each for each in render_device(replace(device, translations=())) if each.dialect == "iproute2"])
        wire.route()
        machine.inside("ip", "route", "replace", "local", "203.0.113.5", "dev", "out0")
        outside.inside("ip", "route", "add", "default", "via", "203.0.113.2")
        path = machine.folder / "rules.nft"
        lines = rules if "\n" in rules else rules.replace("; ", ";\n").replace("{ ", "{\n").replace("} ", "}\n")
        path.write_text(lines)
        machine.inside(*programs[0], str(path))
        came = wire.flows(packets)
        capture = machine.inside(*programs[1])
    found = [came.get(header.source_port or 0) for _, header in packets]
    return [each is not None for each in found], [each and each[1] for each in found], capture


def claimed(capture: str, permits: tuple[Permit, ...]) -> tuple[Verdict, list[bool]]:
    """What is said of rules, held against permits; and whether packets get through by a walk."""
    [device] = loads(INTENT.replace("SPEAKS", "iproute2")).devices
    intent = replace(device, translations=(), permits=permits)
    read = read_device("edge", ("nftables",), {"rules.nft": capture})
    there = replace(as_it_is(intent, read), name="edge")
    topology = Topology(Network("", (there,)))
    sent = [(side, Header(Address.parse(a), Address.parse(b), "udp", port)) for side, a, b, port in (OUT, BACK)]
    return verdict(intent, read), [walk(topology, header, "edge", side).arrives for side, header in sent]


@kernel
@pytest.mark.parametrize("case", FILTERS)
def test_what_filters_let_pass(case: str) -> None:
    rules, *passes, understood = FILTERS[case]
    came, _, capture = tried(f"table inet f {{ {rules} }}", OUT, BACK)
    assert came == passes, "the kernel"
    found, walked = claimed(capture, (Permit(arrives=("in0",)),))
    assert not found.same or case in ("policy drop, and a rule", "two chains that both let pass")
    if understood:  # as lists of rules
        assert walked == passes
    assert found.different or passes == [True, False], "one of them is treated otherwise than the intent says"
    dropped = case in ("replies after a drop", "no replies", "two chains, of which one lets no replies pass",
               "two chains, of which one drops replies by their port")  # fmt: skip
    assert any(each.parting.part == "replies" for each in found.shown) is dropped, "by a packet whose reply is dropped"


@kernel
def test_of_two_chains_that_translate_the_newest_is_asked_first_and_nothing_is_claimed_of_them() -> None:
    chains = [
        f"chain {name} {{ {NAT} ip daddr 203.0.113.5 dnat to 10.40.10.{host}; }}" for name, host in (("a", 7), ("b", 8))
    ]
    _, seen, capture = tried(f"table ip n {{ {' '.join(chains)} }}", TO_EXTERNAL)
    assert [str(each and each.destination) for each in seen] == ["10.40.10.8"], (
        "the kernel: of equal priority, the newest"
    )
    found, _ = claimed(capture, ())
    assert not found.same and not found.different
    assert any("are asked in this order" in each.unknown for each in found.shown)


@kernel
def test_masquerade_takes_the_address_in_the_subnet_of_the_next_hop() -> None:
    """Of an interface with several subnets, and of several addresses in one subnet."""
    several = "[203.0.113.2/28, 198.51.100.2/24, 198.51.100.7/24]"
    [device] = loads(INTENT.replace("SPEAKS", "iproute2").replace("203.0.113.2/28", several)).devices
    device = replace(device, translations=(Dynamic("out", None, ("out0",)),))
    sent = [("in0", Header(Address.parse("10.40.10.7"), Address.parse(each), "udp", 53, 40000 + at))
            for at, each in enumerate(("203.0.113.14", "198.51.100.20", "192.0.2.9"))]  # fmt: skip
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply(render_device(device))
        wire.route()
        for address in ("198.51.100.20/24", "192.0.2.9/32"):
            outside.inside("ip", "addr", "add", address, "dev", "eth0")
        machine.inside("ip", "route", "replace", "default", "via", "198.51.100.20")
        came = wire.flows(sent)
    there = replace(device, routes=(Route(Prefix.parse("0.0.0.0/0"), Address.parse("198.51.100.20")),))
    topology = Topology(Network("", (there,)))
    said = [walk(topology, header, "edge", side).visits[-1].after.source for side, header in sent]
    seen = [came[header.source_port or 0][1].source for _, header in sent]
    assert [str(each) for each in seen] == ["203.0.113.2", "198.51.100.2", "198.51.100.2"], "the kernel"
    assert said == seen


ASKED = """
lattice: 1
devices:
  edge:
    speaks: [iproute2, nftables]
    interfaces:
      in0: {address: [10.40.10.1/24, "2001:db8:40::1/64"]}
    management:
      - {name: ping, from: in0, service: [icmp/echo-request, icmp6/echo-request]}
"""
ASKED_CHAIN = "chain in {{ type filter hook input priority 0; policy drop; {replies} {more} {ping} }}"
ANSWERED_CHAIN = "chain out {{ type filter hook output priority 0; policy {policy}; {more} }}"
ND = "icmpv6 type { nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } accept;"
PING = 'iifname "in0" icmp type echo-request accept; iifname "in0" icmpv6 type echo-request accept;'
# What the rules about packets for the device say beside its ping, what those about its own say, whether it answers.
ANSWERS = {
    "everything": (ND, "", (True, True)),
    "no neighbours": ("", "", (True, False)),
    "neighbours that are dropped before": (
        f"ip6 saddr {{ fe80::/10, 2001:db8::/32 }} icmpv6 type nd-neighbor-solicit drop; {ND}", "", (True, False)),
    "its own may pass": (ND, ANSWERED_CHAIN.format(policy="accept", more="udp dport 9 drop;"), (True, True)),
    "none of its own": (ND, ANSWERED_CHAIN.format(policy="drop", more=""), (False, False)),
    "its replies": (ND, ANSWERED_CHAIN.format(policy="drop", more=f"{REPLIES}; {ND}"), (True, True)),
    "its replies behind a drop": (
        ND, ANSWERED_CHAIN.format(policy="drop", more=f"ip daddr 10.40.10.0/24 drop; {REPLIES}; {ND}"), (False, True)),
}  # fmt: skip


@kernel
@pytest.mark.parametrize("case", ANSWERS)
def test_a_device_answers_where_nothing_else_is_said(case: str) -> None:
    more, own, answers = ANSWERS[case]
    chain = ASKED_CHAIN.format(replies=f'{REPLIES}; iifname "lo" accept;', more=more, ping=PING)
    rules = f"table inet f {{ {chain} {own} }}".replace("; ", ";\n").replace("{ type", "{\ntype")
    rules = rules.replace("} chain", "}\nchain").replace("}  }", "}\n}").replace("} }", "}\n}")
    [device] = loads(ASKED).devices
    with Machine("edge") as machine, Machine("inside") as inside:
        machine.cable("in0", inside.space, "eth0")
        machine.apply([each for each in render_device(device) if each.dialect == "iproute2"])
        for address in ("10.40.10.7/24", "2001:db8:40::7/64"):
            inside.inside("ip", "addr", "add", address, "dev", "eth0")
        machine.inside("nft", "-f", "-", input=f"{rules}\n")
        answered = tuple(pings(inside, each) for each in ("10.40.10.1", "2001:db8:40::1"))
        asked = {"a.json": "ip -json address", "r.json": "ip -json route show table all", "r.nft": "nft list ruleset"}
        capture = {name: machine.inside(*command.split()) for name, command in asked.items()}
    assert answered == answers, "the kernel"
    found = verdict(device, read_device("edge", device.speaks, capture))
    assert not found.different and bool(found.incomplete) is (case not in ("everything", "its replies")), found


@kernel
def test_who_may_not_reach_a_device_and_at_which_of_its_addresses() -> None:
    """Of the addresses of a device each can be asked for apart, and a rule that drops comes before others."""
    rules = """table inet f {
        chain in {
            type filter hook input priority 0; policy drop;
            ct state established,related accept
            iifname "lo" accept
            ip saddr 10.40.10.8 drop
            ip daddr 10.40.10.1 icmp type echo-request accept
        }
    }"""
    entry = "      - {name: ping, from: in0, service: [icmp/echo-request, icmp6/echo-request]}\n"
    asked = ASKED.replace('[10.40.10.1/24, "2001:db8:40::1/64"]', "[10.40.10.1/24, 10.40.11.1/24]")
    said = {
        "as it is": "- {source: 10.40.10.8, deny: true}\n      "
                    "- {destination: 10.40.10.1, service: icmp/echo-request}",
        "at all of its addresses": "- {source: 10.40.10.8, deny: true}\n      - {service: icmp/echo-request}",
        "by anybody": "- {destination: 10.40.10.1, service: icmp/echo-request}",
        "in another order": "- {destination: 10.40.10.1, service: icmp/echo-request}\n      "
                            "- {source: 10.40.10.8, deny: true}",
    }  # fmt: skip
    [device] = loads(asked).devices
    with Machine("edge") as machine, Machine("inside") as inside:
        machine.cable("in0", inside.space, "eth0")
        machine.apply([each for each in render_device(device) if each.dialect == "iproute2"])
        for address in ("10.40.10.7/24", "10.40.10.8/24"):
            inside.inside("ip", "addr", "add", address, "dev", "eth0")
        inside.inside("ip", "route", "add", "10.40.11.1", "via", "10.40.10.1")
        machine.inside("nft", "-f", "-", input=f"{rules}\n")
        answers = [
            pings(inside, to, source)
            for to, source in (("10.40.10.1", "10.40.10.7"), ("10.40.11.1", "10.40.10.7"), ("10.40.10.1", "10.40.10.8"))
        ]
        asked_for = {
            "a.json": "ip -json address",
            "r.json": "ip -json route show table all",
            "r.nft": "nft list ruleset",
        }
        capture = {name: machine.inside(*command.split()) for name, command in asked_for.items()}
    assert answers == [True, False, False], "the kernel"
    for case, entries in said.items():
        [device] = loads(asked.replace(entry, f"      {entries}\n")).devices
        read = read_device("edge", device.speaks, capture)
        found = verdict(device, read)
        assert not read.leftovers and not found.incomplete
        assert found.same is (case == "as it is")
        assert compare(device, read).same is found.same or case == "as it is"
        shown = {str(each.witness.header.destination) for each in found.shown if each.witness is not None}
        assert case != "at all of its addresses" or shown == {"10.40.11.1"}


@pytest.mark.parametrize("state", ["related", "established"])
def test_of_replies_nothing_is_shown_that_only_first_packets_meet(state: str) -> None:
    """Of both states replies have; where only one is dropped, the rules for first packets tell nothing of the other."""
    other = {"related": "established", "established": "related"}[state]
    rules = f"chain a {{ {DROP} ct state {state} drop; ct state {other} accept; {FROM_INSIDE}; }}"
    capture = f"table inet f {{ {rules} }}".replace("; ", ";\n").replace("{ ", "{\n").replace("} ", "}\n")
    found, _ = claimed(capture, (Permit(arrives=("in0",)),))
    assert not found.same and any("replies to permitted connections" in each for each in found.incomplete) is (
        state == "related"
    )
    assert any(each.parting.part == "replies" for each in found.shown) is (state == "established")


def test_replies_of_a_device_matter_also_where_nothing_is_said_of_management() -> None:
    [device] = loads(ASKED.partition("    management")[0]).devices
    [batch] = [each.text for each in render_device(device) if each.dialect == "iproute2"]
    for more, complete in (("", False), (f"{REPLIES};", True)):
        rules = f"table inet f {{\n{ANSWERED_CHAIN.format(policy='drop', more=more)}\n}}\n"
        capture = read_device("edge", device.speaks, {"a.batch": batch, "r.nft": rules})
        found = [each for each in verdict(device, capture).incomplete if "replies of the device" in each]
        assert (not found) is complete
        assert (
            any("replies of the device" in each.subject for each in compare(device, capture).differences)
            is not complete
        )


def test_nobody_misses_neighbours_where_there_is_no_ipv6() -> None:
    chain = ASKED_CHAIN.format(replies=f'{REPLIES}; iifname "lo" accept;', more="", ping=PING)
    text = f"table inet f {{ {chain} }}"
    for addresses, complete in (("[10.40.10.1/24]", True), ('[10.40.10.1/24, "2001:db8:40::1/64"]', False)):
        [device] = loads(ASKED.replace('[10.40.10.1/24, "2001:db8:40::1/64"]', addresses)).devices
        [batch] = [each.text for each in render_device(device) if each.dialect == "iproute2"]
        capture = read_device("edge", device.speaks, {"a.batch": batch, "r.nft": text})
        assert (not verdict(device, capture).incomplete) is complete
        missed = [each.subject for each in compare(device, capture).differences if "neighbour" in each.subject]
        assert bool(missed) is not complete


def pings(machine: Machine, address: str, source: str = "") -> bool:
    try:
        machine.inside("ping", "-c1", "-W1", *(["-I", source] if source else []), address)
    except ProgramError:
        return False
    return True


BESIDE = {
    "nftables": ("iptables-legacy -A FORWARD -j DROP", "nft add table inet another"),
    "iptables": ("iptables-legacy -A FORWARD -j DROP", "iptables-legacy -L"),
    "ip6tables": (
        "nft 'table inet fw { chain f { type filter hook forward priority 0; policy drop; }; }'",
        "nft add table ip fw",
    ),
}


@kernel
@pytest.mark.parametrize("dialect", BESIDE)
def test_rules_that_a_program_does_not_show_are_named(dialect: str) -> None:
    """One kernel asks the rules of several programs, and each lists its own."""
    rules, none = BESIDE[dialect]
    [(file, command)] = BUILT_IN.dialect(dialect).running.capture.items()
    for more, named in ((none, 0), (rules, 1)):
        with Machine("quay") as machine:
            machine.inside("sh", "-c", more)
            capture = read_device("quay", (dialect,), {file: machine.inside("sh", "-c", command)})
        assert len(capture.leftovers) == named, capture.leftovers
