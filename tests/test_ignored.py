"""`ignored` is a promise: with and without such a line the real program does the same.

Each line is put into a configuration, and the program is asked what it does, or would do, with both. Where that
differs, what is read must differ, too, or leave something over. (Other lines may be left over although nothing differs:
that is no lie.)
"""

from __future__ import annotations

import json
import re
import subprocess
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import msgspec
import pytest

import agile_lattice as al
from agile_lattice.dialects.assembly import Capture
from machines import Machine, ProgramError, present
from test_real import MUST

pytestmark = pytest.mark.real
FELT = re.compile(
    r"^(?:Address|Gateway|GatewayOnLink|Destination|DHCP|IPv6AcceptRA|LinkLocalAddressing|Metric|Type|Scope|Table|From|To"
    r"|VLAN|Bridge|MTUBytes|PreferredSource|Source)", re.IGNORECASE
)  # fmt: skip
FELT_OF_A_ROUTE = ("type", "gateway", "metric", "scope", "prefsrc", "nexthops", "via")
Does = Callable[[str, Path], object]


class Case(msgspec.Struct, frozen=True):
    """A configuration with places to put lines.

    Attributes:
        file: What it is called.
        needs: The program that is asked.
        text: The configuration; a place is a name in `<` and `>`.
        lines: What is put there, by place.
    """

    file: str
    needs: str
    text: str
    lines: dict[str, list[str]]

    def without(self, where: str, line: str) -> str:
        """Return the text with a line in one place and nothing in the others."""
        text = self.text
        for place in self.lines:
            text = text.replace(f"<{place}>", line if place == where else "")
        return text


CASES = msgspec.yaml.decode(Path(__file__).with_name("ignored.yaml").read_bytes(), type=dict[str, Case])
# What is read otherwise than the program does it, and why that is left so.
KNOWN = {
    ("netplan", "accept-ra: false"): "whether router advertisements are accepted where nothing says so depends on "
    "forwarding; it is read as no",
}


def ifupdown(text: str, folder: Path) -> object:
    """The commands that ifup would run, but for those that only load modules or name servers."""
    folder.mkdir()
    file = folder / "interfaces"
    file.write_text(text)
    done = subprocess.run(
        ["ifup", "--no-act", "--verbose", "--force", "-i", file, "-a"], capture_output=True, text=True, check=False
    )
    lines = [" ".join(each.split()) for each in (done.stdout + done.stderr).split("\n")]
    lines = [re.sub(r"(?:hw )?(?:ether|address) (?:[0-9a-f]{2}:){5}[0-9a-f]{2} ?", "", each).rstrip() for each in lines]
    bare = re.compile(r"ip link set dev \S+(?: up)?")
    felt = [each for each in lines if each.startswith(("ip ", "sysctl", "if [", "/bin/")) and not bare.fullmatch(each)]
    return None if done.returncode else felt


def netplan(text: str, folder: Path) -> object:
    """What systemd-networkd is told of addresses, routes and rules."""
    (folder / "etc/netplan").mkdir(parents=True)
    file = folder / "etc/netplan/a.yaml"
    file.write_text(text)
    file.chmod(0o600)
    done = subprocess.run(["netplan", "generate", "--root-dir", folder], capture_output=True, check=False)
    if done.returncode:
        return None
    units = sorted((folder / "run/systemd/network").glob("*.network"))
    return [line for unit in units for line in unit.read_text().split("\n") if FELT.match(line)]


def frr(text: str, folder: Path) -> object:
    """What the kernel has when zebra and staticd run."""
    with Machine("quay", ["lan0"]) as machine:
        machine.run("ip", "-n", machine.space, "link", "set", "lan0", "up")
        machine.start_frr()
        with suppress(ProgramError):  # it goes on behind a line that it refuses
            machine.load("frr", "frr.conf", text)
        return settled(machine)


