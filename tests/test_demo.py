"""The command line on the demo data: what a newcomer sees is what is there."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import agile_lattice as al
from agile_lattice.cli.main import main

DEMO = Path(__file__).parent.parent / "src" / "agile_lattice" / "demo"
INTENT = str(DEMO / "saltmarsh.yaml")

# The changes that `scripts/capture_demo.py` made by hand, as they must come back.
CHANGED = {
    "quay-edge": [
        ("differs", "address 10.40.10.1/24 on lan0", {"address": ("10.40.10.1/24", "10.40.10.254/24")}),
        ("differs", "interface pier0", {"description": ("Causeway to the pier", "causeway (Tom)")}),
        ("extra", "answering for 203.0.113.12 on wan0", {}),
        ("missing", "route 10.41.0.0/16 via 10.40.20.2", {}),
        (
            "differs", "translation staff-out",
            {"source-becomes": ("pool 203.0.113.8-203.0.113.11", "pool 203.0.113.8-203.0.113.12")},
        ),
        ("moved", "translation staff-out", {"order": ("before others-out", "after others-out")}),
    ],
    "pier-gate": [
        ("differs", "interface hall0", {"description": ("Ticket hall", "Ticket hall, new switch")}),
        ("differs", "route default via 10.40.20.1", {"distance": ("200", "20")}),
        ("extra", "route 192.0.2.0/24 via 10.41.10.7", {}),
        ("differs", "translation publish-gate-reader", {"service": ("tcp/4433", "tcp/4433, tcp/4434")}),
    ],
}  # fmt: skip


def printed(capsys: pytest.CaptureFixture[str], code: int, *argv: str) -> str:
    """Run a command that must end with a code and say nothing on the error stream."""
    assert main(list(argv)) == code
    streams = capsys.readouterr()
    assert streams.err == ""
    assert not re.search(r"[ ]+$|\x1b", streams.out, re.MULTILINE), "plain output has no escapes and no loose ends"
    return streams.out


def test_what_was_applied_is_what_was_meant(capsys: pytest.CaptureFixture[str]) -> None:
    out = printed(capsys, 0, "diff", INTENT, str(DEMO / "applied"))
    assert out == "quay-edge: the same as the intent\npier-gate: the same as the intent\n"


def test_every_change_made_by_hand_is_found_and_nothing_else(capsys: pytest.CaptureFixture[str]) -> None:
    data = json.loads(printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"), "--format", "json"))
    found = {
        each["device"]: [
            (one["change"], one["subject"], {f["name"]: (f["intent"], f["device"]) for f in one["fields"]})
            for one in each["differences"]
        ]
        for each in data
    }
    found["pier-gate"][-1][2]["service"] = tuple(
        text.replace("tcp/4433-4434", "tcp/4433, tcp/4434") for text in found["pier-gate"][-1][2]["service"]
    )
    assert found == CHANGED
    assert all(each["leftovers"] == [] and each["unseen"] == [] for each in data)
    for each in data:
        for one in each["differences"]:
            for side, change in (("intent", "extra"), ("device", "missing")):
                assert (one[side] is None) == (one["change"] == change), "a side that has it says where"
    text = printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"))
    for word in ("quay-edge: 6 differences (5 consequential, 1 a remark only)", "saltmarsh.yaml:35", "running.conf:13"):
        assert word in text


def test_only_what_was_captured_is_compared(capsys: pytest.CaptureFixture[str]) -> None:
    rules = str(DEMO / "applied/quay-edge/ruleset.nft")
    text = printed(capsys, 0, "diff", INTENT, rules, "--device", "quay-edge")
    for section in ("interfaces", "remarks", "answers", "routes"):
        assert f"Not compared: {section}." in text


def test_order_that_no_packet_notices_is_cosmetic(tmp_path: Path) -> None:
    device = al.load(INTENT).device("quay-edge")
    assert device is not None
    text = next(each.text for each in al.render(device) if each.dialect == "nftables")
    lines = text.splitlines()
    first = next(n for n, line in enumerate(lines) if "publish-booking" in line)
    lines[first], lines[first + 1] = lines[first + 1], lines[first]
    differences = al.diff(device, al.read("quay-edge", ["nftables"], {"swapped": "\n".join(lines)})).differences
    assert [(one.change, one.weight) for one in differences] == [("moved", "cosmetic")]


def test_what_is_read_renders_to_the_same_again(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    for name, speaks in (("quay-edge", "iproute2,nftables"), ("pier-gate", "frr,nftables")):
        captured = sorted((DEMO / "a-year-later" / name).iterdir())
        extra = name == "quay-edge" and [path for path in captured if path.name != "routes.json"]
        files = [str(path) for path in extra or captured]
        text = printed(capsys, 0, "read", "--speaks", speaks, "--device", name, *files)
        device = al.loads(text).device(name)
        assert device is not None
        rendered = {each.file: each.text for each in al.render(device)}
        again = al.read(name, device.speaks, rendered)
        assert al.diff(device, again).same


def test_render_writes_all_or_nothing(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    into = tmp_path / "rendered"
    listed = printed(capsys, 0, "render", INTENT, "--into", str(into)).splitlines()
    assert sorted(listed) == sorted(str(path) for path in into.rglob("*") if path.is_file())
    before = {path: path.read_text() for path in map(Path, listed)}
    assert printed(capsys, 0, "diff", INTENT, str(into)).count("the same as the intent") == 2
    bad = tmp_path / "bad.yaml"
    bad.write_text(Path(INTENT).read_text().replace("description: Radio link", "description: Radio link, mtu: 1400"))
    assert main(["render", str(bad), "--into", str(into)]) == 2
    assert "interface sea0, `mtu`: frr cannot express it" in capsys.readouterr().err
    assert {path: path.read_text() for path in into.rglob("*") if path.is_file()} == before


def test_the_draft_has_its_mistakes(capsys: pytest.CaptureFixture[str]) -> None:
    assert printed(capsys, 0, "check", INTENT).endswith("saltmarsh-ferries: 1 accepted\n")
    data = json.loads(printed(capsys, 1, "check", str(DEMO / "draft.yaml"), "--format", "json"))
    assert [(one["slug"], one["place"]["line"]) for one in data["findings"]] == [
        ("host-in-other-zone", 10), ("private-source-leaves", 20), ("edge-address", 21), ("vlan-unsaid", 23),
        ("loopback-length", 24), ("forwarding-loop", 27), ("host-bits", 27), ("next-hop-off-link", 28),
        ("summary-too-wide", 29), ("exemption-too-broad", 31), ("clear-text", 32), ("published-twice", 33),
        ("everything-published", 34), ("never-reached", 36), ("pool-takes-taken", 36), ("management-open", 38),
        ("link-ends-disagree", 43), ("egress-only-on-shared-link", 47),
    ]  # fmt: skip


def test_the_story_is_told_anywhere(tmp_path: Path) -> None:
    lattice = shutil.which("lattice", path=Path(sys.executable).parent)
    assert lattice is not None
    story = subprocess.run([lattice, "demo"], cwd=tmp_path, capture_output=True, text=True, check=True).stdout
    steps = ["1. What is meant", "bay-terminal: 12 errors, 6 warnings", "ip route 10.40.0.0/16 10.40.20.1",
             "quay-edge: the same as the intent", "a-year-later/quay-edge/links.json:60", "Your turn"]  # fmt: skip
    assert [step for step in steps if step not in story] == []
    assert sorted(map(story.index, steps)) == list(map(story.index, steps))
    help_text = subprocess.run([lattice, "--help"], capture_output=True, text=True, check=True).stdout
    assert all(f"lattice {command}" in help_text for command in ("check", "render", "read", "diff", "demo"))


@pytest.mark.parametrize(
    ("packet", "code", "says"),
    [
        ("10.40.10.7 203.0.113.77 tcp/25", 0, "translation staff-out (one of 203.0.113.8/30"),
        ("10.41.10.9 10.40.10.7 tcp/22", 0, "delivered: it reaches 10.40.10.7, on the link of lan0"),
        ("10.41.10.9 10.41.77.7 udp/53", 1, "discarded: pier-gate discards what goes to 10.41.0.0/16"),
        ("192.0.2.9 203.0.113.9 tcp/80 --at quay-edge:wan0", 0, "reaches the device: it is for quay-edge itself"),
    ],
)
def test_a_packet_is_followed_to_its_end(packet: str, code: int, says: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert says in printed(capsys, code, "walk", INTENT, *packet.split())
    data = json.loads(printed(capsys, code, "walk", INTENT, *packet.split(), "--format", "json"))
    first, last = data["visits"][0]["stages"][0], data["visits"][-1]["stages"][-1]
    assert first["before"]["source"] == packet.split()[0]
    assert (last["after"] is not None, data["answer"] is not None) == (True, code == 0)


def test_a_packet_of_ipv6_is_not_for_the_translations_of_ipv4(capsys: pytest.CaptureFixture[str]) -> None:
    text = printed(capsys, 0, "walk", INTENT, "2001:db8:40:10::9", "2001:db8:41:10::9", "icmp")
    assert "others-out" not in text and "2001:db8:1::2" not in text


def test_what_is_rendered_is_proven_and_what_was_changed_is_shown(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    printed(capsys, 0, "render", INTENT, "--prove", "--into", str(tmp_path / "texts"))
    assert "the same for every packet" in printed(capsys, 0, "prove", INTENT, str(tmp_path / "texts"))
    data = json.loads(printed(capsys, 1, "prove", INTENT, str(DEMO / "a-year-later"), "--format", "json"))
    gate = {each["parting"]["part"]: each["witness"] for each in data[1]["shown"]}
    assert gate["arrival"]["header"]["port"] == 4434, "it was not published, and is there"
    assert gate["way"]["header"]["destination"].startswith("192.0.2.")
    rules = str(DEMO / "applied/quay-edge/ruleset.nft")
    text = printed(capsys, 1, "prove", INTENT, rules, "--device", "quay-edge")
    assert "Not decided: no text speaks of routes." in text and "not decided for all" in text
    # What would not be the same is not written.
    monkeypatch.setattr(
        "agile_lattice.dialects.rendering.Shape.fill", lambda self, fact: "route replace 10.0.0.0/8 dev lo"
    )
    assert main(["render", INTENT, "--device", "quay-edge", "--prove", "--into", str(tmp_path / "bad")]) == 2
    assert not (tmp_path / "bad").exists()


def test_only_what_is_consequential(capsys: pytest.CaptureFixture[str]) -> None:
    text = printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"), "--only", "consequential")
    assert "a remark only" not in text and "quay-edge: 5 differences (5 consequential)" in text
    printed(capsys, 0, "diff", INTENT, str(DEMO / "a-year-later"), "--only", "cosmetic")
