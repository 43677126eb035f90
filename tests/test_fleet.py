"""Many devices: what comes back does not depend on how many processes share the work."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import threading
from pathlib import Path

import pytest
from distributed import LocalCluster
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.checks.registry import CHECKS, example_intent, findings
from agile_lattice.cli.main import main
from agile_lattice.cli.parallel import MANY
from agile_lattice.demo.growing import drifted, write_grown
from agile_lattice.fleet import cluster as cluster_of
from agile_lattice.fleet.checking import checked
from agile_lattice.fleet.intents import load_large
from agile_lattice.fleet.store import Store, usual_store
from agile_lattice.intent.model import Network
from agile_lattice.notation.errors import NotationError
from agile_lattice.notation.loading import shaped
from agile_lattice.notation.resolving import Source
from where import DEMO

COUNT = 6


def write_fleet(folder: Path, count: int) -> None:
    """Write so many devices like that of the demo, and their captures, changed by hand."""
    network = al.load(DEMO / "saltmarsh.yaml")
    one = network.device("quay-edge")
    devices = tuple(replace(one, name=f"edge{number}") for number in range(count))
    (folder / "fleet.yaml").write_text(al.write(replace(network, devices=devices, blocks=(), accepted=())))
    for each in devices:
        shutil.copytree(DEMO / "a-year-later" / "quay-edge", folder / "captures" / each.name)


@pytest.fixture(scope="module")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A few devices, one of which has nothing that can be understood."""
    folder = tmp_path_factory.mktemp("fleet")
    write_fleet(folder, COUNT)
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
    assert "edge0, edge1" in text and "5 of 5 devices are not as the intent says" in text
    assert "not understood: table arp odd" in text and "not compared" in text


def _texts(name: str) -> dict[str, str]:
    return {each.name: each.read_text() for each in Path("captures", name).iterdir()}


def test_no_device_is_called_as_the_intent_that_is_not(capfd: pytest.CaptureFixture[str]) -> None:
    island = DEMO / "by-hand"
    typed = ["diff", str(island / "island.yaml"), str(island / "island-gate"), "--device", "island-gate"]
    assert main([*typed, "--by-difference"]) == 1
    said = " ".join(capfd.readouterr().out.split())
    assert "1 of 1 device is not as the intent says" in said and "rules that somebody else wrote" in said
    hidden = ["diff", str(DEMO / "saltmarsh.yaml"), str(DEMO / "a-year-later"), "--only", "no-effect"]
    assert main([*hidden, "--by-difference"]) == 1
    said = " ".join(capfd.readouterr().out.split())
    assert "other differences are not shown" in said and "2 of 2 devices are not as the intent says" in said


