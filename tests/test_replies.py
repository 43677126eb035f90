"""Replies: whoever is said to get one gets it on a kernel, and nobody else does."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from random import Random
from typing import NamedTuple

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.flow_parsing import Sent, packet_of
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import walk
from agile_lattice.cli.main import main
from agile_lattice.compare.beside import followed_beside
from agile_lattice.dialects import read_device
from machines import Machine, present, run
from test_real import HERE
from where import examples

SEA, WEB, DESK = "192.0.2.9", "10.40.10.7", "10.40.10.9"
# What somebody added to a router, and what it does to packets that are new, or to replies.
ADDED = (
    "chain f { type filter hook forward priority -5; ct state established drop; }",
    "chain f { type filter hook forward priority 5; iifname lan0 ct state established tcp sport 443 drop; }",
    "chain f { type filter hook forward priority 5; policy drop; ct state new accept; ct status dnat accept; }",
    "chain f { type filter hook forward priority 5; policy drop; ct state established,new accept; }",
    "chain f { type filter hook forward priority 5; ct original ip daddr 203.0.113.5 ct state established drop; }",
    "chain f { type filter hook forward priority 5; ip saddr 10.40.10.7 tcp flags & (syn | ack) == syn | ack drop; }",
    "chain p { type filter hook prerouting priority -150; ip daddr 203.0.113.2 ct state established drop; }",
    "chain p { type filter hook prerouting priority 0; ip daddr 10.40.10.9 ct state established drop; }",
    "chain p { type filter hook postrouting priority 50; ip saddr 10.40.10.7 drop; }",
    "chain p { type filter hook postrouting priority 150; ip saddr 10.40.10.7 drop; }",
    "chain m { type filter hook forward priority -20; ct state new ct mark set 7; }\n"
    "chain f { type filter hook forward priority 5; ct state established ct mark 7 drop; }",
    "chain o { type filter hook output priority 0; tcp sport 443 drop; }",
    "chain f { type filter hook forward priority 5; policy drop; ct state vmap { established: accept, new: accept }; }",
)
LOOSE = ("rp_filter", "send_redirects")  # a redirect would change who takes a host's packets meanwhile
EDGES = {"quay": ("10.40.10.1", "203.0.113", "dock"), "dock": ("10.40.10.2", "198.51.100", "quay")}


def random_site(random: Random) -> str:
    """Return an intent of two routers on one link, each with an uplink, in which the way back is often a wrong one."""
    devices = []
    for name, (inside, block, other) in EDGES.items():
        way = random.choice([f"{block}.1", f"{block}.1", EDGES[other][0]])
        published = random.choice(["", ", facing: outside", ", hairpin: inside, facing: outside"])
        translations = [f"{{name: web, publish: {block}.5, service: [tcp/443, udp/443], on: web{published}}}"]
        if random.random() < 0.3:
            translations.append("{name: visitors, from: outside, to: inside, source-becomes: interface}")
        if random.random() < 0.3:
            translations.append(f"{{name: as-it-is, exempt: true, from: inside, to: outside, source: {DESK}}}")
        if random.random() < 0.3:
            translations.append("{name: all, source: 10.40.10.0/24, source-becomes: interface}")
        if random.random() < 0.8:
            translations.append("{name: out, from: inside, to: outside, source-becomes: interface}")
        permits = ""
        if random.random() < 0.4:
            permits = "\n    permits: [{derive: translations}, {from: inside, to: outside}]"
        devices.append(
            f"  {name}:\n    speaks: [iproute2, nftables]\n    interfaces:\n"
            f"      lan0: {{zone: inside, address: {inside}/24}}\n"
            f"      out0: {{zone: outside, address: {block}.2/28, block: {name}-isp}}\n"
            f"    routes: [{{to: default, via: {way}}}]\n"
            f"    translations: [{', '.join(translations)}]{permits}\n"
        )
    hosts = [
        f"    {name}: {{address: {address}/24, gateway: {random.choice(list(EDGES.values()))[0]}}}\n"
        for name, address in (("web", WEB), ("desk", DESK))
    ]
    blocks = "".join(
        f"  {name}-isp: {{prefix: {block}.0/28, gateway: {block}.1}}\n" for name, (_, block, _) in EDGES.items()
    )
    return (
        "lattice: 1\nzones: {inside: {exposure: own}, outside: {exposure: public}}\n"
        f"blocks:\n{blocks}names:\n  hosts:\n{''.join(hosts)}devices:\n{''.join(devices)}"
    )


class Attempt(NamedTuple):
    """A connection that somebody tries to make."""

    sender: str
    source: str
    destination: str
    at: str  # where that comes in, if it does
    protocol: str


def attempts(network: al.Network) -> Iterator[Attempt]:
    """Yield connections from everywhere to everywhere."""
    gateways = {host.name: str(host.gateway) for host in network.hosts}
    by_address = {inside: name for name, (inside, _, _) in EDGES.items()}
    for protocol in ("tcp", "udp"):
        for name, (inside, block, _) in EDGES.items():
            yield Attempt("sea", SEA, f"{block}.5", f"{name}:out0", protocol)
            yield Attempt("desk", DESK, f"{block}.5", f"{by_address[gateways['desk']]}:lan0", protocol)
            for own in (inside, f"{block}.2"):
                yield Attempt(name, own, SEA, "", protocol)
                yield Attempt(name, own, WEB, "", protocol)
        for host, address in (("desk", DESK), ("web", WEB)):
            yield Attempt(host, address, SEA, f"{by_address[gateways[host]]}:lan0", protocol)


class Site:
    """Two routers and two hosts on one link, and the world outside, which drops what no provider takes (RFC 2827)."""

    def __init__(self, network: al.Network, machines: dict[str, Machine]) -> None:
        self.machines = machines
        switch = machines["switch"].space
        run("ip", "-n", switch, "link", "add", "lan", "type", "bridge")
        run("ip", "-n", switch, "link", "set", "lan", "up")
        for name in ("quay", "dock", "web", "desk"):
            machines[name].cable("lan0", switch, name)
            run("ip", "-n", switch, "link", "set", name, "master", "lan")
        for name, (_, block, _) in EDGES.items():
            machines[name].cable("out0", machines["sea"].space, name)
            run("ip", "-n", machines["sea"].space, "address", "add", f"{block}.1/28", "dev", name)
            machines[name].inside(
                "sysctl", "-qw", "net.ipv4.ip_forward=1",
                *(f"net.ipv4.conf.{one}.{key}=0" for one in ("all", "lan0", "out0") for key in LOOSE),
            )  # fmt: skip
            machines[name].apply(al.render(network.device(name)))
        run("ip", "-n", machines["sea"].space, "address", "add", f"{SEA}/32", "dev", "lo")
        machines["sea"].inside(
            "sysctl", "-qw", "net.ipv4.ip_forward=1", *(f"net.ipv4.conf.{each}.rp_filter=1" for each in ("all", *EDGES))
        )
        for host in network.hosts:
            space = machines[host.name].space
            run("ip", "-n", space, "link", "set", "lan0", "up")
            run("ip", "-n", space, "address", "add", str(host.address), "dev", "lan0")
            run("ip", "-n", space, "route", "add", "default", "via", str(host.gateway))

    def answered(self, tried: list[Attempt]) -> list[bool]:
        """Try to connect, all at once; return which connections were made."""
        peer = [sys.executable, str(HERE / "peer.py")]
        listening = [
            subprocess.Popen(
                ["ip", "netns", "exec", self.machines[name].space, *peer, "listen", "443"],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            )
            for name in ("web", "sea", *EDGES)
        ]  # fmt: skip
        for each in listening:
            assert each.stdout is not None and each.stdout.readline() == "listening\n"
        trying = {}
        for name in dict.fromkeys(each.sender for each in tried):
            own = [at for at, each in enumerate(tried) if each.sender == name]
            words = [
                word for at in own for word in (tried[at].protocol, tried[at].source, tried[at].destination, "443")
            ]
            command = ["ip", "netns", "exec", self.machines[name].space, *peer, "attempt", *words]
            trying[name] = own, subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        made = {own[int(line)] for own, started in trying.values() for line in started.communicate()[0].split()}
        for each in listening:
            each.communicate()
        return [at in made for at in range(len(tried))]


UPLINKS = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
blocks: {sea: {prefix: 203.0.113.0/28, gateway: 203.0.113.1}, bay: {prefix: 198.51.100.0/28, gateway: 198.51.100.1}}
devices:
  edge:
    speaks: [iproute2, nftables]
    interfaces:
      in0: {zone: inside, address: 10.40.10.1/24}
      out0: {zone: outside, address: 203.0.113.2/28, block: sea}
      out1: {zone: outside, address: 198.51.100.2/28, block: bay}
    routes: [{to: default, via: 198.51.100.1}]
    translations:
      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7}
      - {name: bare, exempt: true, from: inside, to: outside, source: 10.40.10.9}
      - {name: wrong, from: inside, to: outside, source: 10.40.10.10, source-becomes: {pool: 203.0.113.6}}
      - {name: rest, from: inside, to: outside, source-becomes: interface}
"""


