"""Replies: whoever is said to get one gets it on a kernel, and nobody else does."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from random import Random

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.flow_parsing import packet_of
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import walk
from machines import Machine, present, run
from test_real import HERE
from where import examples

SEA, WEB, DESK = "192.0.2.9", "10.40.10.7", "10.40.10.9"
EDGES = {"quay": ("10.40.10.1", "203.0.113", "dock"), "dock": ("10.40.10.2", "198.51.100", "quay")}


def random_site(random: Random) -> str:
    """Return an intent of two routers on one link, each with an uplink, in which the way back is often a wrong one."""
    devices = []
    for name, (inside, block, other) in EDGES.items():
        way = random.choice([f"{block}.1", f"{block}.1", EDGES[other][0]])
        published = random.choice(["", ", facing: outside", ", hairpin: inside, facing: outside"])
        translations = [f"{{name: web, publish: {block}.5, service: tcp/443, on: web{published}}}"]
        if random.random() < 0.3:
            translations.append("{name: visitors, from: outside, to: inside, source-becomes: interface}")
        if random.random() < 0.3:
            translations.append(f"{{name: as-it-is, exempt: true, from: inside, to: outside, source: {DESK}}}")
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
    blocks = "".join(f"  {name}-isp: {{prefix: {block}.0/28, gateway: {block}.1}}\n" for name, (_, block, _) in EDGES.items())
    return (
        "lattice: 1\nzones: {inside: {exposure: own}, outside: {exposure: public}}\n"
        f"blocks:\n{blocks}names:\n  hosts:\n{''.join(hosts)}devices:\n{''.join(devices)}"
    )


def attempts(network: al.Network) -> Iterator[tuple[str, str, str, str]]:
    """Yield connections: the sender, its address, whom it writes to, and where that comes in."""
    gateways = {host.name: str(host.gateway) for host in network.hosts}
    by_address = {inside: name for name, (inside, _, _) in EDGES.items()}
    for name, (_, block, _) in EDGES.items():
        yield "sea", SEA, f"{block}.5", f"{name}:out0"
        yield "desk", DESK, f"{block}.5", f"{by_address[gateways['desk']]}:lan0"
    for host, address in (("desk", DESK), ("web", WEB)):
        yield host, address, SEA, f"{by_address[gateways[host]]}:lan0"


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
                *(f"net.ipv4.conf.{one}.{key}=0" for one in ("all", "lan0", "out0") for key in ("rp_filter", "send_redirects")),
            )  # fmt: skip
            machines[name].apply(al.render(network.device(name)))
        run("ip", "-n", machines["sea"].space, "address", "add", f"{SEA}/32", "dev", "lo")
        machines["sea"].inside("sysctl", "-qw", "net.ipv4.ip_forward=1", *(f"net.ipv4.conf.{each}.rp_filter=1" for each in ("all", *EDGES)))
        for host in network.hosts:
            space = machines[host.name].space
            run("ip", "-n", space, "link", "set", "lan0", "up")
            run("ip", "-n", space, "address", "add", str(host.address), "dev", "lan0")
            run("ip", "-n", space, "route", "add", "default", "via", str(host.gateway))

    def answered(self, tried: list[tuple[str, str, str, str]]) -> list[bool]:
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
        for name in dict.fromkeys(each[0] for each in tried):
            ends = [(at, word) for at, each in enumerate(tried) if each[0] == name for word in (each[1], each[2], "443")]
            command = ["ip", "netns", "exec", self.machines[name].space, *peer, "attempt", *(word for _, word in ends)]
            started = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
            trying[name] = list(dict.fromkeys(at for at, _ in ends)), started
        made = {at[int(line)] for at, started in trying.values() for line in started.communicate()[0].split()}
        for each in listening:
            each.communicate()
        return [at in made for at in range(len(tried))]


@pytest.mark.real
@pytest.mark.skipif(not present("ip", "nft"), reason="needs root, iproute2 and nftables")
@pytest.mark.parametrize("seed", range(examples(8)))
def test_a_kernel_gets_the_replies_that_are_told(seed: int) -> None:
    text = random_site(Random(seed))
    network = al.loads(text)
    topology = Topology(network)
    tried = list(attempts(network))
    told = []
    for _, source, destination, at in tried:
        sent = packet_of(network, (source, destination, "tcp/443"), at)
        told.append(walk(topology, replace(sent.header, source_port=50000), sent.device, sent.arrives))
    with ExitStack() as stack:
        names = ("switch", "quay", "dock", "web", "desk", "sea")
        site = Site(network, {name: stack.enter_context(Machine(name)) for name in names})
        came = site.answered(tried)
    for words, found, answered in zip(tried, told, came, strict=True):
        assert found.succeeds == answered, f"{words}: {found.outcome}; {found.obstacle or found.answer}\n{text}"
