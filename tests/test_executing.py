"""A text is a program: what is read of a file is what is read of the listing once the real program has loaded it."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress

import pytest
from hypothesis import HealthCheck, Phase, event, given, settings
from hypothesis import strategies as st

from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.equivalence import between
from agile_lattice.dialects import read_device
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.notation.loading import loads
from machines import Machine, ProgramError, present
from test_real import MUST
from where import examples

pytestmark = pytest.mark.real
needs_kernel = pytest.mark.skipif(
    not MUST and not present("ip", "nft", "iptables-restore"), reason="needs root, nft and iptables"
)
FEW = settings(
    max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck),
    phases=[Phase.explicit, Phase.generate], derandomize=True,
)  # fmt: skip
INTENT = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  edge:
    speaks: [iproute2, nftables, iptables]
    interfaces:
      in0: {zone: inside, address: 10.40.10.1/24}
      out0: {zone: outside, address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}]
"""
# What texts are called, so that an empty one is known.
FILES = {"nftables": "nftables.nft", "iptables": "iptables.rules", "iproute2": "iproute2.batch"}
# Characters that end a line for some programs, and for others are a character like any other.
ODD = ["\f", "\v", "\x1c", "\x1d", "\x1e", "\x85", "\u2028", "\u2029", "\r", "\\", " ", ""]


def read(dialect: str, text: str) -> Capture:
    return read_device("edge", (dialect,), {FILES[dialect]: text})


def assert_read_as_loaded(dialect: str, file: str, listing: Mapping[str, str]) -> None:
    """What is read of the file does what the listing does, and neither leaves anything over that the other reads."""
    [intent] = loads(INTENT).devices
    other = read_device("edge", (dialect,), listing)
    try:
        one = read(dialect, file)
    except CaptureError:
        event("nothing is read")
        return
    assert other.leftovers == (), listing
    event("all of the file is read" if not one.leftovers else "something is left over")
    if not one.leftovers:
        found = between(as_it_is(intent, one), as_it_is(intent, other))
        assert found.same, f"{file}\nis listed as\n{listing}\n{found}"


NFT_RULES = st.sampled_from([
    'iifname "in0" accept', "tcp dport 22 drop", "ip saddr 10.40.10.7 accept", "udp dport { 53, 123 } accept",
    "ip daddr 192.0.2.0/24 drop",
])  # fmt: skip
TABLES = st.sampled_from(["ip a", "ip b", "inet a"])
CHAINS = st.sampled_from(["c", "d"])
HOOKS = {"c": "type filter hook forward priority filter", "d": "type filter hook input priority filter"}
POLICIES = st.sampled_from(["", "policy accept;", "policy drop;"])


