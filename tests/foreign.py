"""Rulesets as people write them, in `rulesets/`: real packets through a kernel, and what is said of each beforehand.

    python tests/foreign.py 3000

needs root. It prints for each ruleset how many packets came out as it was said, how many were not decided, and which
ones the kernel treated otherwise; there must be none of these.
"""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Mapping, Sequence
from random import Random
from typing import Any, NamedTuple

from msgspec.structs import replace

from agile_lattice.behaviour.flow_parsing import Sent
from agile_lattice.behaviour.flows import Header
from agile_lattice.compare.beside import followed_beside
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.assuming import assuming
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.usual import Assumption
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.model import Device, Network
from agile_lattice.notation.loading import loads
from agile_lattice.packets.spans import Spans, meet
from mixed import mixed, mixed_save
from where import ROOT

HERE = ROOT / "tests"
sys.path.insert(0, str(HERE.parent / "scripts"))
RULESETS = {each.name: each.read_text() for each in sorted((HERE / "rulesets").iterdir())}


class Ends(NamedTuple):
    """The hosts on both sides of the router, and its addresses: one on each side, and more that it answers to."""

    hosts: Mapping[str, Sequence[str]]
    own: Sequence[str]
    public: Sequence[str]
    lengths: tuple[int, int, int]
    gateway: str


ENDS = {
    4: Ends({"in0": ["10.40.10.7", "10.40.10.8", "10.40.10.9"], "out0": ["203.0.113.1", "203.0.113.14"]},
            ["10.40.10.1", "203.0.113.2"], [f"203.0.113.{n}" for n in (3, 4, 5, 6, 8, 9, 10, 11)], (24, 28, 32),
            "203.0.113.1"),
    6: Ends({"in0": [f"2001:db8:40::{n}" for n in (7, 8, 9)], "out0": ["2001:db8:1::1", "2001:db8:1::e"]},
            ["2001:db8:40::1", "2001:db8:1::2"], [f"2001:db8:1::{n}" for n in (5, 6, 7, 9)], (64, 64, 128),
            "2001:db8:1::1"),
}  # fmt: skip
INTENT = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  edge:
    speaks: [iproute2, SPEAKS]
    interfaces:
      in0: {zone: inside, address: INSIDE}
      out0: {zone: outside, address: [OUTSIDE]}
    routes: [{to: default, via: "GATEWAY"}]