def bird(text: str, folder: Path) -> object:
    """What the kernel has when BIRD runs."""
    with Machine("quay", ["lan0"]) as machine:
        machine.run("ip", "-n", machine.space, "address", "add", "10.40.10.1/24", "dev", "lan0")
        machine.run("ip", "-n", machine.space, "link", "set", "lan0", "up")
        try:
            machine.run_bird(text)
        except ProgramError:
            return None
        return settled(machine)


def networkd(text: str, folder: Path) -> object:
    """What the kernel has when systemd-networkd runs."""
    with Machine("quay", ["lan0"]) as machine:
        machine.start_networkd({"10-lan0.network": text})
        with suppress(ProgramError):  # it never is with DHCP, where nobody answers
            machine.becomes(machine.configured, True, 1)
        return settled(machine)


def settled(machine: Machine) -> object:
    """What the kernel has, once that does not change any more."""
    before = in_the_kernel(machine)
    for _ in range(100):
        time.sleep(0.15)
        if (now := in_the_kernel(machine)) == before and (before[2] or before[1]):
            return now
        before = now
    return before


def in_the_kernel(machine: Machine) -> tuple[object, ...]:
    """Addresses, routes of the main table, rules and what is forwarded.

    Not how fast TCP of the system itself may be, nor a subnet that is on its link already, once more behind the first.
    """

    def said(*command: str) -> list[dict[str, Any]]:
        found = json.loads(machine.run("ip", "-n", machine.space, "-json", *command) or "[]")
        return list(filter(None, found))

    addresses = [
        (each["ifname"], each["mtu"], one["local"], one["prefixlen"], one.get("broadcast"), one["scope"])
        for each in said("address") if each["ifname"] == "lan0" for one in each["addr_info"] if one["scope"] != "link"
    ]  # fmt: skip
    routes: list[tuple[Any, ...]] = []
    for family in ("-4", "-6"):
        for each in said(family, "route"):
            again = each.get("scope") == "link" and any(
                (each["dst"], each["dev"]) == (one[0], one[1]) for one in routes
            )
            if not again and not str(each["dst"]).startswith("fe80"):
                mtu = [one["mtu"] for one in each.get("metrics", ()) if "mtu" in one]
                routes.append((each["dst"], each.get("dev"), mtu, *(each.get(key) for key in FELT_OF_A_ROUTE)))
    sysctl = machine.inside("sysctl", "net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding")
    return addresses, routes, said("rule"), sysctl


PROGRAMS: dict[str, Does] = {
    "ifupdown": ifupdown, "netplan": netplan, "frr": frr, "bird": bird, "networkd": networkd,
}  # fmt: skip


def held(what: Capture) -> object:
    device = what.device
    return device.interfaces, device.routes, device.settings, device.translations


@pytest.mark.parametrize(
    ("dialect", "where", "line"),
    [
        pytest.param(
            dialect, where, line,
            marks=pytest.mark.xfail(strict=True, reason=KNOWN[dialect, line]) if (dialect, line) in KNOWN else (),
        )
        for dialect, case in CASES.items() for where, lines in case.lines.items() for line in lines
    ],
)  # fmt: skip
def test_what_is_ignored_changes_nothing(dialect: str, where: str, line: str) -> None:
    case = CASES[dialect]
    if not MUST and not (present(case.needs) and present("ip")):
        pytest.skip(f"needs root and {case.needs}")
    texts = [case.without(where, each) for each in ("", line)]
    one, other = (al.read("quay", [dialect], {case.file: each}) for each in texts)
    if held(one) == held(other) and other.leftovers == one.leftovers:
        before, after = (done(dialect, each) for each in texts)
        assert before and (not isinstance(before, tuple) or before[1]), "the program runs, and has routes"
        assert before == after


@cache
def done(dialect: str, text: str) -> object:
    """What the program of a dialect does with a text; of the plain one it is asked once."""
    with tempfile.TemporaryDirectory() as folder:
        return PROGRAMS[dialect](text, Path(folder) / "w")
