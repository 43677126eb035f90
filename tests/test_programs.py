"""Rulesets that somebody else wrote: their chains, as the kernel and a plain reading of them follow them."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable
from itertools import count, product
from random import Random
from typing import Any, NamedTuple

import pytest
from hypothesis import event, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.flow_parsing import Sent
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.proving import common_space
from agile_lattice.behaviour.stage_lists import LISTED, Line, lines
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.beside import followed_beside
from agile_lattice.compare.counterparts import counterparts
from agile_lattice.compare.equivalence import between
from agile_lattice.compare.plausible import Plausible
from agile_lattice.dialects import read_device
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.passes.programs import STRAY, flattened
from agile_lattice.dialects.program_facts import BaseChainFact, ChainFact, PolicyFact, StepFact
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.learned import with_learned
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.permits import Passage, Permit
from agile_lattice.intent.places import Place
from agile_lattice.notation.loading import loads
from agile_lattice.packets.boxes import overlap
from soundness import pairs
from test_chains import IPTABLES, tried
from test_laws import MANY
from test_real import INTENT, kernel
from where import DEMO, examples

NAMES = ("in0", "out0", "out1")
ENDS = [AddressSet.parse(each) for each in ("10.0.0.0/30", "10.0.0.2/31", "10.0.0.1", "2001:db8::/126")]
PORTS = [((22, 22),), ((20, 25), (80, 80)), ((8, 8),)]


class Packet(NamedTuple):
    arrives: str
    leaves: str
    source: Address
    destination: Address
    protocol: str
    port: int


def steps(chain: str, jumps: list[str]) -> st.SearchStrategy[StepFact]:
    sides = st.none() | st.sampled_from([("in0",), ("in0", "out0"), ("!out0",), ("out*",)])
    ends = st.none() | st.none() | st.sampled_from(ENDS)
    services = st.sampled_from([(None, None), (None, None), ("tcp", None), *(("tcp", each) for each in PORTS[:2]),
                                ("icmp", PORTS[2]), ("icmp6", None)])  # fmt: skip
    verdicts: list[tuple[str, str]] = [("pass", ""), ("drop", ""), ("return", ""), ("next", "")]
    verdicts += [(how, target) for target in jumps for how in ("jump", "jump", "goto")]
    states = st.sampled_from([None, None, None, ("new",), ("established", "related"), ("invalid",), ("new", "invalid")])
    return st.builds(
        lambda verdict, arrives, leaves, source, destination, service, state, family: StepFact(
            chain, verdict[0], "", 0, verdict[1], arrives, leaves, source, destination, service[0], service[1],
            state=state, only=family,
        ),
        st.sampled_from(verdicts), sides, sides, ends, ends, services, states, st.sampled_from([None, None, 4, 6]),
    )  # fmt: skip


@st.composite
def programs(draw: st.DrawFn) -> tuple[dict[str, list[StepFact]], str]:
    """A base chain `a` and others that are only jumped to by those before them."""
    chains = ["a", "b", "c"]
    found = {
        each: draw(st.lists(steps(each, chains[at + 1 :]), min_size=0, max_size=5)) for at, each in enumerate(chains)
    }
    return found, draw(st.sampled_from(["pass", "drop"]))


def plainly(program: dict[str, list[StepFact]], chain: str, packet: Packet) -> str:
    """Follow one packet, step by step; return what becomes of it: `back` if it comes to the end of a chain."""
    stray = packet.protocol.startswith("icmp") and any(
        first <= packet.port <= last for first, last in STRAY[packet.source.family].ports or ()
    )
    for step in program[chain]:
        if not applies(step, packet, "invalid" if stray else "new"):
            continue
        if step.verdict in ("pass", "drop"):
            return step.verdict
        if step.verdict == "return":
            return "back"
        if step.verdict in ("jump", "goto"):
            end = plainly(program, step.target, packet)
            if end != "back" or step.verdict == "goto":
                return end
    return "back"


def applies(step: StepFact, packet: Packet, state: str) -> bool:
    ends = ((step.source, packet.source), (step.destination, packet.destination))
    return (
        includes(step.arrives, packet.arrives)
        and includes(step.leaves, packet.leaves)
        and all(
            each is None
            or (isinstance(each, AddressSet) and each.family == one.family and covers(each.spans, one.value))
            for each, one in ends
        )
        and step.protocol in (None, packet.protocol)
        and (step.ports is None or covers(step.ports, packet.port))
        and (step.state is None or state in step.state)
        and step.only in (None, packet.source.family)
    )


def covers(spans: Any, value: int) -> bool:
    return any(first <= value <= last for first, last in spans)


def listed(rules: list[Any], packet: Packet) -> str:
    """Return what the first of some rules that matches does; what none matches passes if there are none."""
    for rule in rules:
        assert isinstance(rule, Passage)
        if applies(StepFact("a", **{name: getattr(rule, name) for name in (
            "arrives", "leaves", "source", "destination", "protocol", "ports")}), packet, ""):  # fmt: skip
            return rule.verdict
    return "drop" if rules else "pass"


def packets(chance: Random, count: int) -> list[Packet]:
    found = []
    for _ in range(count):
        family = chance.choice([4, 4, 6])
        base = int(Address.parse("10.0.0.0" if family == 4 else "2001:db8::").value)
        source, to = (Address(family, base + chance.randint(0, 5)) for _ in range(2))
        protocol = chance.choice(["tcp", "udp", "icmp" if family == 4 else "icmp6"])
        port = chance.choice([8, 3, 128, 1] if protocol.startswith("icmp") else [22, 21, 80, 443])
        found.append(Packet(chance.choice(NAMES), chance.choice(NAMES), source, to, protocol, port))
    return found


@settings(MANY, max_examples=examples(150))
@given(made=programs(), chance=st.randoms(use_true_random=False))
def test_lists_of_rules_do_what_chains_do(made: tuple[dict[str, list[StepFact]], str], chance: Random) -> None:
    program, policy = made
    facts: dict[str, list[Any]] = {
        "base-chain": [BaseChainFact("a", "permit", place=Place("x", 1))],
        "policy": [PolicyFact("a", policy)],  # type: ignore[arg-type]
        "chain": [ChainFact(each) for each in program],
        "step": [each for chain in program.values() for each in chain],
    }
    found = flattened(facts)
    if found["aside"]:
        event("not worked out")
        return
    rules = found["permit"]
    for packet in packets(chance, 150):
        wanted = plainly(program, "a", packet)
        assert listed(rules, packet) == (policy if wanted == "back" else wanted), (packet, rules)
    event("compared")


# What people write: loaded into a kernel, and followed as they are listed.
FORWARD = "type filter hook forward priority filter; policy drop; ct state established,related accept;"
RULESETS = {
    "jumps, and what comes back": f"""
        chain web {{ tcp dport {{ 80, 443 }} accept; udp dport 53 return; log prefix "web "; }}
        chain a {{ {FORWARD} iifname "in0" jump web; iifname "in0" udp dport 50-60 accept; }}""",
    "goto does not come back": f"""
        chain other {{ udp dport 53 return; tcp dport 80 accept; }}
        chain a {{ {FORWARD} iif "in0" goto other; accept; }}""",
    "returns from the chain that is asked": f"""
        chain a {{ {FORWARD} ip saddr 10.40.10.7 return; ct state new accept; }}""",
    "sets by name, and any but": f"""
        set hosts {{ type ipv4_addr; flags interval; elements = {{ 10.40.10.0/29, 192.0.2.9 }} }}
        set doors {{ type inet_service; elements = {{ 53, 80 }} }}
        chain a {{ {FORWARD} ip saddr @hosts udp dport @doors accept; iifname != "out0" tcp dport @doors accept; }}""",
    "states, in words": f"""
        chain a {{ {FORWARD} ct state invalid drop; ct state {{ new, untracked }} iifname "in*" accept; }}""",
    "policy accept, and some drops": """
        chain a { type filter hook forward priority 0; policy accept; udp dport 53 ip saddr != 10.40.10.7 drop;
            meta nfproto ipv4 tcp dport 80 reject with tcp reset; }""",
    "maps from values to verdicts": """
        chain web { udp dport vmap { 53 : accept, 54-60 : drop }; accept; }
        chain a { type filter hook forward priority filter; policy drop;
            ct state vmap { established : accept, related : accept, invalid : drop }
            iifname vmap { "in0" : jump web, "out0" : drop }
        }""",
    "variables": f"""
        define doors = {{ 50-60, 443 }}
        define till = 10.40.10.7
        chain web {{ ip saddr $till return; tcp dport 80 accept; }}
        chain a {{ {FORWARD} iifname "in0" udp dport $doors accept; ip saddr $till drop; jump web; }}""",
    "one chain in two blocks": f"""
        chain a {{ {FORWARD} iifname "in0" udp dport 53 accept; ip saddr 10.40.10.7 udp dport 50-60 drop; }}
        chain a {{ log prefix "rest "; tcp dport 80 accept; }}""",
    "two levels": f"""
        chain deep {{ ip daddr 203.0.113.14 return; udp dport 53 accept; }}
        chain middle {{ jump deep; tcp dport 80 accept; }}
        chain a {{ {FORWARD} jump middle; counter; oifname "out0" udp dport 443 accept; }}""",
}  # fmt: skip
TABLES = {
    "chains of a user's own": """
        :FORWARD DROP [0:0]
        :USER - [0:0]
        :ISO - [0:0]
        -A FORWARD -j USER
        -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD ! -i out0 -j ISO
        -A ISO -p udp -m udp --dport 53 -j RETURN
        -A ISO -p udp -m multiport --dports 53,55,443 -j ACCEPT
        -A ISO -m state --state NEW -j REJECT --reject-with icmp-port-unreachable
        -A USER -s 10.40.10.12/32 -j DROP
        -A USER -j RETURN""",
    "names that begin so, and goto": """
        :FORWARD ACCEPT [0:0]
        :ONE - [0:0]
        :TWO - [0:0]
        -A FORWARD -i in+ -p udp -g ONE
        -A FORWARD -i out0 -j TWO
        -A FORWARD -p udp -j DROP
        -A ONE -p udp -m udp --dport 400:500 -j RETURN
        -A ONE -m conntrack --ctstate INVALID -j DROP
        -A ONE ! -d 192.0.2.0/24 -p udp -m udp --dport 9 -j DROP
        -A TWO -p udp -m udp ! --dport 53 -j RETURN
        -A TWO -m comment --comment "the rest" -j ACCEPT""",
}
HOSTS = {"in0": ["10.40.10.7", "10.40.10.12"], "out0": ["203.0.113.14"]}


def sent() -> list[tuple[str, Header]]:
    """Packets from both sides, to either host, with two protocols."""
    return [
        (side, Header(Address.parse(source), Address.parse(to), protocol, port))
        for side, sources in HOSTS.items()
        for source in sources
        for to in (["203.0.113.14"] if side == "in0" else ["10.40.10.7"])
        for protocol, port in (("udp", 53), ("udp", 55), ("udp", 443), ("udp", 80), ("udp", 9))
    ]


# Conditions and targets that are not in the model: what they may be about is, and all else is decided.
PARTLY = {
    "nftables": f"""
        chain late {{ udp dport 53 udp length 0-9999 ip ttl > 1 drop; accept; }}
        chain a {{ {FORWARD}
            iifname "in0" ip saddr 10.40.10.7 udp sport 40000-40002 drop
            iifname "in0" udp dport 443 meta mark set 0x7 ip dscp 0 drop
            iifname "in0" udp dport {{ 9, 53 }} accept
            iifname "out0" jump late
        }}""",
    "iptables": """
        :FORWARD DROP [0:0]
        :LATE - [0:0]
        [5:6] -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
        -A FORWARD -s 10.40.10.7/32 -i in0 -p udp -m udp --sport 40000:40002 -j DROP
        -A FORWARD -i in0 -p udp -m udp --dport 443 -m length --length 1:2 -j DROP
        [1:2] -A FORWARD -i in0 -p udp -m multiport --dports 9,53 -j ACCEPT
        -A FORWARD -i out0 -j LATE
        -A LATE -p udp -m udp --dport 53 -m ttl --ttl-gt 1 -j DROP
        -A LATE -j ACCEPT""",
}


@pytest.mark.real
@kernel
@pytest.mark.parametrize("speaks", PARTLY)
def test_what_is_decided_beside_conditions_that_are_not_known_is_right(speaks: str) -> None:
    asked = [(side, str(each.source), str(each.destination), each.port or 0) for side, each in sent()]
    rules = textwrap.dedent(PARTLY[speaks])
    if speaks == "nftables":
        came, _, capture = tried(f"table inet f {{\n{rules}\n}}", *asked)
    else:
        came, _, capture = tried(f"*filter{rules}\nCOMMIT\n", *asked, programs=IPTABLES)
    [device] = loads(INTENT.replace("SPEAKS", speaks)).devices
    intent = replace(device, translations=(), permits=(Permit("none", deny=True),))
    read = read_device("edge", (speaks,), {"rules": capture})
    network = Network("", (intent,))
    told = [followed_beside(network, {"edge": read}, Sent(header, "edge", side)) for side, header in sent()]
    wrong = [
        (packet, came_out, each.unless)
        for packet, came_out, each in zip(asked, came, told, strict=True)
        if each.decided and each.captured.arrives != came_out
    ]
    assert wrong == []
    decided = [each.decided for each in told]
    assert len(decided) / 2 <= sum(decided) < len(decided), "some are left open, and not more than has to be"


def test_what_people_write_in_files_is_what_the_kernel_lists() -> None:
    written = """
        define wan = "main0"
        define hosts = { 10.42.60.10, 10.42.60.11 }
        define alike = $hosts
        table inet f {
            chain a {
                type filter hook forward priority 0; policy drop;
                iifname $wan ip daddr $alike tcp dport vmap { 22 : accept, 80-81 : accept, 25 : drop }
            }
        }
        table ip n {
            chain p {
                type nat hook prerouting priority -100;
                iifname $wan dnat to tcp dport map { 80 : 10.42.60.10, 8080 : 10.42.60.11 }
            }
        }"""
    plain = """
        table inet f {
            chain a {
                type filter hook forward priority filter; policy drop;
                iifname "main0" ip daddr { 10.42.60.10, 10.42.60.11 } tcp dport { 22, 80-81 } accept
                iifname "main0" ip daddr { 10.42.60.10-10.42.60.11 } tcp dport 25 drop
            }
        }
        table ip n {
            chain p {
                type nat hook prerouting priority dstnat; policy accept;
                iifname "main0" tcp dport 80 dnat to 10.42.60.10
                iifname "main0" tcp dport 8080 dnat to 10.42.60.11
            }
        }"""
    one, other = (al.read("x", ["nftables"], {"x.nft": each}) for each in (written, plain))
    assert not one.leftovers and not other.leftovers
    assert between(one.device, other.device).same
    unknown = al.read("x", ["nftables"], {"x.nft": written.replace("define alike", "define like")})
    assert {each.place.line for each in unknown.leftovers} == {8}, "a variable that is not defined is not passed over"


def test_rules_are_held_against_one_another_by_what_they_do() -> None:
    place = DEMO / "by-hand"
    [island] = al.load(place / "island.yaml").devices
    capture = al.read("island-gate", island.speaks, {"ruleset.nft": (place / "island-gate/ruleset.nft").read_text()})
    [limited] = capture.leftovers
    assert "10/second" in limited.reason and limited.place.line == 11
    found = al.diff(island, capture).rules
    assert found is not None
    told = {(each.stage, each.name): (each.standing, [line.line for line in each.same]) for each in found.rules}
    assert told == {
        ("arrival", "weather"): ("same", [30]),
        ("departure", "jetty-out"): ("same", [36]),
        ("permits", "weather"): ("same", [9]),
        ("permits", "outward"): ("partly", [22]),
    }
    beyond = {each.packets.place.line for each in found.beyond if not each.packets.stray}
    assert beyond == {9, 10, 11, 30, 31}
    [limited_rate] = [each.packets for each in found.beyond if each.packets.depends]
    assert (
        limited_rate.place.line == 11 and limited_rate.conditional and "limit rate 10/second" in limited_rate.depends[0]
    )
    assert [each.packets.place.line for each in found.beyond if each.packets.stray] == [36]


@settings(MANY, max_examples=examples(35))
@given(made=pairs(), chance=st.randoms(use_true_random=False))
def test_what_is_said_to_have_the_same_effect_has_it(made: tuple[Device, Device], chance: Random) -> None:
    intent, there = made
    lists = {name: getattr(intent, name) for name in ("translations", "permits", "access")}
    numbers = count(1)
    placed = {
        name: tuple(replace(each, place=Place("x", next(numbers))) for each in one) for name, one in lists.items()
    }
    intent = replace(intent, **placed)
    found = counterparts(intent, there)
    event(f"{sum(each.standing == 'same' for each in found.rules)} of {len(found.rules)} the same")
    for stage in LISTED:
        same = {each.place.line for each in found.rules if each.stage == stage and each.standing == "same"}
        for family in (4, 6):
            space = common_space(intent, there, family)
            mine, its = (lines(with_learned(each), stage, space) for each in (intent, there))
            plausible = Plausible(with_learned(there), stage, space, True)
            left_out = [*plausible.never, *plausible.strays]
            for line in mine:
                if line.rule is None or not line.place.line or line.place.line not in same:
                    continue
                for _ in range(20):
                    point = [chance.randint(*chance.choice(spans)) for spans in line.entry.box]
                    if not any(inside(box, point) for box in left_out) and first(mine, point) is line:
                        assert line.entry.action.applied(point) == first(its, point).entry.action.applied(point)


SOURCES = ["", "ip saddr 10.40.10.0/25 ", "ip6 saddr 2001:db8:40::/64 "]
SERVICES = ["", "tcp dport 80 ", "tcp dport 80-90 ", "udp dport 53 "]
CERTAIN = st.tuples(st.sampled_from(SOURCES), st.sampled_from(SERVICES), st.just(""), st.just("accept"))
HANGING = st.tuples(
    st.sampled_from(SOURCES),
    st.sampled_from(SERVICES),
    st.just("limit rate 5/second "),
    st.sampled_from(["accept", "drop"]),
)
ALWAYS = [("", "tcp dport 80-90 ", "", "accept"), ("", "udp dport 53 ", "", "accept")]
STEPS = st.tuples(st.lists(HANGING, min_size=1, max_size=3), st.lists(CERTAIN, max_size=2)).flatmap(
    lambda drawn: st.permutations([*drawn[0], *drawn[1], *ALWAYS])
)
DOUBTED = """
lattice: 1
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      lan0: {{address: [10.40.10.1/24, "2001:db8:40::1/64"]}}
      wan0: {{address: [203.0.113.2/28, "2001:db8:1::2/64"]}}
    routes: [{{to: default, via: 203.0.113.1}}, {{to: "::/0", via: "2001:db8:1::1"}}]
    permits: [{permits}]
