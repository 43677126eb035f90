"""Reading and rendering, each as a ratio against a named peer in the same run.

    .venv/bin/python benchmarks/speed.py [objects]

Reading, as a library call that returns the device, against the whole process of the real
program that checks the same text (`nft -c -f`, `vtysh -C -f`; both need root). Rendering, as
a library call, against a plain hand-written Jinja2 template that prints the same text from
the same objects. Start-up of `lattice --help` against a bare `python -c pass`. CPU time of
this process and its children, the median of several runs taken in turn.
"""

from __future__ import annotations

import functools
import gc
import json
import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from jinja2 import Environment
from msgspec.structs import replace

from agile_lattice.dialects import read_device, render_device
from agile_lattice.intent.addresses import Address, AddressSet, Prefix, spell_range, spell_span
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import Service, spell_ports
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Dynamic, Exempt, Publish, Translation
from by_hand import routes_by_line
from figures import keep

RUNS = 21


def routes(count: int) -> Device:
    """Static routes of every sort, mixed."""
    made: list[Route] = []
    for n in range(count):
        to = Prefix(4, 0x0A000000 + (n << 8), 24)
        via = Address(4, 0xC0000201 + n % 200)
        match n % 10:
            case 0:
                made.append(Route(to, discard="blackhole", distance=250))
            case 1:
                made.append(Route(to, via, "lan0"))
            case 2:
                made.append(Route(to, interface="lan0", distance=5))
            case 3:
                six = Prefix(6, (0x20010DB8 << 96) + (n << 64), 64)
                made.append(Route(six, Address(6, (0x20010DB8 << 96) + 1)))
            case _:
                made.append(Route(to, via))
    lan = Interface("lan0", (Prefix(4, 0xC0000201, 24),))
    return Device("quay", ("frr",), (lan,), tuple(made))


def rules(count: int) -> Device:
    """Translations of every sort, mixed."""
    made: list[Translation] = []
    for n in range(count):
        inside = AddressSet(4, ((0x0A280000 + n * 4, 0x0A280000 + n * 4 + 3),))
        outside = Address(4, 0xC6336400 + n % 256)
        name = f"rule-{n}"
        match n % 5:
            case 0:
                made.append(Exempt(name, ("lan0",), ("lan1",), inside))
            case 1:
                made.append(Dynamic(name, ("lan0",), ("wan0",), inside, pool=AddressSet.of(outside)))
            case 2:
                made.append(Dynamic(name, None, ("wan0",), inside))
            case 3:
                ports = (Service("tcp", ((1024 + n, 1024 + n),)),)
                made.append(Publish(AddressSet.of(outside), Address(4, 0x0A280000 + n), name, ("wan0",), None, ports))
            case _:
                ports = (Service("tcp", ((443, 443), (1024 + n, 1024 + n))),)
                made.append(Publish(AddressSet.of(outside), Address(4, 0x0A280000 + n), name, ("wan0",), None, ports))
    return Device("quay", ("nftables",), (), (), tuple(made))


FRR = """\
{% for r in routes -%}
{{ 'ip' if r.to.family == 4 else 'ipv6' }} route {{ r.to|text }} {% if r.discard -%}
{{ words[r.discard] }}{% elif r.via %}{{ r.via|text }}{% if r.interface %} {{ r.interface }}{% endif -%}
{% else %}{{ r.interface }}{% endif %}{% if r.distance != 1 %} {{ r.distance }}{% endif %}
{% endfor %}"""

NFT_RULES = """\
{% for r in rules if r.stage == stage -%}
{{ '\\t\\t' -}}
{% if r.arrives %}iifname {% if r.arrives|length == 1 %}"{{ r.arrives[0] }}"{% else %}{ "{{ r.arrives|join('", "') }}" }\
{% endif %} {% endif -%}
{% if r.leaves %}oifname {% if r.leaves|length == 1 %}"{{ r.leaves[0] }}"{% else %}{ "{{ r.leaves|join('", "') }}" }\
{% endif %} {% endif -%}
{% if r.source %}ip saddr {% if r.source.spans|length == 1 %}{{ r.source.spans[0]|span }}{% else -%}
{ {{ r.source.spans|map('span')|join(', ') }} }{% endif %} {% endif -%}
{% if r.destination %}ip daddr {% if r.destination.spans|length == 1 %}{{ r.destination.spans[0]|span }}{% else -%}
{ {{ r.destination.spans|map('span')|join(', ') }} }{% endif %} {% endif -%}
{% if r.ports %}{{ r.protocol }} dport {% if r.ports|length == 1 %}{{ r.ports[0]|ports }}{% else -%}
{ {{ r.ports|map('ports')|join(', ') }} }{% endif %} {% elif r.protocol %}meta l4proto {{ r.protocol }} {% endif -%}
counter {% if r.verdict == 'keep' %}accept{% elif r.verdict == 'egress' %}masquerade{% elif stage == 'arrival' -%}
dnat to {{ r.to.spans[0]|span }}{% if r.to_port %}:{{ r.to_port }}{% endif %}{% else -%}
snat to {{ r.to.spans[0]|range }}{% endif %}{% if r.name %} comment "{{ r.name }}"{% endif %}
{% endfor %}"""
NFT = f"""\
table ip lattice
delete table ip lattice
table ip6 lattice
delete table ip6 lattice
table inet lattice
delete table inet lattice
table ip lattice {{
	chain arrival {{
		type nat hook prerouting priority dstnat
{{% set stage = 'arrival' %}}{NFT_RULES}	}}
	chain departure {{
		type nat hook postrouting priority srcnat
{{% set stage = 'departure' %}}{NFT_RULES}	}}
}}
"""


