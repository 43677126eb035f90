"""Many devices: what comes back does not depend on how many processes share the work."""

from __future__ import annotations

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
