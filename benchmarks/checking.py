"""Loading and checking a large network: time, memory and growth.

    .venv/bin/python benchmarks/checking.py [devices ...]

Every device has 60 objects: 10 interfaces, 21 routes, 20 translations, 9 permits. They are sites
behind hubs, twenty to a hub, and the hubs behind one another. Each size runs in a process of
its own, on one core; the peer is PyYAML's C loader on the same files, values without lines.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import yaml

SITES_PER_HUB = 20
HEAD = """\
lattice: 1
network: coast
zones: {sea: {exposure: public}, own: {exposure: own}, halls: {exposure: shared}}
names: {services: {booking: [tcp/443, tcp/8443]}}
devices:
"""


def site(number: int) -> str:
    """Write one site: 60 objects."""
    hub, place = divmod(number, SITES_PER_HUB)
    high, low = 64 + hub, place * 8
    public = f"198.{18 + number // 16384}.{number // 64 % 256}.{number % 64 * 4}"
    block = public.rsplit(".", 1)
    wan, gateway = f"{block[0]}.{int(block[1]) + 2}", f"{block[0]}.{int(block[1]) + 1}"
    lines = [f"  site-{number}:", "    speaks: [iproute2, nftables]", "    interfaces:"]
    lines.append(f"      wan0: {{zone: sea, address: {wan}/30}}")
    lines.append(f"      hub0: {{zone: own, address: 10.{hub % 64}.{place}.1/31}}")
    for lan in range(7):
        zone = "halls" if lan == 6 else "own"
        lines.append(f"      lan{lan}: {{zone: {zone}, address: 10.{high}.{low + lan}.1/24}}")
    lines.append(f"      lo: {{loopback: 10.255.{number // 250}.{number % 250 + 1}/32}}")
    lines += ["    routes:", f"      - {{to: default, via: {gateway}}}"]
    lines.append(f"      - {{to: 10.0.0.0/8, via: 10.{hub % 64}.{place}.0}}")
    for n in range(18):
        lines.append(f"      - {{to: 172.{16 + n % 16}.{n}.0/24, via: 10.{high}.{low}.2}}")
    lines.append(f"      - {{to: 10.{high}.{low}.0/21, discard: true, distance: 250}}")
    lines.append("    translations:")
    for n in range(18):
        port = 8000 + n
        lines.append(
            f"      - {{name: shop-{n}, publish: {wan}, service: tcp/{port}, on: 10.{high}.{low + 6}.{n + 10},"
            f" internal-port: 8443, facing: sea}}"
        )
    lines.append("      - {name: halls-out, from: halls, to: sea, source-becomes: interface}")
    lines.append("      - {name: own-out, from: own, to: sea, source-becomes: interface}")
    lines += ["    permits:", "      - {derive: translations}"]
    for n in range(8):
        lines.append(f"      - {{name: out-{n}, from: own, to: sea, service: tcp/{n * 1000 + 1}-{n * 1000 + 999}}}")
    return "\n".join(lines) + "\n"


def hub(number: int, sites: int, hubs: int) -> str:
    """Write a hub: links to its sites and to its neighbours."""
    lines = [f"  hub-{number}:", "    speaks: [frr]", "    interfaces:"]
    mine = range(number * SITES_PER_HUB, min((number + 1) * SITES_PER_HUB, sites))
    for each in mine:
        place = each % SITES_PER_HUB
        lines.append(f"      site{place}: {{zone: own, address: 10.{number % 64}.{place}.0/31}}")
    for other in (number - 1, number):
        if 0 <= other < hubs - 1:
            lines.append(f"      ring{other}: {{zone: own, address: 10.254.{other}.{number - other}/31}}")
    lines.append("    routes:")
    for each in mine:
        place = each % SITES_PER_HUB
        lines.append(f"      - {{to: 10.{64 + number}.{place * 8}.0/21, via: 10.{number % 64}.{place}.1}}")
    for other in range(hubs):
        if other != number:
            via = f"10.254.{number - 1}.0" if other < number else f"10.254.{number}.1"
            lines.append(f"      - {{to: 10.{64 + other}.0.0/16, via: {via}}}")
            lines.append(f"      - {{to: 10.{other}.0.0/16, via: {via}}}")
    for link in range(hubs - 1):
        if link not in (number - 1, number):
            via = f"10.254.{number - 1}.0" if link < number else f"10.254.{number}.1"
            lines.append(f"      - {{to: 10.254.{link}.0/31, via: {via}}}")
    lines.append("      - {to: 10.0.0.0/8, discard: true, distance: 250}")
    return "\n".join(lines) + "\n"


def write(folder: Path, sites: int) -> None:
    """Write the network, a hundred devices to a file."""
    hubs = -(-sites // SITES_PER_HUB)
    devices = [site(number) for number in range(sites)] + [hub(number, sites, hubs) for number in range(hubs)]
    for start in range(0, len(devices), 100):
        head = HEAD if start == 0 else "lattice: 1\ndevices:\n"
        (folder / f"part-{start:05}.yaml").write_text(head + "".join(devices[start : start + 100]))


def measured(folder: Path) -> dict[str, float]:
    """Load and check; run in a process of its own."""
    from agile_lattice.checks import findings
    from agile_lattice.notation.loading import load

    began = time.process_time()
    network = load(folder)
    loaded = time.process_time()
    found = findings(network)
    done = time.process_time()
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    for path in folder.iterdir():
        yaml.load(path.read_text(), yaml.CSafeLoader)
    peer = time.process_time() - done
    return {"devices": len(network.devices), "load": loaded - began, "check": done - loaded, "MB": memory,
            "findings": len(found), "yaml": peer}  # fmt: skip


def main() -> None:
    """Measure every size."""
    if sys.argv[1:2] == ["--in"]:
        print(json.dumps(measured(Path(sys.argv[2]))))
        return
    print("| devices | load, s | check, s | together | peak, MB | PyYAML alone, s | together / PyYAML |")
    print("|---|---|---|---|---|---|---|")
    for sites in [int(each) for each in sys.argv[1:]] or [250, 500, 1000]:
        with tempfile.TemporaryDirectory() as name:
            write(Path(name), sites)
            command = [sys.executable, __file__, "--in", name]
            done = subprocess.run(command, capture_output=True, text=True, check=True, env={**os.environ})
        one = json.loads(done.stdout)
        both = one["load"] + one["check"]
        print(
            f"| {one['devices']:.0f} | {one['load']:.2f} | {one['check']:.2f} | {both:.2f} | {one['MB']:.0f}"
            f" | {one['yaml']:.2f} | {both / one['yaml']:.2f} |"
        )
        if one["findings"]:
            print(f"  ({one['findings']} findings)", file=sys.stderr)


if __name__ == "__main__":
    main()
