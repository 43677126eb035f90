"""Wrong intents and damaged captures: one clear error each, with its place, and exit code 2."""

from __future__ import annotations

import random
import subprocess
import sys
from pathlib import Path

import pytest

from agile_lattice.cli.main import main
from where import DEMO

GOOD = """\
lattice: 1
names:
  hosts: {web: 10.40.10.11}
  networks: {staff: 10.40.10.0/24}
zones: {office: {exposure: own}, sea: {exposure: public}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces:
      wan0: {zone: sea, address: 203.0.113.2/28, description: to the mainland}
      lan0: {zone: office, address: 10.40.10.1/24}
    routes:
      - {to: default, via: 203.0.113.1, distance: 1}
    translations:
      - {name: publish-web, publish: 203.0.113.5, service: tcp/443, on: web, facing: sea}
      - {name: out, from: office, to: sea, source: staff, source-becomes: interface}
"""

# What is changed in GOOD, the line of the error, and what it says.
WRONG_INTENTS = {
    "wrong mask": ("203.0.113.2/28", "203.0.113.2/33", 10, "'33' is not a prefix length; IPv4 has /0 to /32"),
    "no mask": ("203.0.113.2/28", "203.0.113.2", 10, "has no prefix length"),
    "not an address": ("via: 203.0.113.1", "via: 203.0.113.300", 13, "'203.0.113.300' is not an IPv4 or IPv6 address"),
    "unknown key": ("distance: 1", "distnace: 1", 13, "Did you mean `distance`?"),
    "key with a bracket": ("lattice: 1", "lat[tice: 1", 1, "unknown key `lat[tice`"),
    "wrong type": ("distance: 1", "distance: far", 13, "expected a whole number, found 'far'"),
    "out of range": ("distance: 1", "distance: 0", 13, "expected a number of at least 1, found 0"),
    "duplicate key": ("zone: office, address", "zone: sea, zone: office, address", 11, "duplicate key 'zone'"),
    "undefined name": ("on: web", "on: wbe", 15, "Did you mean 'web'?"),
    "undefined destination": ("to: default", "to: staf", 13, "Did you mean 'staff'?"),
    "destination of another family": ("to: default, via: 203.0.113.1", 'to: staff, via: "2001:db8::1"', 13,
                                      "staff is IPv4 and the next hop IPv6"),
    "undefined zone": ("from: office", "from: offices", 16, "Did you mean 'office'?"),
    "circle": ("{staff: 10.40.10.0/24}", "{staff: [crew], crew: [staff]}", 4, "circular names: staff -> crew -> staff"),
    "line break": ("to the mainland", '"x\\n shutdown"', 10, "a line break or another control character"),
    "leads nowhere": ("via: 203.0.113.1, ", "via: 203.0.113.1, discard: true, ", 13, "either discards or has a"),
    "two kinds": ("on: web", "on: web, exempt: true", 15, "a translation is one of"),
    "bad yaml": ("devices:\n", "devices: [\n", 8, "not well-formed YAML"),
    "not an intent": (GOOD, "- just\n- a list\n", 1, "this is not an intent"),
    "other version": ("lattice: 1", "lattice: 2", 1, "2 cannot stand here"),
    "name twice": ("name: out", "name: publish-web", 16, "duplicate translation name 'publish-web'; first in"),
    "IPv6 translation": ("publish: 203.0.113.5", 'publish: "2001:db8::5"', 15, "is not IPv4"),
    "unknown dialect": ("nftables]", "nftable]", 0, "did you mean 'nftables'?"),
    "cannot be expressed": ("interface}\n", "{pool: 203.0.113.9, ports: kept}}\n", 16, "ports cannot be promised"),
    "smuggled quote": ("to the mainland", "'a\" up'", 10, "iproute2 cannot express it"),
    "no port there": ("tcp/443", "gre/443", 15, "gre has no ports"),
    "secret in the text": ("zone: sea,", "dial: {over: lan0, user: {environment: U}, password: pst},", 10,
                           "credentials never stand in the text"),
    "secret as a whole": ("zone: sea, address: 203.0.113.2/28", "dial: hunter2", 10, "this is not how a dial-up"),
    "no such parent": ("zone: sea,", "zone: sea, parent: lan9, vlan: 20,", 10, "'lan9' is not an interface of quay"),
    "no VLAN": ("zone: sea,", "zone: sea, parent: lan0, vlan: 4095,", 10, "neither a VLAN id, from 1 to 4094"),
    "sizes differ": ("publish: 203.0.113.5, service: tcp/443, on: web", "static: 203.0.113.4/30, on: 10.40.10.0/29", 15,
                     "not of one size"),
    "unfilled list": ("staff: 10.40.10.0/24", "staff: []", 16, "staff has no members yet"),
    "reserved elsewhere": ("becomes: interface", "becomes: {pool: 203.0.113.8/30, reserve: {web: 203.0.113.4}}", 16,
                           "is not in the pool"),
    "bad type": ("tcp/443", "icmp/echo-requst", 15, "Did you mean 'echo-request'?"),
    "endless alias": ("tcp/443", "&a [*a]", 15, "aliases repeat this endlessly"),
}  # fmt: skip