"""
PROGRAMS = {
    "nft": ("nftables", ("nft", "-f"), ("nft", "list", "ruleset")),
    "save": ("iptables", ("iptables-restore",), ("iptables-save",)),
    "save6": ("ip6tables", ("ip6tables-restore",), ("ip6tables-save",)),
}
PROGRAMS["nft6"] = PROGRAMS["nft"]


def family_of(name: str) -> int:
    """The family of the packets that are sent through a ruleset."""
    return 6 if name.endswith("6") else 4


def intent_of(speaks: str, family: int = 4) -> str:
    """The intent of the router that the rulesets are loaded into, in one address family."""
    ends, (inside, outside, host) = ENDS[family], ENDS[family].lengths
    more = [f"{ends.own[1]}/{outside}", *(f"{each}/{host}" for each in ends.public)]
    text = INTENT.replace("SPEAKS", speaks).replace("INSIDE", f'"{ends.own[0]}/{inside}"')
    return text.replace("OUTSIDE", ", ".join(f'"{each}"' for each in more)).replace("GATEWAY", ends.gateway).replace(
        "to: default", "to: default" if family == 4 else 'to: "::/0"')  # fmt: skip


# Who sees what has come to the device itself, behind all that may drop it.
WATCH = """
table inet watched {
    set seen { typeof meta l4proto . th sport; size 65535; flags dynamic; }
    chain behind {
        type filter hook input priority 2000; policy accept;
        meta l4proto { tcp, udp } add @seen { meta l4proto . th sport }
    }
}
"""


class Said(NamedTuple):
    """As what a packet comes out, if it does, and what of it is chosen of several; or that the device gets it."""

    header: Header | None = None
    sources: AddressSet | None = None
    destinations: AddressSet | None = None
    ports: Spans | None = None
    itself: bool = False


class Tried(NamedTuple):
    """What came of packets through one ruleset: how many were decided, and what the kernel did otherwise."""

    decided: int
    passed: int
    wrong: list[str]


def packets(text: str, count: int, chance: Random, first: int, family: int = 4) -> list[tuple[str, Header]]:
    """Packets near what a ruleset is about, each with a source port that tells it from all others.

    For half of them a line of the ruleset is chosen, and what it says of ends and ports is taken where that fits.
    """
    every, lines, net, found = _ports(text), text.splitlines(), ENDS[family], list[tuple[str, Header]]()
    for number in range(first, first + count):
        line = chance.choice(lines) if chance.random() < 0.5 else ""
        side = chance.choice(["in0", "out0"])
        far = [*net.hosts["out0"], *net.own] if side == "in0" else [*net.hosts["in0"], *net.public, *net.own]
        ends = [[each for each in some if re.search(rf"(?<![\w.:]){each}(?![\w.:])", line)] or some
                for some in (net.hosts[side], far)]  # fmt: skip
        named = [each for each in ("tcp", "udp", "icmp") if each in line] or ["tcp", "tcp", "udp", "udp", "icmp"]
        protocol = chance.choice(named)
        port = (8 if family == 4 else 128) if protocol == "icmp" else chance.choice(_ports(line) if line else every)
        protocol = "icmp6" if protocol == "icmp" and family == 6 else protocol
        source, destination = (Address.parse(chance.choice(some)) for some in ends)
        found.append(
            (side, Header(source, destination, protocol, port, None if protocol.startswith("icmp") else number))
        )
    return found


def _ports(text: str) -> list[int]:
    """The numbers in a text that can be ports, and those beside them."""
    numbers = {int(each) for each in re.findall(r"(?<![\d.])\d{1,5}(?![\d.])", text) if 0 < int(each) < 65535}
    return sorted({near for each in numbers for near in (each - 1, each, each, each + 1) if near > 0} | {80, 443})


def device_of(speaks: str, family: int = 4) -> Device:
    """The router that the rulesets are loaded into."""
    return loads(intent_of(speaks, family)).devices[0]


def told(
    device: Device, speaks: str, text: str, sent: Sequence[tuple[str, Header]], assume: Sequence[Assumption] = ()
) -> list[Said | str]:
    """What is said of each packet, or why that is not decided."""
    read = assuming(read_device("edge", (speaks,), {"rules": text}), assume, BUILT_IN)
    network, found = Network("", (replace(device, speaks=("iproute2", speaks)),)), list[Said | str]()
    for side, header in sent:
        beside = followed_beside(network, {"edge": read}, Sent(header, "edge", side))
        if not beside.decided:
            found.append(next(iter(beside.unless), beside.captured.reason))
        else:
            last = beside.captured.visits[-1]
            pools = {each.stage: each.pool for each in last.stages if each.pool}
            ports = next((each.ports for each in last.stages if each.ports), None)
            out = beside.captured.arrives and last.leaves
            itself = beside.captured.end == "local"
            chosen = pools.get("departure"), pools.get("arrival"), ports
            found.append(Said(last.after, *chosen) if out else Said(itself=itself))
    return found


def differs(said: Said, came: Header | None) -> bool:
    """Tell whether a packet came out otherwise than it was said; of a pool any address may be taken."""
    header = said.header
    if header is None or came is None:
        return header is not came
    sources, destinations = (
        said.sources or AddressSet.of(header.source),
        said.destinations or AddressSet.of(header.destination),
    )
    if came.source not in sources or came.destination not in destinations or header.protocol != came.protocol:
        return True
    if said.ports is not None and came.port is not None:
        return not meet(said.ports, ((came.port, came.port),))
    return header.port != came.port


def try_out(
    rulesets: Mapping[str, str], count: int, seed: int = 0, assume: Sequence[Assumption] = ()
) -> dict[str, Tried]:
    """Load rulesets one after another into a router between two hosts, and send packets through each.

    Args:
        rulesets: Their texts, by names that end in `.nft` or `.save`.
        count: How many packets.
        seed: For the choice of packets.
        assume: What is taken for granted of them.
    """

    results: dict[str, Tried] = {}
    number = 1024
    for family in (4, 6):
        chosen = {name: rules for name, rules in rulesets.items() if family_of(name) == family}
        if chosen:
            results |= _tried(chosen, count, Random(seed), number, family, assume)
            number += count * len(chosen)
    return results


def _tried(
    rulesets: Mapping[str, str], count: int, chance: Random, number: int, family: int, assume: Sequence[Assumption]
) -> dict[str, Tried]:
    from machines import Machine
    from test_real import Wire

    results: dict[str, Tried] = {}
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply([each for each in render_device(device_of("nftables", family)) if each.dialect == "iproute2"])
        wire.route()
        _connect(machine, inside, outside, wire, family)
        for name, rules in rulesets.items():
            speaks, load, listing = PROGRAMS[name.rpartition(".")[2]]
            sent = packets(rules, count, chance, number, family)
            number += count
            machine.inside("nft", "flush", "ruleset")
            (machine.folder / "rules").write_text(rules)
            machine.inside(*load, str(machine.folder / "rules"))
            machine.inside("nft", "-f", "-", input=WATCH)
            came = wire.flows([(side, replace(each, source_port=each.source_port or at)) for at, (side, each) in
                               enumerate(sent, number - count)])  # fmt: skip
            seen = machine.inside("nft", "list", "set", "inet", "watched", "seen")
            machine.inside("nft", "delete", "table", "inet", "watched")
            gets = {int(each) for each in re.findall(r"(?:tcp|udp) \. (\d+)", seen)}
            text = machine.inside(*listing)
            results[name] = judged(device_of(speaks, family), speaks, text, sent, (came, gets), number - count, assume)
    return results


def _connect(machine: Any, inside: Any, outside: Any, wire: Any, family: int) -> None:
    """Give the hosts their addresses and ways; with IPv6 everybody knows his neighbours, whatever rules drop."""
    if family == 4:
        for address in ("10.40.10.10/24", "10.40.10.11/24"):
            inside.inside("ip", "address", "add", address, "dev", "eth0")
        outside.inside("ip", "route", "add", "default", "via", "203.0.113.2")
        return
    machine.settle()
    machine.inside("sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
    net = ENDS[6]
    for side, host, gateway in (("in0", inside, net.own[0]), ("out0", outside, net.own[1])):
        for address in net.hosts[side]:
            host.inside("ip", "address", "add", f"{address}/64", "dev", "eth0", "nodad")
            wire.neighbour(machine, side, Address.parse(address), host, "eth0")
        host.inside("ip", "-6", "route", "add", "default", "via", gateway, "dev", "eth0", "onlink")
        for address in (gateway, *(net.public if side == "out0" else ())):
            wire.neighbour(host, "eth0", Address.parse(address), machine, side)


def judged(
    device: Device, speaks: str, text: str, sent: Sequence[tuple[str, Header]],
    seen: tuple[dict[int, tuple[str, Header]], set[int]], first: int, assume: Sequence[Assumption] = (),
) -> Tried:  # fmt: skip
    """Hold what came out, and what the device itself got, against what was said of it."""
    decided, passed, wrong = 0, 0, []
    for at, ((side, header), said) in enumerate(
        zip(sent, told(device, speaks, text, sent, assume), strict=True), first
    ):
        came = seen[0][at][1] if at in seen[0] else None
        passed += came is not None
        if isinstance(said, str):
            continue
        decided += 1
        gets = at in seen[1]
        if differs(said, came) or (header.source_port is not None and said.itself != gets):
            wrong.append(f"{side} {header}: said {said}, came {came}{', to the device itself' * gets}")
    return Tried(decided, passed, wrong)


def taken(name: str, text: str) -> bool:
    """Whether the program that a name is of takes a ruleset."""
    look = (
        ["nft", "-c", "-f", "-"] if PROGRAMS[name.rpartition(".")[2]][0] == "nftables" else ["iptables-restore", "-t"]
    )
    return not subprocess.run(look, input=text, capture_output=True, text=True).returncode


if __name__ == "__main__":
    size, faults = int(sys.argv[1]), 0
    for kind, made in (("nft", mixed), ("save", mixed_save)):
        RULESETS |= {
            name: text for seed in range(size // 20) if taken(name := f"mixed-{seed}.{kind}", text := made(seed))
        }
    for chosen, ruleset in RULESETS.items():
        if sys.argv[2:] and not {chosen, chosen.rpartition(".")[0]} & {*sys.argv[2:]}:
            continue
        [result] = try_out({chosen: ruleset}, size).values()
        print(f"{chosen}: {result.decided} of {size} decided, {result.passed} came out, {len(result.wrong)} wrong")
        print(*result.wrong[:4], sep="\n", end="\n" if result.wrong else "")
        faults += len(result.wrong)
    sys.exit(bool(faults))