def template(text: str) -> Callable[[Device], str]:
    """Return a hand-written renderer."""
    environment = Environment(keep_trailing_newline=True, autoescape=False)
    environment.filters |= {
        "text": str,
        "span": lambda span: spell_span(4, span),
        "range": lambda span: spell_range(4, span),
        "ports": spell_ports,
    }
    compiled = environment.from_string(text)
    words = {"blackhole": "blackhole", "unreachable": "reject"}
    return lambda device: compiled.render(routes=device.routes, rules=split(device.translations), words=words)


def children() -> float:
    """Return the CPU seconds of all processes that this one has run and seen end."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def forget() -> None:
    """Empty every cache of values, so that no run gains from the one before."""
    for each in gc.get_objects():
        if isinstance(each, functools._lru_cache_wrapper):
            each.cache_clear()


def cpu(call: Callable[[], object]) -> float:
    """Return the CPU seconds of a call, with those of the processes that it runs."""
    forget()
    before = time.process_time() + children()
    call()
    return time.process_time() + children() - before


def row(what: str, peer_name: str, ours: Callable[[], object], peer: Callable[[], object]) -> None:
    """Keep the medians of further calls, taken in turn, and the ratio of both; and what the first call took."""
    first = cpu(ours)
    cpu(peer)
    pairs = [(cpu(ours), cpu(peer)) for _ in range(RUNS)]
    keep_row(what, peer_name, pairs, first)


def keep_row(what: str, peer_name: str, pairs: Sequence[tuple[float, float]], first: float | None = None) -> None:
    mine, theirs = (statistics.median(column) * 1000 for column in zip(*pairs, strict=True))
    ratio = statistics.median(one / max(other, 1e-9) for one, other in pairs)
    cells = {"what": what, "peer": peer_name, "first call, ms": f"{first * 1000:.0f}" if first is not None else ""}
    keep(
        "speed",
        {**cells, "ours, ms": f"{mine:.0f}", "peer's, ms": f"{theirs:.0f}", "ratio": f"{ratio:.2f}"},
        named_by=2,
    )


def program(*command: str) -> Callable[[], object]:
    return lambda: subprocess.run(command, check=True, capture_output=True)


def wall(command: list[str]) -> float:
    before = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - before


def measure(device: Device, hand: Callable[[Device], str], folder: Path, *check: str) -> None:
    """Print a row for reading and one for rendering, once both sides are seen to do the same."""
    [text] = render_device(device)
    body = text.text.partition("exit\n!\n")[2] if text.dialect == "frr" else text.text
    assert hand(device) == body, "the template must print the same text"
    capture = read_device("quay", device.speaks, {"text": text.text})
    assert normal(capture.device).routes == normal(device).routes
    assert normal(capture.device).translations == normal(device).translations
    path = folder / text.file
    path.write_text(text.text)
    path.chmod(0o644)
    if shutil.which(check[0]) and os.geteuid() == 0:
        read = lambda: read_device("quay", device.speaks, {"text": text.text})  # noqa: E731
        row(f"read {text.dialect}", f"`{' '.join(check[:2])}`, whole process", read, program(*check, str(path)))
    row(f"render {text.dialect}", "Jinja2 template", lambda: render_device(device), lambda: hand(device))


def measure_reading(device: Device, folder: Path, *check: str) -> None:
    """Print a row for reading a dialect that no template was written for."""
    text = next(each for each in render_device(device) if each.dialect == device.speaks[0])
    path = folder / "etc/netplan" / text.file if check[0] == "netplan" else folder / text.file
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text.text)
    path.chmod(0o600)
    command = [each.format(path=path, folder=folder) for each in check]
    capture = read_device("quay", device.speaks, {text.file: text.text})
    assert not capture.leftovers
    assert len(capture.device.routes) + len(capture.device.translations) >= len(device.routes) // 2
    if shutil.which(check[0]) and os.geteuid() == 0:
        read = lambda: read_device("quay", device.speaks, {text.file: text.text})  # noqa: E731
        row(f"read {text.dialect}", f"`{' '.join(check[:2])}`, whole process", read, program(*command))


def plain_routes(count: int) -> Device:
    """Static routes by next hop, one for each destination, and the interface that they are behind."""
    near = Interface("lan0", (Prefix(4, 0xC0000201, 24),))
    made = [Route(Prefix(4, 0x0A000000 + (n << 8), 24), Address(4, 0xC0000202 + n % 200)) for n in range(count)]
    return Device("quay", (), (near,), tuple(made))


def plain_rules(count: int) -> Device:
    """Published services, one a rule, each with a name."""
    made = [
        Publish(AddressSet.of(Address(4, 0xCB007100 + n % 200)), Address(4, 0x0A000000 + n), f"web {n}", ("wan0",), None,
                (Service("tcp", ((1024 + n // 200, 1024 + n // 200),)),))
        for n in range(count)
    ]  # fmt: skip
    return Device("quay", ("iptables",), translations=tuple(made))


def yanglint() -> list[str]:
    """Return how yanglint is told to check a configuration against the modules that pyang brings."""
    modules = Path(sys.prefix) / "share" / "yang" / "modules"
    names = ("ietf-interfaces", "iana-if-type", "ietf-ip", "ietf-routing", "ietf-ipv4-unicast-routing",
             "ietf-ipv6-unicast-routing")  # fmt: skip
    found = [str(next(modules.rglob(f"{name}.yang"))) for name in names]
    return ["yanglint", "-p", str(modules / "ietf"), "-p", str(modules / "iana"), "-t", "config", *found]


def measure_layouts(count: int) -> None:
    """Print a row for each layout of the routes that `ip -json route` prints, against all of them on one line."""
    found = [
        {"dst": f"10.{n >> 8}.{n % 256}.0/24", "gateway": f"192.0.2.{n % 250 + 1}", "dev": "lan0", "protocol": "static",
         "metric": 20, "flags": []}
        for n in range(count)
    ]  # fmt: skip
    lines = "[" + ",\n".join(map(json.dumps, found)) + "]\n"
    layouts = {"an entry a line": lines, "indented": json.dumps(found, indent=4)}
    read = lambda text: read_device("quay", ("iproute2",), {"routes.json": text})  # noqa: E731
    assert len(read(lines).device.routes) == count
    for name, text in layouts.items():
        row(
            f"read `ip -json route`, {name}",
            "all on one line",
            lambda text=text: read(text),
            lambda: read(json.dumps(found)),
        )


def measure_by_hand(device: Device, peer: str, by_hand: Callable[[str], Sequence[Route]]) -> None:
    """Print a row for reading, against a reader for this one syntax, once both are seen to read the same."""
    [text] = render_device(device)
    read = lambda: read_device("quay", device.speaks, {"text": text.text})  # noqa: E731
    assert (*by_hand(text.text),) == read().device.routes
    row(f"read {text.dialect}", peer, read, lambda: by_hand(text.text))


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    gc.disable()  # as the command line does
    print(f"{count} objects; CPU ms, medians of {RUNS}\n")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)  # vtysh reads as somebody else
        measure(routes(count), template(FRR), folder, "vtysh", "-C", "--inputfile")
        measure(rules(count), template(NFT), folder, "nft", "-c", "-f")
        with_routes = plain_routes(count)
        measure_reading(replace(with_routes, speaks=("bird", "iproute2")), folder, "bird", "-p", "-c", "{path}")
        measure_reading(
            replace(with_routes, speaks=("netplan",)), folder, "netplan", "generate", "--root-dir", "{folder}"
        )
        measure_reading(plain_rules(count), folder, "iptables-restore", "--test", "{path}")
        measure_reading(replace(with_routes, speaks=("ietf-yang",)), folder, *yanglint(), "{path}")
        measure_by_hand(routes(count), "a regular expression by hand", routes_by_line)
        measure_layouts(count)
    lattice = str(Path(sys.executable).with_name("lattice"))
    pairs = [(wall([lattice, "--help"]), wall([sys.executable, "-c", "pass"])) for _ in range(4 * RUNS)][1:]
    keep_row("`lattice --help`, wall", "`python -c pass`", pairs)


if __name__ == "__main__":
    main()
