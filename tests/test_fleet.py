"""Many devices: what comes back does not depend on how many processes share the work."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.cli.main import main

DEMO = Path(al.__file__).parent / "demo"
COUNT = 6


@pytest.fixture(scope="module")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """So many devices like that of the demo, changed by hand, one of which has nothing that can be understood."""
    folder = tmp_path_factory.mktemp("fleet")
    network = al.load(DEMO / "saltmarsh.yaml")
    one = network.device("quay-edge")
    devices = tuple(replace(one, name=f"edge{number}") for number in range(COUNT))
    (folder / "fleet.yaml").write_text(al.write(replace(network, devices=devices, blocks=(), accepted=())))
    for each in devices:
        shutil.copytree(DEMO / "a-year-later" / "quay-edge", folder / "captures" / each.name)
    shutil.rmtree(folder / "captures" / "edge2")
    (folder / "captures" / "edge2").mkdir()
    (folder / "captures" / "edge2" / "rules").write_text("nothing of this is known\n")
    return folder


@pytest.mark.parametrize("command", ["diff", "prove", "mend", "diff --format json"])
def test_processes_that_share_the_work_say_the_same_as_one(
    command: str, fleet: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(fleet)
    name, *more = command.split()
    said = []
    for jobs in ("1", "3"):
        assert main([name, "fleet.yaml", "captures", "--jobs", jobs, *more]) == 2, "one of them failed"
        said.append(tuple(capfd.readouterr()))
    assert said[0] == said[1]
    out, err = said[0]
    assert "edge2" not in out and "lattice: edge2: captures/edge2/rules: nothing in it can be understood" in err
    assert all(f"edge{number}" in out for number in range(COUNT) if number != 2)


def test_a_device_that_is_alone_fails_as_it_did(fleet: Path, capfd: pytest.CaptureFixture[str]) -> None:
    captures = str(fleet / "captures" / "edge2")
    assert main(["diff", str(fleet / "fleet.yaml"), captures, "--device", "edge2"]) == 2
    assert capfd.readouterr().out == ""
    with pytest.raises(SystemExit):
        main(["diff", str(fleet / "fleet.yaml"), captures, "--device", "edge2", "--jobs", "0"])


def test_what_many_devices_differ_in_alike_is_told_once(
    fleet: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(fleet)
    rules = Path("captures/edge4/ruleset.nft")
    before = rules.read_text()
    rules.write_text(before + "table arp odd { }\n")
    try:
        assert main(["diff", "fleet.yaml", "captures", "--by-difference", "--format", "json"]) == 2
        found = json.loads(capfd.readouterr().out)
        assert main(["diff", "fleet.yaml", "captures", "--by-difference"]) == 2
        text = " ".join(capfd.readouterr().out.split())
    finally:
        rules.write_text(before)
    network = al.load("fleet.yaml")
    alone = [
        (each.device, one.change, one.section, one.subject)
        for each in (al.diff(network.device(name), al.read(name, ["iproute2", "nftables"], _texts(name)))
                     for name in ("edge0", "edge1", "edge3", "edge4", "edge5"))
        for one in each.differences
    ]  # fmt: skip
    told = [(name, each["change"], each["section"], each["subject"]) for each in found for name in each["devices"]]
    assert {*alone} == {each for each in told if each[1] != "not-compared"} and len(told) == len({*told})
    assert [each["devices"] for each in found if each["change"] == "not-compared"] == [["edge4"]]
    counts = [len(each["devices"]) for each in found]
    assert counts == sorted(counts, reverse=True) and counts[0] == 5
    assert "edge0, edge1" in text and "and 1 more" in text and "5 of 5 devices not as the intent" in text
    assert "not understood: table arp odd" in text and "not compared" in text


def _texts(name: str) -> dict[str, str]:
    return {each.name: each.read_text() for each in Path("captures", name).iterdir()}


def test_no_device_is_called_as_the_intent_that_is_not(capfd: pytest.CaptureFixture[str]) -> None:
    island = DEMO / "by-hand"
    typed = ["diff", str(island / "island.yaml"), str(island / "island-gate"), "--device", "island-gate"]
    assert main([*typed, "--by-difference"]) == 1
    said = " ".join(capfd.readouterr().out.split())
    assert "1 of 1 device not as the intent" in said and "rules that somebody else wrote" in said
    hidden = ["diff", str(DEMO / "saltmarsh.yaml"), str(DEMO / "a-year-later"), "--only", "no-effect"]
    assert main([*hidden, "--by-difference"]) == 1
    said = " ".join(capfd.readouterr().out.split())
    assert "other differences are not shown" in said and "2 of 2 devices not as the intent" in said