@pytest.mark.parametrize(
    ("words", "obstacle"),
    [
        (
            "10.40.10.8 203.0.113.5 tcp/443",
            "directly on in0 from 10.40.10.7 port 443, and the sender wrote to 203.0.113.5",
        ),
        (
            "192.0.2.9 203.0.113.5 tcp/443 --at edge:out0",
            "of a block whose provider is behind edge out0, and it leaves by out1",
        ),
        ("192.0.2.9 198.51.100.2 tcp/22 --at edge:out1", ""),
        ("10.40.10.9 192.0.2.9 tcp/443", "its source 10.40.10.9 is private"),
        ("10.40.10.10 192.0.2.9 tcp/443", "its source 203.0.113.6 is of a block whose provider is behind edge out0"),
        ("10.40.10.8 10.77.0.1 tcp/443", "10.77.0.1 is private"),
        ("10.40.10.8 192.0.2.9 udp/53", ""),
        ("10.40.10.8 192.0.2.9 icmp/destination-unreachable", ""),
        ("198.51.100.2 192.0.2.9 udp/123", ""),
        ("10.40.10.1 192.0.2.9 udp/123", "its source 10.40.10.1 is private"),
    ],
)
def test_a_lost_reply_is_told_and_ends_with_one(
    words: str, obstacle: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "edge.yaml").write_text(UPLINKS)
    code = main(["walk", str(tmp_path / "edge.yaml"), *words.split(), "--format", "json"])
    found = json.loads(capsys.readouterr().out)
    assert code == bool(obstacle) and obstacle in found["obstacle"], found["obstacle"]
    assert (found["answer"] is None) == (bool(obstacle) or "unreachable" in words)