@pytest.fixture
def many(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """So many devices that results are kept, in a store of their own."""
    write_fleet(tmp_path, MANY)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.chdir(tmp_path)
    return tmp_path / "cache" / "agile-lattice" / "results.sqlite"


def kept(store: Path) -> int:
    """How many results are kept."""
    with sqlite3.connect(store) as base:
        return int(base.execute("SELECT count(*) FROM results").fetchone()[0])


def said(capfd: pytest.CaptureFixture[str], *typed: str) -> tuple[str, str]:
    """What a command prints."""
    assert main([*typed, "fleet.yaml", "captures"]) == 1
    out, err = capfd.readouterr()
    return out, err


def test_only_what_has_changed_is_worked_out_again(many: Path, capfd: pytest.CaptureFixture[str]) -> None:
    whole = said(capfd, "diff", "--no-cache")
    assert not many.exists()
    assert said(capfd, "diff") == whole and kept(many) == MANY
    assert said(capfd, "diff") == whole and kept(many) == MANY, "all were there"
    rules = Path("captures/edge3/ruleset.nft")
    rules.write_text(rules.read_text().replace("dport", "sport", 1))
    changed = said(capfd, "diff")
    assert kept(many) == MANY + 1 and changed != whole
    assert changed == said(capfd, "diff", "--no-cache")


def test_what_is_kept_is_not_believed_when_it_is_wrong(many: Path, capfd: pytest.CaptureFixture[str]) -> None:
    whole = said(capfd, "diff")
    with sqlite3.connect(many) as base:  # each the result of another one
        rows = base.execute("SELECT key, seal, result FROM results").fetchall()
        for (key, _, _), (_, seal, result) in zip(rows, [*rows[1:], rows[0]], strict=True):
            base.execute("UPDATE results SET seal = ?, result = ? WHERE key = ?", (seal, result, key))
    assert said(capfd, "diff") == whole
    many.write_bytes(b"no store" * 1000)
    for each in many.parent.glob("*-*"):
        each.unlink()
    assert said(capfd, "diff") == whole and kept(many) == MANY
    with Store(many, most=1000):
        pass
    assert kept(many) == 0, "no more is kept than may be"
    many.parent.chmod(0o777)
    assert usual_store() is None, "others could write there"


def test_what_holds_a_secret_is_not_kept(many: Path, capfd: pytest.CaptureFixture[str]) -> None:
    network = al.load("fleet.yaml")
    devices = tuple(replace(each, speaks=("frr", "nftables")) for each in network.devices)
    Path("fleet.yaml").write_text(al.write(replace(network, devices=devices)))
    for each in Path("captures").iterdir():
        for file in each.glob("*.json"):
            file.unlink()
        (each / "frr.conf").write_text("frr version 8.4\nenable password hunter2\nip route 10.9.0.0/16 Null0\n")
    Path("captures/edge0/frr.conf").write_text("frr version 8.4\nip route 10.9.0.0/16 Null0\n")
    said(capfd, "diff")
    assert kept(many) == 1
    assert b"hunter2" not in b"".join(each.read_bytes() for each in many.parent.iterdir())


def test_a_cluster_says_the_same_as_one_core_and_outlives_a_worker(
    many: Path, capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = said(capfd, "prove", "--no-cache")
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
        first = cluster.workers[0].pid
        killing = threading.Timer(1.5, os.kill, [first, signal.SIGKILL])
        killing.start()
        found = said(capfd, "prove", "--no-cache", "--cluster", cluster.scheduler_address)
        assert not killing.is_alive() and not Path(f"/proc/{first}/cmdline").exists(), "it died while it worked"
        assert found[0] == whole[0]
        monkeypatch.setattr(cluster_of, "version", lambda _: "0.0.9")
        assert main(["prove", "fleet.yaml", "captures", "--cluster", cluster.scheduler_address]) == 2
    assert "and this is 0.0.9: install the same there" in capfd.readouterr().err
    assert main(["prove", "fleet.yaml", "captures", "--no-cache", "--cluster", "tcp://127.0.0.1:9"]) == 2
    assert "no scheduler answers at tcp://127.0.0.1:9" in capfd.readouterr().err


def test_checks_and_renderings_are_shared_as_well(many: Path, capfd: pytest.CaptureFixture[str]) -> None:
    for typed in (["check", "fleet.yaml"], ["render", "fleet.yaml", "--prove", "--no-cache"]):
        codes = [main([*typed, "--jobs", jobs]) for jobs in ("1", "2")]
        out = capfd.readouterr().out
        assert codes[0] == codes[1] and out[: len(out) // 2] == out[len(out) // 2 :]


def test_the_files_of_an_intent_are_read_by_several_and_kept_each_by_itself(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, read = tmp_path / "intent", list[str]()
    write_grown(folder, 45)

    def counted(text: str, file: str) -> Source:
        read.extend([Path(file).name] if "devices:" in text else [])
        return shaped(text, file)

    def what_is_read() -> list[str]:
        found = sorted(read)
        read.clear()
        return found

    def whole(store: Store | None, jobs: int = 1) -> Network:
        return load_large(folder, store, jobs).network

    monkeypatch.setattr("agile_lattice.fleet.intents.shaped", counted)
    plain, files = al.load(folder), sorted(each.name for each in folder.iterdir())
    assert whole(None, jobs=3) == plain and what_is_read() == []  # other processes did it
    with Store(tmp_path / "kept") as store:
        assert whole(store) == plain and what_is_read() == files
        assert whole(store) == plain and what_is_read() == []
        changed = folder / "harbour-001.yaml"
        changed.write_text(changed.read_text().replace("tcp/8001", "tcp/8999"))
        assert whole(store) == al.load(folder) != plain and what_is_read() == ["harbour-001.yaml"]
        # Its places are those of the file as it is now.
        changed.write_text(changed.read_text().replace("devices", "\n\ndevices"))
        again, now = whole(store), al.load(folder)
        assert [repr(each.place) for each in again.devices] == [repr(each.place) for each in now.devices]
        assert what_is_read() == ["harbour-001.yaml"]
        # What is said for all devices is read first; of that no device is kept that refers to it.
        common = folder / "common.yaml"
        common.write_text(common.read_text().replace("tcp/8443]", "tcp/8444]").replace("public", "shared"))
        assert whole(store) == al.load(folder) != now and what_is_read() == files
        common.write_text(common.read_text() + "accepted: [{finding: clear-text, on: landing-00001, reason: none}]\n")
        assert whole(store) == al.load(folder) and what_is_read() == []
        # So it may be said anywhere, and in any layout.
        other = folder / "other.yaml"
        for said in (
            "{lattice: 1, zones: {cove: {}}, devices: {a: {speaks: frr}}}", " lattice: 1\n zones: {cove: {}}",
            "lattice: 1\ndevices: {a: {speaks: frr}}\n'zones': {cove: {}}",
            "lattice: 1\rzones: {cove: {}}\rdevices: {}", "lattice: 1\nzones: {cove: {}}",
            "lattice: 1\nzones: {cove: &x {}}\ndevices:\n  a: {speaks: frr, settings: *x}",
            "lattice: 1\nzones: {cove: {description: \"\ndevices:\n\"}}\ndevices: {a: {speaks: frr}}",
            "---\nzones:\n\n  cove: {}\ndevices:\n  a:\n    speaks: frr\n# or\nlattice: 1\n...",
        ):  # fmt: skip
            other.write_text(f"{said}\n")
            assert repr(whole(store).zones) == repr(al.load(folder).zones)
            assert whole(store, jobs=2) == al.load(folder) and "cove" in [each.name for each in whole(store).zones]
        # What is wrong is told of all files, in their order, and is not kept.
        for name, speaks in (("other.yaml", "speks"), ("harbour-001.yaml", "speks"), ("harbour-002.yaml", "speaks")):
            (folder / name).write_text(f"lattice: 1\ndevices:\n  head-office: {{{speaks}: frr}}\n")
            for jobs in (1, 2):
                with pytest.raises(NotationError) as caught:
                    load_large(folder, store, jobs)
                with pytest.raises(NotationError) as alone:
                    al.load(folder)
                assert str(alone.value) == str(caught.value)
        assert [Path(each.place.file).name for each in caught.value.faults] == ["harbour-001.yaml", "other.yaml"]
        for name in ("other.yaml", "harbour-001.yaml"):
            (folder / name).unlink()
        with pytest.raises(NotationError, match="'head-office' is defined twice"):
            load_large(folder, store)


def test_what_is_found_of_a_device_alone_follows_from_it_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    checks = [each for each in CHECKS.values() if each.find is not None]
    examples = [al.loads(example_intent(text)) for each in checks for text in (each.wrong, each.right)]
    examples.append(al.load(DEMO / "draft.yaml"))
    # Somebody has every address that is used anywhere.
    everything = ", ".join(f"{net}.{at}/32" for net in ("203.0.113", "198.51.100", "10.40.10") for at in range(1, 30))
    examples.append(
        al.loads(f"lattice: 1\ndevices: {{all: {{speaks: frr, interfaces: {{lo: {{loopback: [{everything}]}}}}}}}}")
    )
    # In one network there are all of their zones, blocks, hosts and devices, by names of their own.
    apart = [
        replace(
            one,
            devices=tuple(replace(each, name=f"{each.name}-{at}") for each in one.devices),
            blocks=tuple(replace(each, name=f"{each.name}-{at}", holdings=()) for each in one.blocks),
        )
        for at, one in enumerate(examples)
    ]
    whole = replace(
        examples[0],
        devices=tuple(each for one in apart for each in one.devices),
        blocks=tuple(each for one in apart for each in one.blocks),
        hosts=tuple(each for one in apart for each in one.hosts),
        zones=tuple({each.name: each for one in apart for each in one.zones}.values()),
    )
    monkeypatch.setattr("agile_lattice.fleet.checking.BATCH", 1)
    with Store(tmp_path / "kept") as store:
        for network in (*examples, whole):
            plain = findings(network)
            assert checked(network, 1, store) == plain
            # Nothing is looked for a second time.
            monkeypatch.setattr("agile_lattice.fleet.checking._Checking.part", None)
            assert checked(network, 1, store) == plain
            monkeypatch.undo()
            monkeypatch.setattr("agile_lattice.fleet.checking.BATCH", 1)
    assert len({each.slug for each in plain}) > 40
    assert checked(whole, 3) == plain


def test_a_mistake_of_many_devices_is_told_once_whatever_their_own_addresses(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    assert main(["demo", "--landings", "45", "--into", "fleet"]) == 0
    assert main(["check", "fleet/intent", "--no-cache"]) == 0
    capfd.readouterr()
    assert main(["diff", "fleet/intent", "fleet/captures", "--no-cache", "--format", "json"]) == 1
    alone = {each["device"]: each["differences"] for each in json.loads(capfd.readouterr().out)}
    assert main(["diff", "fleet/intent", "fleet/captures", "--no-cache", "--by-difference", "--format", "json"]) == 1
    told = json.loads(capfd.readouterr().out)
    network = al.load("fleet/intent")
    there = {each.name: each for each in drifted([each.name for each in network.devices], network.devices)}
    [route] = [each for each in told if each["section"] == "routes"]
    assert (route["change"], route["subject"]) == ("missing", "route 192.168.9.0/24 via ...")
    lost = {
        each.name: each for each in network.devices if each.name in there and each.routes != there[each.name].routes
    }
    assert dict(zip(route["devices"], route["own"], strict=True)) == {
        name: [str(one.via)] for name, each in lost.items() for one in each.routes if str(one.to) == "192.168.9.0/24"
    }
    # Every difference of every device is in one entry, with its own addresses in the place of the dots.
    filled = [
        (name, each["subject"].replace("...", "{}").format(*own))
        for each in told
        if each["change"] != "not-compared"
        for name, own in zip(each["devices"], each["own"] or [[]] * len(each["devices"]), strict=True)
    ]
    assert sorted(filled) == sorted((name, one["subject"]) for name, found in alone.items() for one in found)
    assert main(["diff", "fleet/intent", "fleet/captures", "--no-cache", "--by-difference"]) == 1
    said = " ".join(capfd.readouterr().out.split())
    [absent] = {each.name for each in network.devices} - there.keys()
    assert [each["devices"] for each in told if each["subject"] == "no capture"] == [[absent]]
    assert f"{absent}: no capture, so not compared" in said and f"on {route['devices'][0]}" in said
    assert main(["demo", "--landings", "45", "--into", "fleet"]) == 2
    assert main(["demo", "--landings", "45"]) == 2
    assert main(["demo", "--landings", "99999", "--into", "other"]) == 2
    assert not Path("other").exists()