"""


@settings(MANY, max_examples=examples(40))
@given(
    steps=STEPS,
    services=st.lists(
        st.sampled_from(["tcp/80", "tcp/85", "udp/53", "tcp/80-90"]), min_size=1, max_size=2, unique=True
    ),
    chance=st.randoms(use_true_random=False),
)
def test_the_same_effect_without_a_doubt_does_not_hang_on_a_condition(
    steps: list[tuple[str, str, str, str]], services: list[str], chance: Random
) -> None:
    """Whether a line that has a condition applies or not, what is said without a doubt has to hold."""

    def read(lines: Iterable[str]) -> Capture:
        chain = "\n".join([FORWARD, *lines])
        return al.read("quay", ["nftables"], {"rules": f"table inet f {{\nchain a {{\n{chain}\n}}\n}}\n"})

    permits = ", ".join(f"{{name: {each}, from: lan0, service: {each}}}" for each in services)
    intent = al.loads(DOUBTED.format(permits=permits)).device("quay")
    found = al.diff(intent, read("".join(each) for each in steps)).rules
    sure = {each.name for each in found.rules if each.standing == "same" and each.certain} if found else set()
    event(f"{len(sure)} of {len(services)} sure")
    hanging = [at for at, step in enumerate(steps) if step[2]]
    for apply in product([True, False], repeat=len(hanging)):
        choice = dict(zip(hanging, apply, strict=True))
        kept = [f"{step[0]}{step[1]}{step[3]}" for at, step in enumerate(steps) if choice.get(at, True)]
        there = as_it_is(intent, read(kept))
        for family in (4, 6):
            space = common_space(intent, there, family)
            plausible = Plausible(there, "permits", space, True)
            left_out = [*plausible.never, *plausible.strays]
            mine, its = lines(intent, "permits", space), lines(there, "permits", space)
            for line in mine:
                if line.rule is None or line.rule.name not in sure:
                    continue
                for box in filter(None, (overlap(line.entry.box, each.entry.box) for each in its)):
                    point = [chance.randint(*chance.choice(spans)) for spans in box]
                    if not any(inside(box, point) for box in left_out) and first(mine, point) is line:
                        assert line.entry.action == first(its, point).entry.action, (line, choice)


def inside(box: Any, point: list[int]) -> bool:
    return all(covers(spans, number) for spans, number in zip(box, point, strict=True))


def first(found: list[Line], point: list[int]) -> Line:
    return next(each for each in found if inside(each.entry.box, point))


def test_a_route_that_was_not_understood_may_lead_anywhere() -> None:
    """What goes out by an interface is bounded by the routes only if all of them are known."""
    intent = al.loads(
        """