def refused(capsys: pytest.CaptureFixture[str], *argv: str) -> str:
    """Run a command that must be refused; return what it says."""
    code = main(list(argv))
    printed = capsys.readouterr()
    assert code == 2
    assert printed.out == ""
    assert "Traceback" not in printed.err
    assert "pst" not in printed.err and "hunter2" not in printed.err, "a secret is never printed"
    return printed.err


@pytest.mark.parametrize("case", WRONG_INTENTS)
def test_a_wrong_intent_is_refused_with_its_line(case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    old, new, line, says = WRONG_INTENTS[case]
    assert old in GOOD
    file = tmp_path / "quay.yaml"
    file.write_text(GOOD.replace(old, new, 1))
    error = refused(capsys, "render", str(file), "--into", str(tmp_path / "out"))
    assert says in error
    assert not line or f"{file}:{line}: " in error
    assert not (tmp_path / "out").exists()


def test_the_good_one_is_good(tmp_path: Path) -> None:
    file = tmp_path / "quay.yaml"
    file.write_text(GOOD)
    assert main(["render", str(file), "--into", str(tmp_path / "out")]) == 0
    assert {path.name for path in (tmp_path / "out" / "quay").iterdir()} == {"iproute2.batch", "nftables.nft"}


RULES = (DEMO / "applied/quay-edge/ruleset.nft").read_text()
DAMAGED = {
    "cut off": (RULES[: len(RULES) // 2].encode(), "the block opened here is never closed"),
    "closed twice": (RULES.encode() + b"}\n", "a block is closed that was never opened"),
    "binary": (random.Random(7).randbytes(4096), "this is not text"),
    "zero bytes": (RULES.encode().replace(b"chain", b"cha\0n"), "this is not text: it holds a zero byte"),
    "empty": (b"", "the file is empty"),
    "blank": (b" \n\n", "the file is empty"),
    "huge": (b"# nothing\n" * 5_300_000, "the file has 51 MB; at most 16 MB are read"),
    "JSON cut off": ((DEMO / "applied/quay-edge/routes.json").read_bytes()[:-300], "not well-formed JSON"),
    "something else": (b"Dear Tom,\nthe ferry is late.\n", "nothing in it can be understood as iproute2, nftables"),
}


@pytest.mark.parametrize("case", DAMAGED)
def test_a_damaged_capture_is_refused(case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    content, says = DAMAGED[case]
    file = tmp_path / "capture"
    file.write_bytes(content)
    error = refused(capsys, "diff", str(DEMO / "saltmarsh.yaml"), str(file), "--device", "quay-edge")
    assert f"{file}" in error
    assert says in error


@pytest.mark.parametrize(
    ("argv", "says"),
    [
        (["check", "nowhere.yaml"], "nowhere.yaml: cannot read the file"),
        (["diff", str(DEMO / "saltmarsh.yaml"), "nowhere"], "nowhere: there is no such file or folder"),
        (
            ["diff", str(DEMO / "saltmarsh.yaml"), str(DEMO / "draft.yaml")],
            "the device that these files belong to is missing",
        ),
        (["render", str(DEMO / "saltmarsh.yaml"), "--device", "quay-egde"], "Did you mean 'quay-edge'?"),
        (["render", str(DEMO / "saltmarsh.yaml"), "--into", "/dev/null/x"], "Not a directory"),
    ],
)
def test_what_is_not_there_is_said(argv: list[str], says: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert says in refused(capsys, *argv)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["chekc", "intent.yaml"], "there is no command 'chekc'\n    Did you mean `lattice check`?"),
        (["walk", "intent.yaml", "--plna"], "`lattice walk` does not take '--plna'\n    Did you mean `--plan`?"),
        (["diff", "a", "b", "--zzz"], "`lattice diff --help` says what it takes."),
    ],
)
def test_the_nearest_right_word_is_named(words: list[str], says: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(words) == 2
    assert says in capsys.readouterr().err


def test_a_shell_can_complete_words(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["--completion", "bash"]) == 0
    script = tmp_path / "lattice.bash"
    script.write_text(capsys.readouterr().out)
    words = "COMP_WORDS=(lattice walk intent.yaml --pl); COMP_CWORD=3"
    asked = f"source {script}; {words}; _shtab_lattice; echo ${{COMPREPLY[*]}}"
    done = subprocess.run(["bash", "-c", asked], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["--plan"]


@pytest.mark.parametrize(("module", "words", "extra"), [
    ("matplotlib", ("draw", "INTENT", "network.png"), "figures"),
    ("matplotlib", ("addresses", "INTENT", "--picture", "plan.png"), "figures"),
    ("jinja2", ("report", "INTENT", "page.html"), "report"),
])  # fmt: skip
def test_what_is_not_installed_is_named(
    module: str, words: tuple[str, ...], extra: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    using = ("agile_lattice.show.templates", "agile_lattice.show.report", "agile_lattice.show.fleet_report")
    for name in [each for each in sys.modules if each.split(".")[0] == module or each in using]:
        monkeypatch.delitem(sys.modules, name)
    monkeypatch.setitem(sys.modules, module, None)
    intent = str(DEMO / "saltmarsh.yaml")
    assert main([each.replace("INTENT", intent) for each in words]) == 2
    assert f"pip install 'agile-lattice[{extra}]'" in capsys.readouterr().err
    assert list(tmp_path.iterdir()) == []
