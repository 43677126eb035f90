"""`ignored` is a promise: with and without such a line the real program does the same.

Each line is put into a configuration, and the program is asked what it would do with both. Where that differs, what is
read must differ, too, or leave something over. (Other lines may be left over although nothing differs: that is no lie.)
"""

from __future__ import annotations

import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

import agile_lattice as al
from agile_lattice.dialects.assembly import Capture
from test_real import needs

pytestmark = pytest.mark.real

IFUPDOWN = """auto lo
iface lo inet loopback
{lo}
auto lan0
iface lan0 inet static
    address 10.40.10.1/24
{lan0}
{stanza}
"""
IN_LO = [
    "    up ip addr add 10.9.9.9/32 dev lo",
    "    up ip route add 10.9.0.0/16 dev lo",
    "    address 10.9.9.9",
    "# no",
]
IN_LAN = [
    "    mtu 1400", "    gateway 10.40.10.9", "    broadcast 10.40.10.255", "    network 10.40.10.0",
    "    dns-nameservers 10.40.10.53", "    up ip route add 10.9.0.0/16 via 10.40.10.9",
    "    up ip addr add 10.40.11.1/24 dev lan0", "    pre-up /bin/true", "    metric 5",
    "    hwaddress 02:00:00:00:00:07", "    pointopoint 10.40.10.7", "    scope link", "    # a remark",
    "    up ip link set dev lan0 mtu 1300",
]  # fmt: skip
STANZAS = [
    "iface lan0:1 inet static\n    address 10.40.11.1/24",
    "auto lan0:1\niface lan0:1 inet static\n    address 10.40.11.1/24",
    "auto lan0\niface lan0 inet6 static\n    address 2001:db8:40::1/64\n    mtu 1400", "iface lan1 inet dhcp",
    "iface lan0 inet static\n    address 10.40.12.1/24\n    mtu 1300", "rename lan1=lan7",
    "mapping lan0\n    script /bin/x", "iface lan9 inet static\n    mtu 1400",
]  # fmt: skip
NETPLAN = """network:
  version: 2
  ethernets:
    lan0:
      addresses: [10.40.10.1/24]
{lan0}
      routes:
        - to: 10.9.0.0/16
          via: 10.40.10.9
{route}
"""
IN_PORT = [
    "dhcp4: true", "dhcp4: false", "dhcp6: true", "accept-ra: true", "optional: true", "mtu: 1400",
    "link-local: [ipv4]", "link-local: [ipv6]", "link-local: []", "emit-lldp: true", "gateway4: 10.40.10.7",
    "nameservers: {addresses: [10.40.10.53]}", "macaddress: 02:00:00:00:00:07", "wakeonlan: true",
    "dhcp4: true\n      dhcp4: false", "ignore-carrier: true", "critical: true", "ipv6-privacy: true",
    "routing-policy: [{from: 10.1.0.0/16, table: 7}]", "receive-checksum-offload: true",
    "dhcp-identifier: mac",
]  # fmt: skip
IN_ROUTE = [
    "metric: 7", "mtu: 1400", "scope: global", "scope: link", "on-link: true", "on-link: false", "type: blackhole",
    "type: unicast", "table: 7", "from: 10.40.10.1", "congestion-window: 20", "advertised-receive-window: 20",
]  # fmt: skip
UNSAID = pytest.param("accept-ra: false", marks=pytest.mark.xfail(strict=True, reason=(
    "whether router advertisements are accepted where nothing says so depends on forwarding; it is read as no"
)))  # fmt: skip
FELT = re.compile(
    r"^(?:Address|Gateway|GatewayOnLink|Destination|DHCP|IPv6AcceptRA|LinkLocalAddressing|Metric|Type|Scope|Table|From|To"
    r"|VLAN|Bridge|MTUBytes|PreferredSource|Source)", re.IGNORECASE
)  # fmt: skip


Program = Callable[[str, Path], list[str] | None]


def ifupdown(text: str, folder: Path) -> list[str] | None:
    """The commands that ifup would run, but for those that only load modules or name servers."""
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


def netplan(text: str, folder: Path) -> list[str] | None:
    """What systemd-networkd is told of addresses, routes and rules."""
    shutil.rmtree(folder, ignore_errors=True)
    (folder / "etc/netplan").mkdir(parents=True)
    file = folder / "etc/netplan/a.yaml"
    file.write_text(text)
    file.chmod(0o600)
    done = subprocess.run(["netplan", "generate", "--root-dir", folder], capture_output=True, check=False)
    if done.returncode:
        return None
    units = sorted((folder / "run/systemd/network").glob("*.network"))
    return [line for unit in units for line in unit.read_text().split("\n") if FELT.match(line)]


def held(what: Capture) -> object:
    device = what.device
    return device.interfaces, device.routes, device.settings, device.translations


def kept(program: Program, speaks: str, file: str, texts: list[str], folder: Path) -> bool:
    """Whether the program does the same with both texts, or what is read says that something is another thing."""
    before, after = (program(each, folder / "w") for each in texts)
    one, other = (al.read("quay", [speaks], {file: each}) for each in texts)
    silent = held(one) == held(other) and other.leftovers == one.leftovers
    return before == after or not silent


@needs("ifup")
@pytest.mark.parametrize("line", [*IN_LO, *IN_LAN, *STANZAS])
def test_ifupdown_does_nothing_of_what_is_ignored(line: str, tmp_path: Path) -> None:
    where = "lo" if line in IN_LO else "lan0" if line in IN_LAN else "stanza"
    (tmp_path / "w").mkdir()
    texts = [IFUPDOWN.format(**{"lo": "", "lan0": "", "stanza": "", where: each}) for each in ("", line)]
    assert kept(ifupdown, "ifupdown", "interfaces", texts, tmp_path)


@needs("netplan")
@pytest.mark.parametrize("line", [*IN_PORT, *IN_ROUTE, UNSAID])
def test_netplan_says_nothing_of_what_is_ignored(line: str, tmp_path: Path) -> None:
    where, indent = ("route", 10) if line in IN_ROUTE else ("lan0", 6)
    put = " " * indent + line
    texts = [NETPLAN.format(**{"lan0": "", "route": "", where: each}) for each in ("", put)]
    assert kept(netplan, "netplan", "a.yaml", texts, tmp_path)