BY_ANOTHER = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
names: {hosts: {web: {address: 10.40.10.7/24, gateway: 10.40.10.2}}}
devices:
  quay:
    speaks: [mooring]
    interfaces:
      lan0: {zone: inside, address: 10.40.10.1/24}
      out0: {zone: outside, address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}]
    translations: [{name: web, publish: 203.0.113.5, service: tcp/443, on: web, facing: outside}]
  dock:
    speaks: [mooring]
    interfaces: {lan0: {zone: inside, address: 10.40.10.2/24}}
    routes: [{to: default, via: 10.40.10.1}]
"""


@pytest.mark.parametrize(
    ("device", "old", "new", "code", "says"),
    [
        ("quay", "", "", 0, "the same on both"),
        (
            "quay",
            "  (answers-for 203.0.113.5/32)",
            "  ",
            1,
            "otherwise: delivered to 10.40.10.7 on lan0, as the intent says;",
        ),
        ("dock", "", "(ballast 7)", 1, "not certain: not understood is"),
        ("dock", "(next 10.40.10.1)", "(sunk)", 1, "dock discards packets to 0.0.0.0/0, as captured"),
    ],
)
def test_what_only_the_reply_comes_to_is_looked_at_too(
    device: str, old: str, new: str, code: int, says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    intent, chart = tmp_path / "site.yaml", tmp_path / "out" / device / "mooring.chart"
    intent.write_text(BY_ANOTHER)
    assert main(["render", str(intent), "--into", str(tmp_path / "out")]) == 0
    text = chart.read_text()
    assert old in text
    chart.write_text(text.replace(old, new) if old else text + new)
    capsys.readouterr()
    words = ["192.0.2.9", "203.0.113.5", "tcp/443", "--at", "quay:out0"]
    assert main(["walk", str(intent), *words, "--captured", str(tmp_path / "out")]) == code
    assert says in " ".join(capsys.readouterr().out.split())


KERNEL = pytest.mark.skipif(not present("ip", "nft"), reason="needs root, iproute2 and nftables")
NAMES = ("switch", "quay", "dock", "web", "desk", "sea")


def packets(network: al.Network, tried: list[Attempt]) -> Iterator[Sent]:
    """Yield the first packet of each connection."""
    for each in tried:
        words = each.source, each.destination, f"{each.protocol}/443"
        sent = packet_of(network, words, each.at or None)
        yield replace(sent, header=replace(sent.header, source_port=50000))


@pytest.mark.real
@KERNEL
@pytest.mark.parametrize("seed", range(examples(8)))
def test_a_kernel_gets_the_replies_that_are_told(seed: int) -> None:
    text = random_site(Random(seed))
    network = al.loads(text)
    topology, tried = Topology(network), list(attempts(network))
    with ExitStack() as stack:
        site = Site(network, {name: stack.enter_context(Machine(name)) for name in NAMES})
        came = site.answered(tried)
    for words, sent, answered in zip(tried, packets(network, tried), came, strict=True):
        found = walk(topology, sent.header, sent.device, sent.arrives)
        assert found.succeeds == answered, f"{words}: {found.outcome}; {found.obstacle or found.answer}\n{text}"


@pytest.mark.real
@KERNEL
@pytest.mark.parametrize("seed", range(examples(8)))
def test_a_kernel_gets_the_replies_that_rulesets_of_others_let_pass(seed: int) -> None:
    random = Random(seed)
    text = random_site(random)
    network = al.loads(text)
    tried = list(attempts(network))
    added = {name: random.choice(ADDED) for name in EDGES}
    with ExitStack() as stack:
        machines = {name: stack.enter_context(Machine(name)) for name in NAMES}
        site = Site(network, machines)
        for name, rules in added.items():
            machines[name].load("nftables", "added.nft", f"table ip added {{\n{rules}\n}}\n")
        captures = {
            name: read_device(name, ("iproute2", "nftables"), machines[name].capture(["iproute2", "nftables"]))
            for name in EDGES
        }
        came = site.answered(tried)
    for words, sent, answered in zip(tried, packets(network, tried), came, strict=True):
        found = followed_beside(network, captures, sent)
        assert found.decided, f"{words}: {found.captured.outcome}; {found.unless}\n{added}\n{text}"
        why = found.captured.obstacle or found.captured.answer
        assert found.captured.succeeds == answered, f"{words}: {found.captured.outcome}; {why}\n{added}\n{text}"