lattice: 1
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      wan0: {address: 203.0.113.2/28}
      lan0: {address: 10.40.10.1/24}
    routes: [{to: default, via: 203.0.113.1}]
    permits: [{name: in, from: wan0, to: lan0, destination: 10.40.10.0/24}]
"""
    ).devices[0]
    rules = """
table inet f {
  chain fw {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname "wan0" jump inward
  }
  chain inward {
    oifname "lan0" accept
  }
}"""
    [batch] = [each.text for each in al.render(intent) if each.file.endswith(".batch")]
    for more, effects in (
        ("", {"no-effect"}),
        ("route replace 10.9.0.0/16 encap seg6 dev lan0\n", {"may-change-traffic"}),
    ):
        capture = al.read("quay", ["iproute2", "nftables"], {"a.batch": batch + more, "r.nft": rules})
        assert bool(capture.leftovers) == bool(more)
        found = al.diff(intent, capture)
        assert {each.effect for each in found.differences if each.change == "extra"} == effects
        assert bool(found.rules and found.rules.beyond) == bool(more), "packets to other destinations may go out there"


@pytest.mark.parametrize(
    ("line", "named"),
    [
        ("ct state established drop", 0),
        ("ct state established ip ttl 3 drop", 0),
        ("ct state established @th,0,8 3 drop", 0),
        ("jump b", 0),
    ],
)
def test_replies_that_may_be_dropped_before_they_pass_are_never_passed_over(line: str, named: int) -> None:
    rules = f"""
        table inet f {{
            chain b {{ udp dport 9 drop; }}
            chain a {{
                type filter hook forward priority 0; policy accept;
                {line.replace("jump", "ct state related jump")}
                ct state established,related accept
            }}
        }}"""
    capture = al.read("x", ["nftables"], {"x.nft": rules})
    assert len(capture.leftovers) == named
    assert bool(capture.absent) == (not named), "a reply may be dropped, and this is said"
    alone = al.read("x", ["nftables"], {"x.nft": "table inet f {\nchain a {\ntype filter hook forward priority 0\n"
                                        "udp sport 9 drop\n}\n}\n"})  # fmt: skip
    assert len(alone.leftovers) == 1, "a chain of which nothing is understood may drop"
    calm = al.read("x", ["nftables"], {"x.nft": rules.replace("drop", "accept")})
    assert len(calm.leftovers) == named and not calm.absent
