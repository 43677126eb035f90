"""Real systems in network namespaces: the Linux kernel with iproute2 and nftables, and FRRouting.

Used to capture the demo data and by the tests. Needs root, `ip`, `nft`, and for FRRouting
`vtysh`, `zebra` and `staticd`. Everything it makes is gone when the `with` block ends.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Protocol

from agile_lattice.dialects import Rendered

FRR = Path("/usr/lib/frr")


class ProgramError(Exception):
    """A real program refused something; the message is what it said."""


def run(*command: str, input: str | None = None) -> str:
    """Run a program; return what it printed."""
    done = subprocess.run(command, input=input, capture_output=True, text=True, timeout=60)
    if done.returncode:
        raise ProgramError(f"{' '.join(command)}: {done.stderr.strip() or done.stdout.strip()}")
    return done.stdout


class Run(Protocol):
    """Runs a program; returns what it printed, or raises `ProgramError`."""

    def __call__(self, *command: str, input: str | None = None) -> str:
        """Run it, with `input` to read."""
        ...


def present(*programs: str) -> bool:
    """Tell whether programs are installed, and whether namespaces can be made."""
    if os.geteuid() or not all(shutil.which(each) or (FRR / each).exists() for each in programs):
        return False
    return subprocess.run(["unshare", "--net", "true"], capture_output=True).returncode == 0


class Machine:
    """One system: a network namespace, its interfaces, and FRRouting if it is asked for.

    Args:
        name: Its host name.
        interfaces: Ethernet interfaces to make; the far end of each cable hangs in `wires`.
        run: Runs a program, on this host or in a guest of it.
    """

    def __init__(self, name: str, interfaces: Iterable[str] = (), run: Run = run) -> None:
        self.name = name
        self.run = run
        self.space = f"lattice-{os.getpid()}-{name}"
        self.wires = f"{self.space}-far"
        self.interfaces = list(interfaces)
        self.folder = Path()

    def __enter__(self) -> Machine:
        self.run("ip", "netns", "add", self.space)
        self.run("ip", "netns", "add", self.wires)
        self.folder = Path(tempfile.mkdtemp(prefix="lattice-"))
        # Nobody else is on these links: no need to wait for duplicates to answer (RFC 4862 section 5.4).
        self.inside("sysctl", "-qw", "net.ipv6.conf.default.accept_dad=0", "net.ipv6.conf.all.accept_dad=0")
        self.run("ip", "-n", self.space, "link", "set", "lo", "up")
        for interface in self.interfaces:
            self.cable(interface, self.wires, interface)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for file in self.folder.glob("*.pid"):
            subprocess.run(["kill", file.read_text().strip()], capture_output=True)
        for space in (self.space, self.wires):
            with suppress(ProgramError):
                self.run("ip", "netns", "del", space)
        shutil.rmtree(self.folder, ignore_errors=True)

    def cable(self, interface: str, other: str, far: str) -> None:
        """Lay a cable from an interface to one of another namespace; the far end is up already."""
        octets = hashlib.sha256(f"{self.name} {interface}".encode()).digest()[:5]
        hardware = ":".join(["02", *(f"{octet:02x}" for octet in octets)])
        self.run("ip", "link", "add", interface, "netns", self.space, "address", hardware,
            "type", "veth", "peer", "name", far, "netns", other)  # fmt: skip
        self.run("ip", "-n", other, "link", "set", far, "up")

    def inside(self, *command: str, input: str | None = None) -> str:
        """Run a program on this system."""
        return self.run("ip", "netns", "exec", self.space, *command, input=input)

    def start_frr(self) -> None:
        """Start zebra and staticd, with a host name of their own."""
        self.folder.chmod(0o755)
        shutil.chown(self.folder, "frr", "frr")
        for daemon in ("zebra", "staticd"):
            start = [str(FRR / daemon), "-d", "-z", f"{self.folder}/zserv.api", "--vty_socket", str(self.folder),
                     "-i", f"{self.folder}/{daemon}.pid", "-P", "0"]  # fmt: skip
            self.named(*start)

    def vtysh(self, *arguments: str) -> str:
        """Run FRRouting's shell on this system."""
        return self.named("vtysh", "--vty_socket", str(self.folder), *arguments)

    def run_bird(self, text: str) -> None:
        """Start BIRD with a configuration, or let the one that runs take it."""
        path, socket = self.folder / "bird.conf", self.folder / "bird.ctl"
        path.write_text(text)
        if socket.exists():
            said = self.inside("birdc", "-s", str(socket), "configure")
            if "econfigur" not in said:
                raise ProgramError(f"birdc configure: {said}, in:\n{text}")
        else:
            self.inside("bird", "-c", str(path), "-s", str(socket), "-P", str(self.folder / "bird.pid"))

    def start_networkd(self, units: Mapping[str, str]) -> None:
        """Start systemd-networkd with units; it waits for no udev where `/sys` cannot be written."""
        folder = self.folder / "units"
        folder.mkdir()
        self.folder.chmod(0o755)
        for name, text in units.items():
            (folder / name).write_text(text)
            (folder / name).chmod(0o644)
        script = """
            mkdir -p /run/systemd /etc/systemd/network && mount -t tmpfs run /run/systemd
            install -d -o systemd-network -g systemd-network /run/systemd/netif /run/systemd/netif/links \\
                /run/systemd/netif/leases /run/systemd/netif/lldp
            mount --bind "$0/units" /etc/systemd/network && mount -o remount,ro,bind /sys
            echo $$ > "$0/networkd.pid"
            exec /lib/systemd/systemd-networkd > "$0/networkd.log" 2>&1
        """
        start = ["ip", "netns", "exec", self.space, "unshare", "--mount", "sh", "-ec", script, str(self.folder)]
        subprocess.Popen(start, stdin=subprocess.DEVNULL)

    def configured(self) -> bool:
        """Tell whether systemd-networkd is done with all interfaces that it has units for."""
        file = self.folder / "networkd.pid"
        if not file.exists():
            return False
        links = Path(f"/proc/{file.read_text().strip()}/root/run/systemd/netif/links")
        said = [each.read_text() for each in links.glob("*")] if links.exists() else []
        states = {found[1] for each in said if (found := re.search(r"^ADMIN_STATE=(\w+)", each, re.MULTILINE))}
        return "configured" in states and not states & {"pending", "initialized", "configuring"}

    def becomes(self, what: Callable[[], object], wanted: object, seconds: float = 5) -> None:
        """Wait until something is as it should be.

        Raises:
            ProgramError: If it is not after so many seconds.
        """
        end = time.monotonic() + seconds
        while (found := what()) != wanted:
            if time.monotonic() > end:
                raise ProgramError(f"it is {found}, and should be {wanted}")
            time.sleep(0.05)

    def named(self, *command: str) -> str:
        """Run a program on this system under its host name."""
        setting = 'hostname "$0"; exec ip netns exec "$@"'
        return self.run("unshare", "--uts", "sh", "-c", setting, self.name, self.space, *command)

    def apply(self, texts: Sequence[Rendered]) -> None:
        """Load rendered configuration with the real programs."""
        # What an intent describes is a router unless it says otherwise; a new namespace forwards nothing.
        self.inside("sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
        for each in texts:
            if each.dialect == "frr":
                self.start_frr()
            self.load(each.dialect, each.file, each.text)

    def change(self, dialect: str, text: str) -> None:
        """Type a change on the running system."""
        try:
            self.load(dialect, "change", text)
        except ProgramError as error:
            raise ProgramError(f"{error}, in:\n{text}") from None

    def load(self, dialect: str, file: str, text: str) -> None:
        """Let the program of a dialect take a text."""
        path = self.folder / file
        path.write_text(text)
        path.chmod(0o644)
        match dialect:
            case "iproute2":
                self.run("ip", "-n", self.space, "-batch", str(path))
            case "bridge":
                self.run("bridge", "-n", self.space, "-batch", str(path))
            case "nftables":
                self.inside("nft", "-f", str(path))
            case "iptables" | "ip6tables":
                self.inside(f"{dialect}-restore", str(path))
            case _:
                self.vtysh("-f", str(path))

    def settle(self) -> None:
        """Wait until IPv6 addresses are no longer tentative (RFC 4862 section 5.4)."""
        for _ in range(100):
            if "tentative" not in self.run("ip", "-n", self.space, "-6", "address"):
                return
            time.sleep(0.05)

    def capture(self, dialects: Iterable[str], whole: bool = False) -> dict[str, str]:
        """Return what the system says of itself, by file name; `whole` with what it does with packets as a whole."""
        texts = {}
        for dialect in dialects:
            if dialect == "iproute2":
                texts["links.json"] = self.run("ip", "-n", self.space, "-json", "-pretty", "-details", "link")
                texts["addresses.json"] = self.run("ip", "-n", self.space, "-json", "-pretty", "address")
                texts["routes.json"] = self.run(
                    "ip", "-n", self.space, "-json", "-pretty", "route", "show", "table", "all"
                )
            elif dialect == "bridge":
                texts["vlans.json"] = self.run("bridge", "-n", self.space, "-json", "-pretty", "vlan", "show")
            elif dialect == "nftables":
                texts["ruleset.nft"] = self.inside("nft", "list", "ruleset")
            else:
                texts["running.conf"] = self.vtysh("-c", "show running-config")
            if whole and dialect in ("iproute2", "frr"):
                names = ("net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding", "net.ipv4.conf.all.rp_filter")
                texts["settings.conf"] = self.inside("sysctl", *names)
        return texts