@st.composite
def nft_blocks(draw: st.DrawFn) -> str:
    """A table, with chains that may be there already."""
    lines = [f"table {draw(TABLES)} {{"]
    lines += ["\tflags dormant" for _ in range(draw(st.integers(0, 9)) // 8)]
    for chain in draw(st.lists(CHAINS, max_size=3)):
        rules = "".join(f"\t\t{each}\n" for each in draw(st.lists(NFT_RULES, max_size=2)))
        lines.append(f"\tchain {chain} {{\n\t\t{HOOKS[chain]}; {draw(POLICIES)}\n{rules}\t}}")
    return "\n".join([*lines, "}"])


@st.composite
def nft_remarks(draw: st.DrawFn) -> str:
    return f"# a remark{draw(st.sampled_from(ODD))}flush ruleset"


@st.composite
def nft_commands(draw: st.DrawFn) -> str:
    table, chain, rule = draw(TABLES), draw(CHAINS), draw(NFT_RULES)
    return draw(st.sampled_from([
        f"table {table}", f"delete table {table}", f"flush table {table}", "flush ruleset", "flush ruleset ip",
        f"flush chain {table} {chain}", f"add rule {table} {chain} {rule}", f"insert rule {table} {chain} {rule}",
        f"add table {table}", f"add chain {table} {chain} {{ {HOOKS[chain]}; policy drop; }}",
        f"add chain {table} {chain}", f"delete chain {table} {chain}", f"rule {table} {chain} {rule}",
        f"table {table} {{ chain {chain} {{ {rule}; }}; }}", f"define x = 10.40.10.{draw(st.integers(1, 9))}",
        f"add rule {table} {chain} ip saddr $x accept", f"add rule {table} {chain} \\\n  {rule}",
    ]))  # fmt: skip


@needs_kernel
@FEW
@given(st.lists(st.one_of(nft_blocks(), nft_blocks(), nft_commands(), nft_commands(), nft_remarks()), max_size=8))
def test_nft_does_what_is_read_of_a_file(parts: list[str]) -> None:
    loaded("nftables", "\n".join(parts) + "\n", "nft", "-f")


TARGETS = st.sampled_from(["-i in0 -j ACCEPT", "-p tcp -m tcp --dport 22 -j DROP", "-s 10.40.10.7/32 -j ACCEPT"])
BUILT_IN = st.sampled_from(["FORWARD", "INPUT"])


@st.composite
def iptables_tables(draw: st.DrawFn) -> str:
    lines = ["*filter"]
    for _ in range(draw(st.integers(0, 6))):
        chain, rule = draw(BUILT_IN), draw(TARGETS)
        policy = draw(st.sampled_from(["ACCEPT", "DROP"]))
        lines.append(draw(st.sampled_from([
            f":{chain} {policy} [0:0]", f"-A {chain} {rule}", f"-A {chain} {rule}", f"-P {chain} {policy}",
            f"-I {chain} {rule}", f"-I {chain} 1 {rule}", f"-F {chain}", "-F", ":own - [0:0]", f"-A own {rule}",
            f"-A {chain} -i in0 -m comment --comment a#b -j DROP", f"-A {chain} -j own",
            f"-D {chain} {rule}", f"-D {chain} 1", f"# a remark{draw(st.sampled_from(ODD))}-P {chain} {policy}",
            "-N own", "-X own",
        ])))  # fmt: skip
    return "\n".join([*lines, "COMMIT"])


@needs_kernel
@FEW
@given(st.lists(iptables_tables(), min_size=1, max_size=3))
def test_iptables_restore_does_what_is_read_of_a_file(tables: list[str]) -> None:
    loaded("iptables", "\n".join(tables) + "\n", "iptables-restore")


OWN = st.sampled_from(
    ["10.40.10.1/24", "10.40.10.1/25", "10.40.10.2/24", "203.0.113.2/28", "10.40.10.7", "2001:db8::1/64"]
)
PORTS = st.sampled_from(["in0", "out0"])
VERBS = st.sampled_from(["add", "replace", "add", "replace", "append", "change", "del"])
READY = """link set dev lo up
link set dev in0 up
link set dev out0 up
address add 10.40.10.3/24 dev in0
address add 203.0.113.3/28 dev out0
"""


@st.composite
def ip_commands(draw: st.DrawFn) -> str:
    verb, port, metric = draw(VERBS), draw(PORTS), draw(st.sampled_from(["", "", " metric 7"]))
    to, number = draw(st.sampled_from(["default", "10.9.0.0/16", "10.9.0.7"])), draw(st.integers(2, 3))
    via = draw(st.sampled_from(["via 10.40.10.9", "via 203.0.113.1", f"dev {port}", "via 10.40.10.9 dev in0"]))
    return draw(st.sampled_from([
        f"address {verb} {draw(OWN)} dev {port}", f"address {verb} {draw(OWN)} dev {port}",
        f"addr {verb} dev {port} {draw(OWN)}", f"address add 10.40.11.1 peer 10.40.11.{number} dev {port}",
        f"route {verb} {to} {via}{metric}", f"route {verb} {to} {via}{metric}", f"route {verb} blackhole {to}{metric}",
        f"neighbour {verb} proxy 10.40.10.{number} dev {port}", f"link set dev {port} mtu 1400",
        f"link set {port} mtu 1300", f"link set dev {port} alias office",
        f"link add link {port} name v7 type vlan id {number}", "link add br0 type bridge",
        f"# a remark{draw(st.sampled_from(ODD))}address add 10.77.0.1/24 dev {port}",
        f"address flush dev {port}", "route flush 10.9.0.0/16", f"link set dev {port} down", f"link set dev {port} up",
    ]))  # fmt: skip


@needs_kernel
@FEW
@given(st.lists(ip_commands(), max_size=8))
def test_ip_does_what_is_read_of_a_batch(lines: list[str]) -> None:
    loaded("iproute2", READY + "\n".join(lines) + "\n", "ip", "-batch")


# Whether a next hop is on a link depends on what else the system has, of which a text need not speak.
ELSEWHERE = ("invalid gateway", "Network is unreachable", "Network is down")


def loaded(dialect: str, text: str, *load: str) -> None:
    """Load a file into the real program, and hold what is read of it against what is read of the listing."""
    with Machine("edge", ["in0", "out0"] if dialect == "iproute2" else []) as machine:
        path = machine.folder / "rules"
        path.write_bytes(text.encode())
        try:
            machine.inside(*load, str(path))
        except ProgramError as error:
            # What the program refuses it does not do: then it must not be read as if it did.
            event("the program refuses it")
            if any(each in str(error) for each in ELSEWHERE):
                return
            with suppress(CaptureError):
                assert read(dialect, text).leftovers, f"{text}\nis refused: {error}"
            return
        listing = machine.inside("iptables-save") if dialect == "iptables" else None
        said = machine.capture([dialect]) if listing is None else {FILES[dialect]: listing}
        if dialect == "iproute2":
            said["neighbours.json"] = machine.run("ip", "-n", machine.space, "-json", "neighbour", "show", "proxy")
        assert_read_as_loaded(dialect, text, said)
