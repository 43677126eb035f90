"""Real systems, captured into an archive and changed, over SSH and in namespaces, and all that can fail there."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import textwrap
import time
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from random import Random

import pytest

import agile_lattice as al
from agile_lattice.archive.repository import Archive, ArchiveError
from agile_lattice.cli.main import main
from agile_lattice.dialects.registry import BUILT_IN, catalogue_beside
from agile_lattice.intent.connections import Connection
from agile_lattice.push import carrying
from agile_lattice.push.carrying import Load, carry, take_back
from agile_lattice.transport.capturing import ask, sealed
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.sealing import USUAL_SECRETS
from agile_lattice.transport.sessions import Session
from machines import Machine, present
from test_real import frr, needs
from where import examples

live = pytest.mark.skipif(
    not present("ip", "nft", "sshd", "ssh", "git"), reason="needs root, iproute2, nftables, OpenSSH"
)
EDGE = f"edge-{os.getpid()}"  # the file system is that of all namespaces, and of other tests
HOME = Path("/run/agile-lattice") / EDGE
LATTICE = Path(sys.executable).with_name("lattice")
INTENT = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  EDGE:
    speaks: [iproute2, nftables]
    connection: CONNECTION
    interfaces:
      in0: {zone: inside, address: 10.40.10.1/24}
      out0: {zone: outside, address: 203.0.113.2/28}
      mgmt0: {address: 10.99.0.2/24}
    routes: [{to: default, via: 203.0.113.1}]
    translations:
      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7, facing: outside}
      - {name: rest, from: inside, to: outside, source-becomes: interface}
"""


