"""Rulesets that others wrote, as large as they get: each is read and held against an intent, in a process of its own.

    .venv/bin/python benchmarks/rulesets.py        (needs root, for `nft -c` and `iptables-restore --test`)

Reading is to lists of rules, as a library call; the peer is the whole process of the program itself that checks the
same file. Comparing is `al.diff` and `al.prove`'s verdict with a small intent. CPU seconds, and the peak of the process.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable

import agile_lattice as al
from agile_lattice.dialects import read_device
from figures import keep

INTENT = """
lattice: 1
devices:
  gate:
    speaks: [iproute2, {dialect}]
    interfaces:
      in0: {{address: 10.40.0.1/16}}
      out0: {{address: 192.0.2.2/30}}
    routes: [{{to: default, via: 192.0.2.1}}]
    permits:
      - {{name: web, from: in0, to: out0, service: [tcp/80, tcp/443]}}
      - {{name: dns, from: in0, to: out0, service: udp/53}}
"""
FORWARD = "type filter hook forward priority filter; policy drop; ct state established,related accept;"


def listed_hosts() -> str:
    """A list of 10,000 single addresses that may not pass, as lists of bad hosts are."""
    hosts = ", ".join(f"100.{64 + n // 16384}.{n // 64 % 256}.{n % 64 * 4}" for n in range(10_000))
    return (
        f"table inet f {{\n\tset bad {{\n\t\ttype ipv4_addr\n\t\telements = {{ {hosts} }}\n\t}}\n\tchain a {{\n\t\t"
        f'{FORWARD.replace("; ", chr(10))}\n\t\tip daddr @bad drop\n\t\tiifname "in0" tcp dport {{ 80, 443 }} accept\n'
        '\t\tiifname "in0" udp dport 53 accept\n\t}\n}\n'
    )


def listed_in_lines() -> str:
    """The same list as the program prints it: three addresses in each line."""
    head, _, rest = listed_hosts().partition("{ 100.")
    hosts, _, tail = f"100.{rest}".partition(" }")
    each = hosts.split(", ")
    lines = ",\n\t\t\t     ".join(", ".join(each[at : at + 3]) for at in range(0, len(each), 3))
    return f"{head}{{ {lines} }}{tail}"


def crossed_sets() -> str:
    """10,000 sources by 10,000 destinations, in one rule."""
    left, right = (
        ", ".join(f"{net}.{n // 16384}.{n // 64 % 256}.{n % 64 * 4}" for n in range(10_000)) for net in (10, 100)
    )
    return (
        f"table inet f {{\n\tset l {{\n\t\ttype ipv4_addr\n\t\telements = {{ {left} }}\n\t}}\n\tset r {{\n\t\ttype ipv4_addr\n"
        f"\t\telements = {{ {right} }}\n\t}}\n\tchain a {{\n\t\t{FORWARD.replace('; ', chr(10))}\n"
        "\t\tip saddr @l ip daddr @r drop\n"
        '\t\tiifname "in0" tcp dport { 80, 443 } accept\n\t\tiifname "in0" udp dport 53 accept\n\t}\n}\n'
    )


def zones() -> str:
    """200 zones, each with a chain of its own that the first one jumps to."""
    chains = [
        f"\tchain zone{n} {{\n\t\ttcp dport {{ 80, 443 }} accept\n\t\tudp dport 53 accept\n\t\tip daddr 10.{n}.0.0/16 drop\n\t}}\n"
        for n in range(200)
    ]
    jumps = "".join(f'\t\tiifname "in{n}" jump zone{n}\n' for n in range(200))
    chain = FORWARD.replace("; ", "\n\t\t")
    return f"table inet f {{\n{''.join(chains)}\tchain a {{\n\t\t{chain}\n{jumps}\t}}\n}}\n"


def containers() -> str:
    """A container host of some 2,500 rules: a chain of isolation, and published ports with a permit each."""
    nat, permits, isolated = [], [], []
    for n in range(1_100):
        host = f"172.{17 + n // 250}.{n // 50 % 5}.{n % 250 + 2}"
        nat.append(f"-A PUBLISHED ! -i br{n % 40} -p tcp -m tcp --dport {2000 + n} -j DNAT --to-destination {host}:80")
        permits.append(f"-A OPEN -d {host}/32 ! -i br{n % 40} -o br{n % 40} -p tcp -m tcp --dport 80 -j ACCEPT")
    for n in range(40):
        isolated += [f"-A APART -i br{n} ! -o br{n} -j REST", f"-A REST -o br{n} -j DROP"]
    chains = [":FORWARD DROP [0:0]", *(f":{name} - [0:0]" for name in ("APART", "OPEN", "REST"))]
    ways = ["-A FORWARD -j APART", "-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
            "-A FORWARD -j OPEN", "-A FORWARD -i in0 -o out0 -j ACCEPT"]  # fmt: skip
    return "\n".join([
        "*nat", ":PREROUTING ACCEPT [0:0]", ":POSTROUTING ACCEPT [0:0]", ":PUBLISHED - [0:0]",
        "-A PREROUTING -m addrtype --dst-type LOCAL -j PUBLISHED", *nat, "COMMIT",
        "*filter", *chains, *ways, *isolated, "-A REST -j RETURN", "-A APART -j RETURN", *permits, "COMMIT", "",
    ])  # fmt: skip


CASES: dict[str, tuple[str, Callable[[], str]]] = {
    "a list of 10,000 addresses": ("nftables", listed_hosts),
    "the same, three in a line": ("nftables", listed_in_lines),
    "10,000 sources by 10,000 destinations": ("nftables", crossed_sets),
    "200 zones": ("nftables", zones),
    "a container host, 2,500 rules": ("iptables", containers),
}
PEERS = {"nftables": ("nft", "-c", "-f"), "iptables": ("iptables-restore", "--test")}


def measure(case: str) -> dict[str, float]:
    """Read and compare one ruleset; return seconds and megabytes."""
    dialect, made = CASES[case]
    text = made()
    [device] = al.loads(INTENT.format(dialect=dialect)).devices
    start = time.process_time()
    capture = read_device("gate", [dialect], {"rules": text})
    read = time.process_time()
    al.diff(device, capture)
    compared = time.process_time()
    al.prove(device, capture)
    proven = time.process_time()
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    left = float(len(capture.leftovers))
    return {"read": read - start, "diff": compared - read, "prove": proven - compared, "peak": peak, "left": left}


def peer(case: str) -> float:
    """Return the CPU seconds of the program that checks the same file."""
    dialect, made = CASES[case]
    with tempfile.NamedTemporaryFile("w", suffix=".rules") as file:
        file.write(made())
        file.flush()
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run(["unshare", "--net", *PEERS[dialect], file.name], check=True, capture_output=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    for case in CASES:
        done = subprocess.run([sys.executable, __file__, case], check=True, capture_output=True, text=True)
        found, other = json.loads(done.stdout), peer(case)
        row = {"ruleset": case, "read, s": f"{found['read']:.2f}", "the program itself, s": f"{other:.2f}",
               "ratio": f"{found['read'] / other:.1f}", "diff, s": f"{found['diff']:.2f}",
               "prove, s": f"{found['prove']:.2f}", "peak, MB": f"{found['peak']:.0f}",
               "not read": f"{found['left']:.0f}"}  # fmt: skip
        keep("rulesets", row)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        print(json.dumps(measure(sys.argv[1])))
    else:
        main()
