"""The command line on the demo data: what a newcomer sees is what is there."""

from __future__ import annotations

import io
import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from rich.console import Console

import agile_lattice as al
from agile_lattice.cli import render
from agile_lattice.cli.main import main
from agile_lattice.plan.usage import plans
from agile_lattice.show.addresses import show_plan as show_addresses
from agile_lattice.show.flows import show_flows
from agile_lattice.show.probing import show_plan
from agile_lattice.show.proving import show_verdict
from agile_lattice.show.terminal import THEME
from agile_lattice.show.walking import show_walk
from where import DEMO

INTENT = str(DEMO / "saltmarsh.yaml")

# The changes that `scripts/capture_demo.py` made by hand, as they must come back.
CHANGED = {
    "quay-edge": [
        ("differs", "address 10.40.10.1/24 on lan0", {"address": ("10.40.10.1/24", "10.40.10.254/24")}),
        ("differs", "interface pier0", {"description": ("Causeway to the pier", "causeway (Tom)")}),
        ("extra", "proxy ARP for 203.0.113.12 on wan0", {}),
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
    assert not streams.err or streams.err.startswith("Running state only")
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
    counted = "quay-edge: 6 differences (5 change traffic, 1 description only)"
    for word in (counted, "saltmarsh.yaml:35", "running.conf:11"):
        assert word in text


def test_only_what_was_captured_is_compared(capsys: pytest.CaptureFixture[str]) -> None:
    rules = str(DEMO / "applied/quay-edge/ruleset.nft")
    text = printed(capsys, 1, "diff", INTENT, rules, "--device", "quay-edge")
    assert "no difference in what was compared" in text
    for section in ("interfaces", "descriptions", "answers", "routes"):
        assert f"Not compared: {section} (" in text


def test_order_that_no_packet_notices_is_cosmetic(tmp_path: Path) -> None:
    device = al.load(INTENT).device("quay-edge")
    assert device is not None
    text = next(each.text for each in al.render(device) if each.dialect == "nftables")
    lines = text.splitlines()
    first = next(n for n, line in enumerate(lines) if "publish-booking" in line)
    lines[first], lines[first + 1] = lines[first + 1], lines[first]
    differences = al.diff(device, al.read("quay-edge", ["nftables"], {"swapped": "\n".join(lines)})).differences
    assert [(one.change, one.effect) for one in differences] == [("moved", "no-effect")]


def test_what_is_read_renders_to_the_same_again(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    for name, speaks in (("quay-edge", "iproute2,nftables,sysctl"), ("pier-gate", "frr,nftables,sysctl")):
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
        ("host-in-other-zone", 10), ("edge-address", 21), ("vlan-unsaid", 23),
        ("loopback-length", 24), ("forwarding-loop", 27), ("host-bits", 27), ("next-hop-off-link", 28),
        ("summary-too-wide", 29), ("exemption-too-broad", 31), ("private-source-leaves", 31),
        ("clear-text", 32), ("published-twice", 33),
        ("everything-published", 34), ("external-address-taken", 36), ("never-reached", 36), ("management-open", 38),
        ("link-ends-disagree", 43), ("egress-only-on-shared-link", 47),
    ]  # fmt: skip


def test_the_story_is_told_anywhere(tmp_path: Path) -> None:
    lattice = shutil.which("lattice", path=Path(sys.executable).parent)
    assert lattice is not None
    story = subprocess.run([lattice, "demo"], cwd=tmp_path, capture_output=True, text=True, check=True).stdout
    steps = ["1. The intent", "bay-terminal: 12 errors, 6 warnings", "ip route 10.40.0.0/16 10.40.20.1",
             "quay-edge: the same as the intent", "a-year-later/quay-edge/links.json:60",
             "known to be good as captured", "slip-gate: the same for every packet",
             "slip-gate: 4 rules, 2 translations in use", "Your turn"]  # fmt: skip
    assert [step for step in steps if step not in story] == []
    assert sorted(map(story.index, steps)) == list(map(story.index, steps))
    help_text = subprocess.run([lattice, "--help"], capture_output=True, text=True, check=True).stdout
    assert all(f"lattice {command}" in help_text for command in ("check", "render", "read", "diff", "demo"))


@pytest.mark.parametrize(
    ("packet", "code", "says"),
    [
        ("10.40.10.7 203.0.113.77 tcp/25", 0, "translation staff-out (one of 203.0.113.8/30"),
        ("10.41.10.9 10.40.10.7 tcp/22", 0, "delivered to 10.40.10.7 on lan0"),
        ("10.41.10.9 10.41.77.7 udp/53", 1, "discarded: pier-gate discards packets to 10.41.0.0/16"),
        ("192.0.2.9 203.0.113.9 tcp/80 --at quay-edge:wan0", 0, "for quay-edge itself"),
    ],
)
def test_a_packet_is_followed_to_its_end(packet: str, code: int, says: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert says in printed(capsys, code, "walk", INTENT, *packet.split())
    data = json.loads(printed(capsys, code, "walk", INTENT, *packet.split(), "--format", "json"))
    first, last = data["visits"][0]["stages"][0], data["visits"][-1]["stages"][-1]
    assert first["before"]["source"] == packet.split()[0]
    assert (last["after"] is not None, data["answer"] is not None) == (True, code == 0)


def test_a_plan_has_a_packet_for_every_rule_and_one_beside_it(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    data = json.loads(printed(capsys, 0, "walk", INTENT, "--plan", "--format", "json"))
    hits = {(each["device"], each["part"], each["rule"]) for each in data["probes"] if each["hits"]}
    misses = {(each["device"], each["part"], each["rule"]) for each in data["probes"] if not each["hits"]}
    quay, gate = ("quay-edge", "pier-gate")
    assert {rule for device, _, rule in hits if device == quay} == {
        f"translation {name}" for name in ("pier-untouched", "publish-booking", "publish-timetable", "timetable-dns",
                                           "staff-out", "others-out")}  # fmt: skip
    assert hits == misses and (gate, "departure", "translation kiosks-out") in hits and data["untested"] == []
    # What a plan says becomes of a packet is what a walk says.
    for each in data["probes"]:
        header = each["header"]
        service = header["protocol"] + (f"/{header['port']}" if header["port"] is not None else "")
        words = header["source"], header["destination"], service, "--at", f"{each['device']}:{each['arrives']}"
        code = 1 if each["end"] in ("dropped", "discarded", "no route", "loop") or each["obstacle"] else 0
        assert each["reason"] in printed(capsys, code, "walk", INTENT, *words)
    text = printed(capsys, 0, "walk", INTENT, "--plan", "--device", gate)
    assert (
        "just outside the rule" in text and "out hall0 to 10.41.10.30" in text and quay not in text.partition("\n")[0]
    )
    # A rule that nothing reaches has no packet, and that is said.
    draft = printed(capsys, 1, "walk", str(DEMO / "draft.yaml"), "--plan")
    assert "Not tested: " in draft and "no packet reaches it" in draft


def test_a_list_of_flows_shows_both_ends_as_the_other_sees_them(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    flows = tmp_path / "flows"
    flows.write_text(
        "# regatta\n192.0.2.77 203.0.113.5 tcp/8080 quay-edge:wan0\n10.40.10.9 198.51.100.9 udp/53  # names\n"
        "gate-reader booking-web tcp/443\n\n10.41.10.5 10.40.99.1 icmp\n"
    )
    lines = printed(capsys, 1, "walk", INTENT, "--flows", str(flows)).splitlines()
    web, names, inside, lost = (next(line for line in lines if line.lstrip().startswith(start)) for start in (
        "192.0.2.77", "10.40.10.9", "10.41.10.30", "10.41.10.5"))  # fmt: skip
    assert web.split()[2:7] == ["10.40.20.11", "203.0.113.5", "tcp/8080", "->", "80"]
    assert names.split()[:3] == ["10.40.10.9", "203.0.113.8", "198.51.100.9"]
    assert (
        inside.count("unchanged") == 2
        and "discarded" in lost
        and "quay-edge discards packets to 10.40.0.0/16" in lines[-2]
    )
    assert lines[-1] == "4 flows, 1 stopped"
    flows.write_text("192.0.2.77 203.0.113.5\n")
    assert main(["walk", INTENT, "--flows", str(flows)]) == 2
    assert f"{flows}:1: '192.0.2.77 203.0.113.5' is not a packet" in capsys.readouterr().err
    for name, begins in (("walk.png", b"\x89PNG"), ("walk.svg", b"<?xml")):
        words = ["10.41.10.9", "10.40.10.7", "tcp/22"]
        printed(capsys, 0, "walk", INTENT, *words, "--picture", str(tmp_path / name))
        assert (tmp_path / name).read_bytes().startswith(begins)
    assert main(["walk", INTENT]) == 2 and "SOURCE, DESTINATION and SERVICE are missing" in capsys.readouterr().err


def test_an_intent_is_held_against_another_and_against_what_it_was(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    intent = tmp_path / "intent.yaml"
    intent.write_text(Path(INTENT).read_text())
    for words in (["init", "-q"], ["add", "."], ["-c", "user.name=a", "-c", "user.email=a@b", "commit", "-qm", "."]):
        subprocess.run(["git", "-C", str(tmp_path), *words], check=True)
    # Written otherwise, and the same.
    said = intent.read_text()
    written = said.replace("10.40.10.0/24, 10.41.20.0/24]", "10.40.10.0/25, 10.40.10.128/25, 10.41.20.0/24]")
    assert written != said
    intent.write_text(written)
    printed(capsys, 0, "prove", str(intent), "@HEAD")
    spared = "      - {exempt: true, to: open-sea, source: 203.0.113.9}\n"
    other = written.replace("      - {name: others-out", f"{spared}      - {{name: others-out")
    intent.write_text(other.replace("on: booking-web, internal-port: 80", "on: timetable-dns, internal-port: 80"))
    [quay] = json.loads(printed(capsys, 1, "prove", str(intent), INTENT, "--device", "quay-edge", "--format", "json"))
    witness = quay["shown"][0]["witness"]
    header = witness["header"]
    assert (witness["arrives"], header["destination"], header["port"]) == ("wan0", "203.0.113.5", 8080)
    assert "10.40.20.12 tcp/80" in witness["intent"] and "10.40.20.11 tcp/80" in witness["device"]
    data = json.loads(printed(capsys, 1, "prove", str(intent), "@HEAD", "--format", "json"))
    parts = [each["part"] for each in data[0]["proof"]["partings"]]
    assert parts == ["arrival", "departure"], "and packets with a source of its own pool are left alone"
    assert data[0]["proof"]["partings"][1]["region"]["matches"][0]["source"] == "203.0.113.9"
    assert main(["prove", str(intent), "@yore"]) == 2 and "cannot be read as of 'yore'" in capsys.readouterr().err


def test_a_packet_of_ipv6_is_not_for_the_translations_of_ipv4(capsys: pytest.CaptureFixture[str]) -> None:
    text = printed(capsys, 0, "walk", INTENT, "2001:db8:40:10::9", "2001:db8:41:10::9", "icmp")
    assert "others-out" not in text and "2001:db8:1::2" not in text


def test_what_is_rendered_is_proven_and_what_was_changed_is_shown(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    printed(capsys, 0, "render", INTENT, "--prove", "--into", str(tmp_path / "texts"))
    # What the systems do with packets as a whole, these texts do not say.
    told = printed(capsys, 1, "prove", INTENT, str(tmp_path / "texts"))
    assert "nothing says whether it forwards IPv4" in told
    for name in ("quay-edge", "pier-gate"):
        shutil.copy(DEMO / "applied" / name / "settings.conf", tmp_path / "texts" / name)
    assert "the same for every packet" in printed(capsys, 0, "prove", INTENT, str(tmp_path / "texts"))
    data = json.loads(printed(capsys, 1, "prove", INTENT, str(DEMO / "a-year-later"), "--format", "json"))
    gate = {each["parting"]["part"]: each["witness"] for each in data[1]["shown"]}
    assert gate["arrival"]["header"]["port"] == 4434, "it was not published, and is there"
    assert gate["way"]["header"]["destination"].startswith("192.0.2.")
    rules = str(DEMO / "applied/quay-edge/ruleset.nft")
    text = printed(capsys, 1, "prove", INTENT, rules, "--device", "quay-edge")
    assert "Not decided: no input covers routes." in text and "not decided for every packet" in text
    # What would not be the same is not written.
    monkeypatch.setattr(
        "agile_lattice.dialects.shapes.Shape.fill", lambda self, fact: "route replace 10.0.0.0/8 dev lo"
    )
    assert main(["render", INTENT, "--device", "quay-edge", "--prove", "--into", str(tmp_path / "bad")]) == 2
    assert not (tmp_path / "bad").exists()


def test_only_what_changes_traffic(capsys: pytest.CaptureFixture[str]) -> None:
    text = printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"), "--only", "changes-traffic")
    assert "description only" not in text and "quay-edge: 5 differences (5 change traffic), 1 more not shown" in text
    text = printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"), "--only", "no-effect")
    assert "distance: 20" in text and "proven for every packet" in text
    text = printed(capsys, 1, "diff", INTENT, str(DEMO / "a-year-later"), "--only", "may-change-traffic")
    assert "the same" not in text and "6 more not shown" in text


def test_a_change_says_that_nothing_is_held_back_where_nobody_said_what_to_hold(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    words = "lock-out protection is off: the intent declares no management path"
    guarded = tmp_path / "intent.yaml"
    guarded.write_text(
        Path(INTENT).read_text().replace("lan0: {zone: office,", "lan0: {management: true, zone: office,")
    )
    for intent, device, says in ((INTENT, "quay-edge", True), (str(guarded), "quay-edge", False)):
        main(["mend", intent, str(DEMO / "a-year-later" / device), "--device", device])
        assert (f"{device}: {words}" in " ".join(capsys.readouterr().err.split())) == says


def test_everything_is_a_data_frame_too() -> None:
    network = al.load(INTENT)
    frames = al.frames
    assert list(frames.routes(network).query("to == '10.41.0.0/16' and discard != ''").device) == ["pier-gate"]
    held = frames.addresses(network).groupby("device").size()
    assert held.to_dict() == {"quay-edge": 7, "pier-gate": 7}
    order = frames.translations(network).query("device == 'quay-edge'").sort_values("position").name
    assert list(order)[::5] == ["pier-untouched", "others-out"]
    assert frames.interfaces(network).mtu.tolist().count(1400) == 1
    draft = frames.findings(al.check(al.load(str(DEMO / "draft.yaml"))))
    assert draft.severity.value_counts().to_dict() == {"error": 12, "warning": 6}
    quay = network.device("quay-edge")
    assert quay is not None
    texts = {path.name: path.read_text() for path in (DEMO / "a-year-later/quay-edge").iterdir()}
    there = frames.differences([al.diff(quay, al.read(quay.name, quay.speaks, texts))])
    assert there[there.effect == "changes-traffic"].witness.str.contains("->").all() and len(there) > 4
    assert list(frames.differences([]).columns) == list(there.columns)


@pytest.mark.parametrize("width", [60, 80, 120])
def test_nothing_is_cut_off_in_a_narrow_terminal(width: int) -> None:
    network = al.load(INTENT)
    out = Console(width=width, file=io.StringIO(), theme=THEME, color_system=None)
    walks = [
        al.walk(network, "192.0.2.77", "203.0.113.5", "tcp/8080", at="quay-edge:wan0"),
        al.walk(network, "10.41.20.9", "203.0.113.77", "tcp/443"),
    ]
    for walk in walks:
        show_walk(out, walk)
    show_flows(out, walks)
    show_addresses(out, plans(network)[0], 1)
    show_plan(out, al.probes(network, network.devices))
    quay = network.device("quay-edge")
    assert quay is not None
    files = [(each.name, each.read_text()) for each in sorted((DEMO / "a-year-later" / quay.name).iterdir())]
    show_verdict(out, al.prove(quay, al.read(quay.name, quay.speaks, files)))
    text = out.file.getvalue()
    assert all(len(line) <= width for line in text.splitlines())
    assert "…" not in re.sub(r"…\S*saltmarsh|…\S*ya\b|…\S*/", "", text), "but the beginnings of paths"
    words = "".join(text.split())
    for walk in walks:
        assert all(stage.decided.replace(" ", "") in words for visit in walk.visits for stage in visit.stages)


def test_many_devices_are_told_in_few_lines(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    body = """
      speaks: frr
      interfaces: {lan0: {address: 10.N.10.1/24}}
    """
    piers = "".join(f"  pier-{n}:{body.replace('N', str(n))}\n" for n in range(40))
    (tmp_path / "piers.yaml").write_text(f"lattice: 1\ndevices:\n{piers}")
    intent, captures = str(tmp_path / "piers.yaml"), tmp_path / "captures"
    printed(capsys, 0, "render", intent, "--into", str(captures))
    out = printed(capsys, 0, "diff", intent, str(captures))
    assert out.startswith("40 devices are the same as the intent: pier-0, pier-1, ")
    changed = captures / "pier-7/frr.conf"
    changed.write_text(changed.read_text().replace("10.7.10.1", "10.7.10.2"))
    out = printed(capsys, 1, "diff", intent, str(captures))
    assert "address 10.7.10.1/24 on lan0" in out and "39 devices are the same as the intent" in out
    assert out.endswith("40 devices compared, 1 of them not as the intent says: 1 difference (1 changes traffic)\n")
    out = printed(capsys, 1, "diff", intent, str(captures), "--only", "no-effect")
    assert out.endswith("40 devices compared; of 1 device not all was compared, or is shown\n"), "there is one"


def test_a_device_that_was_not_captured_is_not_the_same(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    shutil.copytree(DEMO / "applied" / "quay-edge", tmp_path / "captures" / "quay-edge")
    captures = str(tmp_path / "captures")
    for typed in (["diff"], ["diff", "--by-difference"], ["prove"]):
        assert "pier-gate: no capture, so not compared" in printed(capsys, 1, *typed[:1], INTENT, captures, *typed[1:])
    found = json.loads(printed(capsys, 1, "diff", INTENT, captures, "--format", "json"))
    assert [(each["device"], each["captured"]) for each in found] == [("quay-edge", True), ("pier-gate", False)]
    [_, verdict] = json.loads(printed(capsys, 1, "prove", INTENT, captures, "--format", "json"))
    assert verdict["incomplete"] == ["no capture"]
    # Nothing is known of it, so that nothing of it is changed.
    assert main(["mend", INTENT, captures]) == 1
    said = capsys.readouterr()
    assert said.out == "Nothing to change in what was compared.\n"
    assert said.err == "pier-gate: no capture, so nothing is changed\n"
    for page in ("page.html", "page.md"):
        assert main(["report", INTENT, str(tmp_path / page), captures]) == 1
        assert "no capture" in (tmp_path / page).read_text()
    assert main(["report", INTENT, str(tmp_path / "pages"), captures]) == 1
    index = (tmp_path / "pages" / "index.html").read_text()
    assert "no capture, so not compared" in index and "no difference in what was compared" not in index
    assert main(["diff", INTENT, captures, "--device", "quay-egde"]) == 2
    assert "Did you mean 'quay-edge'?" in capsys.readouterr().err
    # Who asks for one device has an answer about that one.
    printed(capsys, 0, "diff", INTENT, captures, "--device", "quay-edge")


def test_the_files_of_the_story_can_be_taken_away(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    folder = tmp_path / "ferry"
    out = printed(capsys, 0, "demo", "--into", str(folder))
    assert out.splitlines()[-1] == str(folder / "saltmarsh.yaml")
    assert printed(capsys, 0, "diff", str(folder / "saltmarsh.yaml"), str(folder / "applied")).count("the same") == 2
    (folder / "saltmarsh.yaml").write_text("mine")
    assert main(["demo", "--into", str(folder)]) == 2
    assert "there is something already" in capsys.readouterr().err
    assert (folder / "saltmarsh.yaml").read_text() == "mine"


def test_who_interrupts_finds_nothing_half_done(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    def interrupted(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(render, "rendered", interrupted)
    assert main(["render", INTENT, "--into", str(tmp_path / "out")]) == 2
    assert capsys.readouterr().err == "lattice: interrupted\n" and not (tmp_path / "out").exists()


@pytest.mark.parametrize(
    ("packet", "code", "words"),
    [
        ("10.42.10.12 10.42.60.10 icmp", 1, ("ruleset.nft:16", "otherwise: delivered to 10.42.60.10 on cabin0")),
        ("10.42.10.12 192.0.2.9 tcp/443", 1, ("ruleset.nft:22", "ruleset.nft:36", "as far as it was captured")),
        (
            "192.0.2.9 198.51.100.18 tcp/80 --at island-gate:main0",
            1,
            ("ruleset.nft:30", "ruleset.nft:9", "island-gate: routes"),
        ),
        # The line with the rate could let it pass.
        (
            "192.0.2.9 10.42.60.12 udp/53 --at island-gate:main0",
            1,
            ("dropped or passed on", "ruleset.nft:11 (limit rate 10/second)", "not decided"),
        ),
    ],
)
def test_a_packet_is_followed_through_what_a_device_has_beside_the_intent(
    packet: str,
    code: int,
    words: tuple[str, ...],
    capsys: pytest.CaptureFixture[str],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.chdir(DEMO / "by-hand")
    captured = ["--captured", "island-gate", "--device", "island-gate"]
    assert main(["walk", "island.yaml", *packet.split(), *captured]) == code
    said = capsys.readouterr().out
    assert all(each in said for each in words), said
    as_meant = said.split("as captured")[0]
    assert "island.yaml" in as_meant and "ruleset.nft" not in as_meant


def test_a_packet_that_goes_the_same_way_is_said_to(capsys: pytest.CaptureFixture[str]) -> None:
    words = ["192.0.2.77", "203.0.113.5", "tcp/443", "--at", "quay-edge:wan0", "--captured"]
    assert main(["walk", str(DEMO / "saltmarsh.yaml"), *words, str(DEMO / "applied")]) == 0
    assert "the same on both" in capsys.readouterr().out