class Site:
    """A device, somebody who manages it over a cable of their own, and a folder with the intent."""

    def __init__(self, edge: Machine, desk: Machine, folder: Path, connection: str, text: str = INTENT) -> None:
        self.edge, self.desk, self.folder = edge, desk, folder
        self.intent = folder / "intent.yaml"
        self.intent.write_text(text.replace("CONNECTION", connection).replace("EDGE", EDGE))
        self.env = {**os.environ, "XDG_STATE_HOME": str(folder / "state"), "COLUMNS": "120"}
        device = al.load(self.intent).device(EDGE)
        # A new namespace forwards nothing, and an intent means that its devices do.
        edge.inside("sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
        for each in al.render(device):
            edge.load(each.dialect, each.file, each.text)
        edge.settle()

    def command(self, *arguments: str) -> list[str]:
        return ["ip", "netns", "exec", self.desk.space, str(LATTICE), *arguments]

    def lattice(self, *arguments: str) -> tuple[int, str]:
        ran = subprocess.run(
            self.command(*arguments), capture_output=True, text=True, cwd=self.folder, env=self.env, check=False
        )
        return ran.returncode, ran.stdout + ran.stderr

    def push(self, *more: str, how: str = "--yes") -> tuple[int, dict[str, str]]:
        code, said = self.lattice("push", "intent.yaml", "archive", "--device", EDGE, how, "--format", "json", *more)
        if not said.startswith("{"):
            return code, {"outcome": "refused", "reason": said}
        return code, json.JSONDecoder().raw_decode(said)[0]  # behind it is what was told on the way

    def look(self) -> str:
        return self.edge.inside("nft", "-s", "list", "ruleset") + self.edge.inside("ip", "route") + self.edge.inside(
            "ip", "-br", "address")  # fmt: skip


@pytest.fixture
def machines() -> Iterator[tuple[Machine, Machine]]:
    with Machine("edge", ["in0", "out0"]) as edge, Machine("desk") as desk:
        edge.cable("mgmt0", desk.space, "eth0")
        desk.inside("ip", "address", "add", "10.99.0.1/24", "dev", "eth0")
        yield edge, desk
        subprocess.run(["rm", "-rf", str(HOME)], check=False)


@pytest.fixture
def near(machines: tuple[Machine, Machine], tmp_path: Path) -> Site:
    """A site whose device is a namespace of this system."""
    return Site(*machines, tmp_path, f"{{namespace: {machines[0].space}}}")


@pytest.fixture
def far(machines: tuple[Machine, Machine], tmp_path: Path) -> Iterator[Site]:
    """A site whose device is reached by SSH."""
    edge, _ = machines
    for name in ("host", "user", "other"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)
    (tmp_path / "known").write_text("10.99.0.2 " + (tmp_path / "host.pub").read_text())
    Path("/run/sshd").mkdir(exist_ok=True)
    pid = tmp_path / "sshd.pid"
    (tmp_path / "sshd_config").write_text(
        f"ListenAddress 0.0.0.0\nHostKey {tmp_path}/host\nAuthorizedKeysFile {tmp_path}/user.pub\nPidFile {pid}\n"
        "StrictModes no\nUsePAM no\nPermitRootLogin yes\nKexAlgorithms curve25519-sha256\n"
    )
    edge.inside("/usr/sbin/sshd", "-f", str(tmp_path / "sshd_config"), "-E", str(tmp_path / "log"))
    yield Site(*machines, tmp_path, "{ssh: 10.99.0.2, user: root, key: user, known-hosts: known}")
    with suppress(ValueError, OSError):
        os.kill(int(pid.read_text()), 9)


@pytest.mark.real
@live
@needs("sudo")
def test_a_user_that_is_not_root_becomes_it_or_is_told_what_is_missing(far: Site) -> None:
    user, rights = f"netops{os.getpid()}", Path(f"/etc/sudoers.d/netops{os.getpid()}")
    keys = Path(tempfile.mkdtemp())  # where that user may read
    keys.chmod(0o755)
    (keys / "user.pub").write_bytes((far.folder / "user.pub").read_bytes())
    server = (far.folder / "sshd_config").read_text().replace(f"{far.folder}/user.pub", f"{keys}/user.pub")
    (far.folder / "sshd_config").write_text(f"Port 2222\n{server.replace('sshd.pid', 'second.pid')}")
    far.edge.inside("/usr/sbin/sshd", "-f", str(far.folder / "sshd_config"))
    plain = far.intent.read_text()
    subprocess.run(["useradd", "--no-create-home", "--shell", "/bin/sh", "--password", "*", user], check=True)
    try:
        for more, said in ((f"user: {user}", "not permitted"), (f"user: {user}, sudo: true", "may not become root")):
            far.intent.write_text(plain.replace("user: root", f"{more}, port: 2222"))
            code, told = far.lattice("capture", "intent.yaml", "--into", "archive")
            assert code == 2 and said in told, told
        rights.write_text(f"{user} ALL=(root) NOPASSWD: /usr/bin/sh\n")
        assert far.lattice("capture", "intent.yaml", "--into", "archive")[0] == 0
        assert far.lattice("diff", "intent.yaml", "archive") == (0, f"{EDGE}: the same as the intent\n")
        far.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
        far.lattice("capture", "intent.yaml", "--into", "archive")
        code, told = far.lattice("push", "intent.yaml", "archive", "--device", EDGE, "--yes")
        assert code == 0, told
        far.lattice("capture", "intent.yaml", "--into", "archive")
        assert far.lattice("diff", "intent.yaml", "archive")[0] == 0
    finally:
        rights.unlink(missing_ok=True)
        shutil.rmtree(keys)
        with suppress(ValueError, OSError):
            os.kill(int((far.folder / "second.pid").read_text()), 9)
        subprocess.run(["userdel", user], check=False)


@pytest.mark.real
@live
def test_what_devices_have_is_kept_and_compared(far: Site) -> None:
    code, said = far.lattice("capture", "intent.yaml", "--into", "archive")
    assert code == 0 and "1 device captured, 1 changed" in said
    assert far.lattice("diff", "intent.yaml", "archive") == (0, f"{EDGE}: the same as the intent\n")
    assert far.lattice("prove", "intent.yaml", "archive")[0] == 0
    assert far.lattice("archive", "good", "archive", EDGE)[0] == 0
    assert "as before" in far.lattice("capture", "intent.yaml", "--into", "archive")[1]
    far.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    assert "1 changed" in far.lattice("capture", "intent.yaml", "--into", "archive")[1]
    code, said = far.lattice("diff", "intent.yaml", "archive")
    assert code == 1 and "translation rest" in said
    assert far.lattice("diff", "intent.yaml", "archive@good")[0] == 0
    assert far.lattice("diff", "intent.yaml", f"archive@{time.strftime('%Y-%m-%d', time.gmtime())}")[0] == 1
    code, said = far.lattice("diff", "intent.yaml", "archive@1999-12-31")
    assert code == 2 and "no captures of 1999-12-31" in said
    _, said = far.lattice("archive", "log", "archive")
    assert len(re.findall(r"\d{4}-\d{2}-\d{2} ", said)) == 3 and f"good: {EDGE}" in said
    far.edge.inside("ip", "neighbour", "add", "proxy", "203.0.113.9", "dev", "out0")
    far.lattice("capture", "intent.yaml", "--into", "archive")
    assert "proxy ARP for 203.0.113.9 on out0" in far.lattice("diff", "intent.yaml", "archive")[1]
    far.edge.inside("ip", "neighbour", "delete", "proxy", "203.0.113.9", "dev", "out0")
    # IPsec takes packets another way than any rule or route says.
    tunnel = "src 10.40.10.0/24 dst 192.0.2.0/24 dir out tmpl src 203.0.113.2 dst 192.0.2.9 proto esp mode tunnel"
    far.edge.inside("ip", "xfrm", "policy", "add", *tunnel.split())
    far.lattice("capture", "intent.yaml", "--into", "archive")
    code, said = far.lattice("prove", "intent.yaml", "archive")
    assert code == 1 and "not decided" in said and "detours.txt:2" in said, said


@pytest.mark.real
@live
def test_who_is_not_known_is_refused(far: Site) -> None:
    text = far.intent.read_text()
    causes = {
        "known-hosts: known": ("known-hosts: nobody", "its host key is not known"),
        "key: user": ("key: other", "the login was refused"),
        "ssh: 10.99.0.2,": ("ssh: 10.99.0.2, port: 2222,", "it refuses the connection"),
    }
    for right, (wrong, cause) in causes.items():
        far.intent.write_text(text.replace(right, wrong))
        code, said = far.lattice("capture", "intent.yaml", "--into", "archive")
        assert code == 2 and cause in said and "0 devices captured" in said
    # Another key than the one that is known.
    far.intent.write_text(text)
    (far.folder / "known").write_text("10.99.0.2 " + (far.folder / "other.pub").read_text())
    code, said = far.lattice("capture", "intent.yaml", "--into", "archive")
    assert code == 2 and "its host key is not known, or is another one" in said and "SHA256:" in said


@pytest.mark.real
@live
def test_a_change_is_made_and_kept_or_goes_back(far: Site) -> None:
    assert far.push()[1]["reason"].startswith("lattice: archive: this is no archive")
    far.lattice("capture", "intent.yaml", "--into", "archive")
    assert far.push()[1]["outcome"] == "none"
    far.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    code, found = far.push()
    assert code == 2 and "not any more as it was captured" in found["reason"]
    far.lattice("capture", "intent.yaml", "--into", "archive")
    code, found = far.push()
    assert (code, found["outcome"]) == (0, "kept"), found
    assert "masquerade" in far.look()
    assert far.lattice("diff", "intent.yaml", "archive@good")[0] == 0
    # A change that cuts the way to the device comes back alone.
    before = far.look()
    text = far.intent.read_text()
    far.intent.write_text(text.replace("10.99.0.2/24", "10.99.0.77/24"))
    code, found = far.push("--seconds", "3")
    assert (code, found["outcome"]) == (1, "back"), found
    assert far.look() == before
    # One that fails half-way does so at once.
    far.intent.write_text(
        text.replace(
            "routes: [",
            "routes: [{to: 10.9.0.0/16, via: 203.0.113.9}, {to: 10.8.0.0/16, via: 10.7.7.7, interface: out0}, ",
        )
    )
    begin = time.monotonic()
    code, found = far.push("--seconds", "50")
    assert (code, found["outcome"]) == (1, "back"), found
    assert far.look() == before and time.monotonic() - begin < 25


@pytest.mark.real
@live
def test_whenever_it_is_cut_the_device_is_old_or_new(near: Site) -> None:
    near.lattice("capture", "intent.yaml", "--into", "archive")
    new = near.look()
    near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    old = near.look()
    assert old != new
    begin = time.monotonic()
    assert near.push("--seconds", "20")[1]["outcome"] == "kept"
    whole = time.monotonic() - begin  # more on a busy machine
    near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    subprocess.run(["rm", "-rf", str(HOME)], check=False)
    chance, seen = Random(4), set()
    for _ in range(10):
        pusher = subprocess.Popen(
            near.command("push", "intent.yaml", "archive", "--device", EDGE, "--yes", "--seconds", "1"),
            cwd=near.folder, env=near.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        with suppress(subprocess.TimeoutExpired):
            pusher.wait(chance.uniform(0.3, 1.2) * whole)
        pusher.kill()
        pusher.wait()
        near.edge.becomes(
            lambda: [each for each in HOME.glob("*/end") if not (each.parent / "outcome").exists()], [], 10
        )
        outcome = max((each.stat().st_mtime, each.read_text().strip()) for each in HOME.glob("*/outcome"))[1] if [
            *HOME.glob("*/outcome")] else ""  # fmt: skip
        look = near.look()
        assert (look, outcome) in ((old, ""), (old, "back"), (new, "kept")), outcome
        seen.add(outcome)
        whole *= 0.9 if outcome else 1.25  # the machine may be busier, or less so, than when it was measured
        assert near.lattice("push", "intent.yaml", "archive", "--device", EDGE, "--back")[0] == 0
        if look == new:
            near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
            near.lattice("capture", "intent.yaml", "--into", "archive")
        subprocess.run(["rm", "-rf", str(HOME)], check=False)
    assert len(seen) > 1, f"the cuts were all alike: {seen}"


@pytest.mark.real
@live
@pytest.mark.parametrize("wanted", [True, False])
def test_a_push_that_was_cut_off_goes_on_if_its_change_is_what_the_intent_says(near: Site, wanted: bool) -> None:
    near.lattice("capture", "intent.yaml", "--into", "archive")
    assert near.push(how="--resume")[1]["outcome"] == "none"
    near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    old = near.look()
    command = near.command("push", "intent.yaml", "archive", "--device", EDGE, "--yes", "--seconds", "50")
    pusher = subprocess.Popen(
        command, cwd=near.folder, env=near.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    near.edge.becomes(lambda: [each.read_text() for each in HOME.glob("*/state")], ["applied\n"], 30)
    pusher.kill()
    pusher.wait()
    if not wanted:
        near.intent.write_text(near.intent.read_text().replace("name: rest,", "name: rest, source: 10.40.10.0/25,"))
    code, found = near.push(how="--resume")
    assert (code, found["outcome"]) == ((0, "kept") if wanted else (1, "back")), found
    assert (near.look() == old) != wanted
    if wanted:
        assert near.lattice("diff", "intent.yaml", "archive@good")[0] == 0


@pytest.mark.real
@live
def test_rules_of_iptables_and_settings_of_the_kernel_are_pushed_too(near: Site) -> None:
    near.edge.inside("nft", "flush", "ruleset")
    text = near.intent.read_text().replace("[iproute2, nftables]", "[iproute2, iptables, sysctl]")
    near.intent.write_text(
        text.replace(
            "    interfaces:", "    settings: {forwarding: true, reverse-path: loose}\n    interfaces:"
        ).replace("from: inside, to: outside, source-b", "to: outside, source: 10.40.10.0/24, source-b")
    )
    near.edge.inside("sysctl", "-qw", "net.ipv4.ip_forward=0")
    near.edge.inside("iptables", "-t", "nat", "-A", "POSTROUTING", "-o", "out0", "-j", "MASQUERADE")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    rules, forwards = near.edge.inside("iptables-save"), near.edge.inside("sysctl", "net.ipv4.ip_forward")
    code, found = near.push()
    assert (code, found["outcome"]) == (0, "kept"), found
    assert near.lattice("diff", "intent.yaml", "archive@good")[0] == 0
    assert "DNAT --to-destination 10.40.10.7" in near.edge.inside("iptables-save")
    assert near.edge.inside("sysctl", "net.ipv4.ip_forward") != forwards and "DNAT" not in rules


@pytest.mark.real
@live
def test_permits_of_both_families_are_pushed_too(near: Site) -> None:
    near.edge.inside("nft", "flush", "ruleset")
    text = near.intent.read_text().replace("[iproute2, nftables]", "[iproute2, iptables, ip6tables]")
    text = text.replace("from: inside, to: outside, source-b", "to: outside, source: 10.40.10.0/24, source-b")
    near.intent.write_text(
        text + "    permits: [{derive: translations}, {name: mail, from: inside, to: outside, service: tcp/25}]\n"
    )
    near.edge.inside("ip6tables", "-A", "FORWARD", "-j", "ACCEPT")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    code, found = near.push()
    assert (code, found["outcome"]) == (0, "kept"), found
    for program in ("iptables-save", "ip6tables-save"):
        rules = near.edge.inside(program)
        assert ":FORWARD DROP" in rules and "--dport 25" in rules and "-A FORWARD -j ACCEPT" not in rules
    assert near.lattice("prove", "intent.yaml", "archive@good")[0] == 0


# FRRouting of a namespace is told where its sockets are.
ITS_FRR = """dialect = "frr-here"
title = "FRRouting with its sockets in a folder"
like = "frr"
[running]
apply = "vtysh --vty_socket FOLDER -f /dev/stdin"
look = "vtysh --vty_socket FOLDER -c 'show running-config'"
[running.capture]
"running.conf" = "vtysh --vty_socket FOLDER -c 'show running-config'"
"""


@pytest.mark.real
@live
@frr
def test_routes_of_frrouting_are_pushed_too(near: Site) -> None:
    edge, text = near.edge, near.intent.read_text().replace("[iproute2, nftables]", "[frr-here, nftables]")
    (near.folder / "dialects").mkdir()
    (near.folder / "dialects" / "frr-here.toml").write_text(ITS_FRR.replace("FOLDER", str(edge.folder)))
    near.intent.write_text(text.replace("routes: [", "routes: [{to: 10.8.0.0/16, via: 10.40.10.9, distance: 20}, "))
    edge.inside("sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
    edge.start_frr()
    meant = al.load(near.intent).device(EDGE)
    catalogue = catalogue_beside(near.intent)
    edge.load("frr", "frr.conf", al.render(meant, catalogue)[0].text)
    edge.vtysh("-c", "configure", "-c", "no ip route 10.8.0.0/16 10.40.10.9 20", "-c", "ip route 10.9.0.0/16 blackhole")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    code, found = near.push()
    assert (code, found["outcome"]) == (0, "kept"), found
    running = edge.vtysh("-c", "show running-config")
    assert "ip route 10.8.0.0/16 10.40.10.9 20" in running and "10.9.0.0/16" not in running
    assert near.lattice("prove", "intent.yaml", "archive@good")[0] == 0
    # What it cannot say is refused before anything is done.
    before = edge.vtysh("-c", "show running-config")
    near.intent.write_text(near.intent.read_text().replace("distance: 20", "distance: 300"))
    assert near.push()[0] == 2 and edge.vtysh("-c", "show running-config") == before


@pytest.mark.real
@live
def test_of_several_at_once_one_wins_and_a_guard_that_is_killed_has_another(near: Site) -> None:
    near.lattice("capture", "intent.yaml", "--into", "archive")
    near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    old = near.look()
    command = near.command("push", "intent.yaml", "archive", "--device", EDGE, "--yes", "--format", "json")
    patient = [*command, "--seconds", "300"]  # three at once, on a machine that is busy with other tests
    pushers = [
        subprocess.Popen(
            patient, cwd=near.folder, env=near.env, stdout=subprocess.PIPE, text=True, stderr=subprocess.PIPE
        )
        for _ in range(3)
    ]
    said = [each.communicate()[0] for each in pushers]
    outcomes = [json.loads(each)["outcome"] for each in said if each]
    assert outcomes.count("kept") == 1 and {*outcomes} <= {"kept", "back", "none"}
    # The guard is killed while the change waits to be confirmed; the other one goes back.
    near.edge.inside("nft", "flush", "chain", "ip", "lattice", "departure")
    near.lattice("capture", "intent.yaml", "--into", "archive")
    subprocess.run(["rm", "-rf", str(HOME)], check=True)
    pusher = subprocess.Popen(
        [*command, "--seconds", "3"], cwd=near.folder, env=near.env, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    near.edge.becomes(lambda: len([*HOME.glob("*/state")]), 1, 20)
    pusher.kill()
    pusher.wait()
    guards = subprocess.run(
        ["pgrep", "-f", "guard.sh .* 3$"], capture_output=True, text=True, check=False
    ).stdout.split()
    assert guards
    subprocess.run(["kill", "-9", *guards], check=False)
    near.edge.becomes(lambda: [each.read_text().strip() for each in HOME.glob("*/outcome")], ["back"], 15)
    assert near.look() == old


def test_secrets_are_nowhere(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    planted = [f"Zq{at}SECRETzq{at}" for at in range(50)]
    secrets = "".join(f"neighbor 10.0.0.{at} password {each}\n" for at, each in enumerate(planted))
    (tmp_path / "running").write_text(f"hostname quay\nip route 10.9.0.0/16 10.0.0.9\n{secrets}")
    (tmp_path / "dialects").mkdir()
    frr = (Path(al.__file__).parent / "dialects/catalogue/frr.toml").read_text()
    mine = frr.replace('dialect = "frr"', 'dialect = "mine"').replace(
        "vtysh -c 'show running-config'", f"cat {tmp_path}/running"
    )
    (tmp_path / "dialects" / "mine.toml").write_text(mine)
    intent = tmp_path / "intent.yaml"
    intent.write_text(
        "lattice: 1\ndevices:\n  quay: {speaks: mine, connection: local, interfaces: {lan0: {address: 10.0.0.1/24}}}\n"
    )
    archive = tmp_path / "archive"
    assert main(["capture", str(intent), "--into", str(archive)]) == 0
    assert main(["diff", str(intent), str(archive)]) == 1
    said = "".join(capsys.readouterr())
    git = ["git", "--git-dir", str(archive), "cat-file", "--batch-all-objects", "--batch"]
    objects = subprocess.run(git, capture_output=True, check=True).stdout.decode(errors="replace")
    assert "sealed:" in objects and objects.count("sealed:") == 50
    for each in planted:
        assert each not in said and each not in objects
    # Equal secrets stay equal, and two keys seal them in two ways.
    patterns = [re.compile(each) for each in BUILT_IN.dialect("frr").running.secrets]
    one, other = (sealed("password tide\npassword tide\n", patterns, key) for key in (b"a", b"b"))
    assert len({*one.splitlines()}) == 1 and one != other
    assert sealed(one, patterns, b"b") == one


def test_an_archive_is_whole_or_says_what_is_wrong(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    intent = tmp_path / "intent.yaml"
    body = textwrap.dedent("""\
        lattice: 1
        devices:
          quay: {speaks: hosts, connection: local}
          pier: {speaks: ietf-yang, connection: local}
          buoy: {speaks: hosts}
    """)
    intent.write_text(body)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "file").write_text("mine")
    assert main(["capture", str(intent), "--into", str(tmp_path / "full")]) == 2
    assert "no archive" in capsys.readouterr().err
    archive = tmp_path / "archive"
    assert main(["capture", str(intent), "--into", str(archive)]) == 2, "one of them was not captured"
    said = capsys.readouterr().out
    assert "the dialect ietf-yang does not say" in said and "1 device captured" in said and "buoy" not in said
    assert main(["capture", str(intent), "--into", str(archive), "--device", "buoy"]) == 2
    assert "does not say how it is reached" in capsys.readouterr().out
    assert main(["diff", str(intent), str(archive), "--device", "pier"]) == 2
    assert "there is no capture of pier" in capsys.readouterr().err
    kept = Archive(archive)
    assert kept.devices(kept.revision()) == ["quay"]
    assert kept.texts(kept.revision(), "quay") == {"hosts": Path("/etc/hosts").read_text()}
    with pytest.raises(ArchiveError, match="no captures of main~7"):
        kept.revision("main~7")
    assert main(["push", str(intent), str(archive), "--device", "quay", "--yes"]) in (0, 2)


@pytest.mark.real
@live
def test_a_guard_begins_only_where_it_is_expected_and_says_if_it_cannot_go_back(near: Site) -> None:
    session = Session(EDGE, Connection("namespace", near.edge.space))
    look = "ip route\n"
    before = session.run(look).output
    add, delete = (f"ip route {what} 10.9.0.0/16 via 203.0.113.9\n" for what in ("add", "delete"))
    assert carry(session, Load(add, delete, look, "something else\n", 5)).settled((), 10) == "moved"
    assert session.run(look).output == before
    assert carry(session, Load("false\n", "true\n", look, before, 60)).settled((), 5) == "back", "at once"
    begin = time.monotonic()
    late = carry(session, Load(add, delete, look, before, 1))
    assert late.settled(("applied",), 10) == "applied" and session.run(look).output != before
    assert late.settled((), 10) == "back" and time.monotonic() - begin < 8
    assert late.decide("confirm") == "back", "too late"
    assert session.run(look).output == before
    slow = carry(session, Load(f"{add}sleep 30\n", delete, look, before, 1))
    assert slow.settled((), 10) == "back" and session.run(look).output == before
    assert carry(session, Load(f"{add}false\n", "true\n", look, before, 5)).settled((), 10) == "stuck"


SEND = """
import socket, sys
socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendto(b"x", (sys.argv[1], int(sys.argv[2])))
"""


@pytest.mark.real
@live
@pytest.mark.skipif(not present("conntrack"), reason="needs conntrack")
@pytest.mark.parametrize(
    ("speaks", "gone"),
    [("nftables", "nft flush chain ip lattice departure"), ("iptables, ip6tables", "iptables -t nat -F POSTROUTING")],
)
def test_what_is_in_use_is_told_with_the_rule_that_made_it(speaks: str, gone: str, tmp_path: Path) -> None:
    text = INTENT.replace("[iproute2, nftables]", f"[iproute2, {speaks}]")
    text = text.replace("from: inside, to: outside, source-b", "to: outside, source: 10.40.10.0/24, source-b")
    with Machine("edge") as edge, Machine("inside") as inside, Machine("outside") as outside, Machine("desk") as desk:
        edge.cable("in0", inside.space, "eth0")
        edge.cable("out0", outside.space, "eth0")
        edge.cable("mgmt0", desk.space, "eth0")
        edge.inside("sysctl", "-qw", "net.ipv4.ip_forward=1")
        site = Site(edge, desk, tmp_path, f"{{namespace: {edge.space}}}", text)
        for host, address, gateway in (
            (inside, "10.40.10.7/24", "10.40.10.1"),
            (outside, "203.0.113.9/28", "203.0.113.2"),
        ):
            host.inside("ip", "address", "add", address, "dev", "eth0")
            host.inside("ip", "route", "add", "default", "via", gateway)
        inside.inside(sys.executable, "-c", SEND, "203.0.113.9", "53")
        # A host that says nothing: a refused connection is forgotten at once.
        silent = "table ip f {\nchain i {\ntype filter hook input priority 0\ntcp dport 443 drop\n}\n}\n"
        inside.inside("nft", "-f", "-", input=silent)
        outside.inside("sh", "-c", "timeout 1 bash -c 'echo > /dev/tcp/203.0.113.5/443' || true")
        inside.inside(sys.executable, "-c", SEND, "203.0.113.12", "53")  # where nobody is
        inside.inside(sys.executable, "-c", SEND, "198.51.100.9", "53")  # and nobody is the next hop
        code, said = site.lattice("observe", "intent.yaml", "--device", EDGE, "--format", "json")
        assert code == 0, said
        found = json.loads(said)
        made = {each["sent"]["destination"]: (each["seen"]["source"], each["seen"]["destination"], each["rules"])
                for each in found["in_use"]}  # fmt: skip
        assert made["203.0.113.9"] == ("203.0.113.2", "203.0.113.9", ["translation rest"])
        assert made["203.0.113.5"] == ("203.0.113.9", "10.40.10.7", ["translation web"])
        assert {each["rule"]: each["count"] for each in found["hits"]} == {"web": 1, "rest": 3}
        failed = {each["address"]: each["routes"] for each in found["silent"]}
        assert failed == {"203.0.113.12": [], "203.0.113.1": ["0.0.0.0/0"]}
        wanted = {each["name"]: each["carrier"] for each in found["interfaces"] if each["wanted"]}
        assert wanted == {"in0": True, "out0": True, "mgmt0": True}
        # What was translated goes on being so when its rule is gone, and that is said.
        edge.inside(*gone.split())
        outside.inside("ip", "link", "set", "eth0", "down")
        code, said = site.lattice("observe", "intent.yaml", "--device", EDGE)
        said = " ".join(said.split())
        assert code == 0 and "no rule any more" in said and "1 rule, 4 translations in use" in said
        assert "out0 has no carrier" in said and "2 of 3 interfaces with carrier" in said
        assert "of a rule that is not there any more" in said


LAMPS = r"""dialect = "lamps"
title = "Lamps"
[running.capture]
"lamps.txt" = "echo lamp hall; echo lamp quay; echo lamp attic"
[running.observe]
neighbours = {ask = "no-program-here", tells = {address = '^([^ ]+)', interface = ' ([^ ]+) ', failed = '(out)$'}}
[running.observe.interfaces]
ask = "echo hall up 3; echo quay out many; echo nothing"
tells = {interface = '^(hall|quay)', carrier = ' (up) ', received_errors = ' ([^ ]+)$'}
[running.observe.translations]
ask = "echo it is late; false"
[running.observe.translations.tells]
protocol = '(p)'
source = '(s)'
destination = '(d)'
back_source = '(s)'
back_destination = '(d)'
[types]
interface = {is = "word", pattern = '[a-z]+'}
[[forms]]
name = "lamps"
file = "lamps.txt"
carries = ["interfaces"]
syntax = {kind = "lines"}
statements = "lamp <interface>   => interface"
"""


def test_what_a_device_of_ones_own_is_doing_is_asked_and_read_as_its_dialect_says(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    dialect = tmp_path / "dialects" / "lamps.toml"
    dialect.parent.mkdir()
    dialect.write_text(LAMPS)
    intent = tmp_path / "intent.yaml"
    intent.write_text(
        "lattice: 1\ndevices: {pier: {speaks: lamps, connection: local, interfaces: {hall: {}, quay: {}}}}\n"
    )
    assert main(["observe", str(intent), "--device", "pier", "--format", "json"]) == 0
    found = json.loads(capsys.readouterr().out)
    # A line that tells something else than it should tells nothing of that, and a question that fails is no more.
    assert found["interfaces"] == [
        {"name": "hall", "carrier": True, "wanted": True, "received_errors": 3, "sent_errors": None},
        {"name": "quay", "carrier": False, "wanted": True, "received_errors": None, "sent_errors": None},
    ]
    assert found["unasked"] == [
        "neighbours (no-program-here is not there)",
        "translations (`echo it is late; false` failed)",
    ]
    # What another dialect asks is asked, too: here of this system.
    dialect.write_text(LAMPS.replace("[running.capture]", '[running]\nobserve_like = "iproute2"\n[running.capture]')
                       .replace("[running.observe.interfaces]", "[[forms]]").partition("[[forms]]")[0]
                       + "[types]" + LAMPS.partition("[types]")[2])  # fmt: skip
    assert main(["observe", str(intent), "--device", "pier", "--format", "json"]) == 0
    there = {each["name"]: each["carrier"] for each in json.loads(capsys.readouterr().out)["interfaces"]}
    assert there["lo"] is True
    for old, new, said in (
        ("neighbours =", "doorbells =", "doorbells"),
        ("interface = '^(hall|quay)'", "lamp = '^(hall|quay)'", "`interfaces` does not tell 'lamp'"),
        ("interface = '^(hall|quay)', ", "", "`interfaces` has to tell 'interface', too"),
        ("'^(hall|quay)'", "'^hall'", "needs a group"),
        ("'^(hall|quay)'", "'^(hall'", "is not a regular expression"),
    ):
        dialect.write_text(LAMPS.replace(old, new))
        assert main(["observe", str(intent), "--device", "pier"]) == 2
        told = " ".join(capsys.readouterr().err.split())
        assert "lamps.toml:" in told and said in told, told
    dialect.write_text(LAMPS.replace("[running.capture]", '[running]\nobserve_like = "iproute"\n[running.capture]'))
    assert main(["observe", str(intent), "--device", "pier"]) == 2
    assert "did you mean 'iproute2'?" in capsys.readouterr().err
    like = [BUILT_IN.dialect(each).running.observe_like for each in BUILT_IN.names()]
    assert all(BUILT_IN.dialect(each).running.observe for each in like if each) and any(like)


def test_states_of_many_devices_are_read_as_each_by_itself(tmp_path: Path) -> None:
    archive = Archive.made(tmp_path / "archive")
    texts = {
        f"quay-{n}": {"é.txt": f"line {n}\n\n", "empty": "", "long": "x" * 70_000 + "\n0123 blob 7\n"}
        for n in range(12)
    }
    revisions = []
    for turn in range(2):
        changed = {name: {**files, "turn": f"{turn}\n"} for name, files in texts.items()}
        revisions.append(archive.write(changed, {}, "netops", datetime(2026, 11, 20, turn, tzinfo=UTC)))
    wanted = {name: revisions[at % 4 == 0] for at, name in enumerate(texts)}
    states = archive.states(wanted)
    assert states == {name: archive.texts(revision, name) for name, revision in wanted.items()}
    turns = {revision: f"{at}\n" for at, revision in enumerate(revisions)}
    assert all(states[name] == {**texts[name], "turn": turns[revision]} for name, revision in wanted.items())


def test_of_two_files_of_one_name_none_is_lost(tmp_path: Path) -> None:
    for folder in ("one", "other"):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "lan0.conf").write_text("[Network]\n")
    session = Session("quay", Connection("local"))
    assert list(ask(session, [("*", f"{tmp_path}/one/*")])) == ["lan0.conf"]
    with pytest.raises(TransportError, match=r"two of its files have one name.*lan0\.conf"):
        ask(session, [("*", f"{tmp_path}/one/* {tmp_path}/other/*")])


PAGE = os.sysconf("SC_PAGE_SIZE")


def bare_chain(site: Site) -> tuple[Session, str, str]:
    """Make a chain without rules; return a shell on the device, what looks at the chain, and what that prints now."""
    site.edge.inside("nft", "-f", "-", input="table ip t {\n\tchain c {\n\t}\n}\n")
    session, look = Session(EDGE, Connection("namespace", site.edge.space)), "nft -s list table ip t\n"
    return session, look, session.run(look).output


@pytest.mark.real
@live
def test_short_of_space_the_device_is_old_or_new_and_nothing_is_armed_without_a_way_back(near: Site) -> None:
    """From no page free to enough: the change is refused, or made with its way back, and never half of it."""
    session, look, before = bare_chain(near)
    rule = "add rule ip t c ip saddr 10.9.9.0/24 counter accept"
    load = Load(
        "set -e\nnft -f - <text-1\nsleep 1\nnft -f - <text-2\n", "nft -f - <text-3\n", look, before, 2,
        {"text-1": f"{rule}\n", "text-2": f"{rule}\n", "text-3": f"flush chain ip t c\n# {'-' * 3 * PAGE}\n"},
    )  # fmt: skip
    found = set()
    home = HOME
    home.mkdir(parents=True, exist_ok=True)
    for pages in [*range(4, 60, 2)]:
        subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={pages * PAGE}", "none", str(home)], check=True)
        try:
            try:
                carried = carry(session, load)
            except TransportError as error:
                found.add("refused")
                assert "there is no space" in str(error) or "not begun" in str(error)
            else:
                (home / "filler").write_bytes(b"")
                with suppress(OSError):
                    (home / "filler").write_bytes(b"-" * 2**20)  # all that was left goes to somebody else
                state = carried.settled(("applied",), 20)
                state = carried.settled(("kept", "back", "stuck", "unarmed"), 20) if state == "applied" else state
                assert state in ("back", "unarmed"), (pages, state)
                found.add(state)
            time.sleep(0.3)
            assert session.run(look).output == before, pages
        finally:
            subprocess.run(["umount", "-l", str(home)], check=True)
    assert {"refused", "back"} <= found


GUARD = (Path(al.__file__).parent / "push/guard.sh").read_text()


def killed_at(number: int) -> str:
    """The guard, of which the first is killed before a line; empty if no command can stand there."""
    lines = GUARD.split("\n")
    inside = number == 0 or lines[number - 1].endswith(("&&", "||", "\\")) or lines[number].startswith(("#", "else"))
    return "" if inside else "\n".join(["ROLE=$3", *lines[:number], '[ "$ROLE" ] || kill -9 $$', *lines[number:]])


KILLED = [each for each in range(GUARD.count("\n")) if killed_at(each)]


@pytest.mark.real
@live
@pytest.mark.parametrize("number", KILLED[:: max(1, len(KILLED) // examples(4))])
def test_wherever_a_guard_is_killed_the_device_is_as_it_was(
    near: Site, number: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Nobody confirms a change that is slower than its limit, and its guard is killed; the other one takes over."""
    monkeypatch.setattr(carrying, "guard", lambda: killed_at(number))
    session, look, before = bare_chain(near)
    rule = "nft add rule ip t c ip saddr 10.9.9.0/24 counter accept\n"
    load = Load(f"set -e\n{rule}sleep 2\n{rule}", "nft flush chain ip t c\n", look, before, 1, {})
    with suppress(TransportError):  # it did not begin
        assert carry(session, load).settled(("kept", "back", "stuck", "unarmed"), 6) in ("back", "unarmed", "")
    time.sleep(2)  # for as long as anything of the change could still run
    assert session.run(look).output == before


@pytest.mark.real
@live
def test_a_change_by_numbers_is_made_only_for_these_numbers(near: Site) -> None:
    edge = near.edge
    session = Session(EDGE, Connection("namespace", edge.space))
    text = "table ip t {\n\tchain c {\n\t\tip saddr 10.9.9.1 accept\n\t\tip saddr 10.9.9.2 accept\n\t}\n}\n"
    edge.inside("nft", "-f", "-", input=text)
    look, exact = "nft -s list table ip t\n", "nft -s -a list table ip t\n"
    before, numbers = session.run(look).output, session.run(exact).output
    load = Load("nft delete rule ip t c handle 2\n", "true\n", look, before, 5, {}, exact, numbers)
    edge.inside("nft", "-f", "-", input=f"delete table ip t\n{text}")  # the same, with other numbers
    assert carry(session, load).settled(("applied",), 10) == "moved"
    assert session.run(look).output == before


@pytest.mark.real
@live
def test_what_is_stuck_can_be_taken_back_later(near: Site) -> None:
    session = Session(EDGE, Connection("namespace", near.edge.space))
    mark = near.folder / "state-of-it"
    mark.write_text("old\n")
    load = Load(f"echo new >{mark}\nfalse\n", f"[ -e {mark}.ready ] && echo old >{mark}\n", f"cat {mark}\n", "old\n", 5)
    assert carry(session, load).settled(("kept", "back"), 20) == "stuck"
    with pytest.raises(TransportError, match="neither as it was nor as it was to be"):
        carry(session, load)
    assert take_back(session) == "stuck"
    Path(f"{mark}.ready").touch()
    assert take_back(session) == "back" and mark.read_text() == "old\n"
    assert take_back(session) == ""


def test_an_answer_without_end_is_bounded(tmp_path: Path) -> None:
    session = Session("quay", Connection("local", ""))
    with pytest.raises(TransportError, match="more than 64 MB"):
        session.run("cat /dev/zero", 30)
    with pytest.raises(TransportError, match="did not answer within"):
        session.run("sleep 20", 0.5)


SECRETS = """
ip rip authentication string Zq1
ipv6 ospf6 authentication key-id 1 hash-algo md5 key Zq2
ip ospf message-digest-key 1 md5 Zq3
neighbor 10.0.0.1 password Zq4
 key-string Zq5
isis password clear Zq6
snmp-server community Zq7 ro
  wpa-psk Zq8
Password=Zq9
  - secret: Zq10
{"auth-key": "Zq11"}
username tide secret 5 Zq12
"""


def test_whatever_follows_a_word_for_secrets_is_sealed() -> None:
    text = sealed(SECRETS, USUAL_SECRETS, b"key")
    assert "Zq" not in text
    kept = (
        'interface lan0\n description the key of the pier\n comment "password tide"\npasswd: files\nhosts: files dns\n'
    )
    assert sealed(kept, USUAL_SECRETS, b"key") == kept
