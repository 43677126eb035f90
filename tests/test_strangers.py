"""Dialects for devices that nobody knows, taught by a file alone: read, written, compared, mended and taken back."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from msgspec.structs import replace

from agile_lattice.cli.main import main
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.equivalence import verdict
from agile_lattice.compare.mending import mend
from agile_lattice.dialects import read_device
from agile_lattice.dialects.registry import Catalogue
from test_mend import Folder

STRANGERS = Path(__file__).parent / "strangers"
SAMPLES = {"semaphore": "semaphore.box", "lockkeeper": "lockkeeper.log", "almanac": "almanac.book"}
# Of each: what somebody changed by hand, and what the difference is called.
BY_HAND = {
    "semaphore": [
        ("holds 203.0.113.2", "holds 203.0.113.3", "address 203.0.113.2/29 on wan0"),
        ("jack spare down\n", "", "interface spare"),
        ("weight 7", "weight 9", "route 10.61.0.0/16"),
        ("also lan0 holds 10.40.11.1 mask 255.255.255.0\n", "", "address 10.40.11.1/24 on lan0"),
    ],
    "lockkeeper": [
        ("    plus 10.40.11.1 / 0.0.0.255\n", "", "address 10.40.11.1/24 on lan0"),
        ("  gate spare\n    shut\n", "", "interface spare"),
        ("    shut\n", "", "interface spare"),
        ("  gate lo\n", "  gate lamp\n    rests 10.7.0.1 / 0.0.0.255\n  gate lo\n", "interface lamp"),
        ("hatch 203.0.113.2 tcp 443", "hatch 203.0.113.2 tcp 444", "publish 203.0.113.2"),
    ],
    "almanac": [
        ("  net 10.40.11.1/24;\n", "", "address 10.40.11.1/24 on lan0"),
        ("port spare {\n  asleep;\n}\n", "", "interface spare"),
        ("  answer 203.0.113.4/32;\n", "", "proxy ARP for 203.0.113.4"),
        ("tcp 8443", "tcp 8444", "permit"),
    ],
}


@pytest.fixture
def place(tmp_path: Path, request: pytest.FixtureRequest) -> tuple[Path, str]:
    """An intent that was read from a sample, with the dialect beside it."""
    name: str = request.param
    (tmp_path / "dialects").mkdir()
    shutil.copy(STRANGERS / f"{name}.toml", tmp_path / "dialects")
    sample = tmp_path / SAMPLES[name]
    shutil.copy(STRANGERS / SAMPLES[name], sample)
    return tmp_path, name


@pytest.mark.parametrize("place", SAMPLES, indirect=True)
def test_a_strangers_configuration_is_understood_and_comes_back(
    place: tuple[Path, str], capsys: pytest.CaptureFixture[str]
) -> None:
    folder, name = place
    code = main(["dialects", "try", str(folder / f"dialects/{name}.toml"), str(folder / SAMPLES[name])])
    said = capsys.readouterr().out
    assert "nothing left over; written and read again: the same" in said
    assert code == 0


@pytest.mark.parametrize("place", SAMPLES, indirect=True)
def test_a_stranger_is_compared_mended_and_taken_back(place: tuple[Path, str], tmp_path: Path) -> None:
    folder, name = place
    file, sample = SAMPLES[name], (folder / SAMPLES[name]).read_text()
    catalogue = Catalogue(folder / "dialects")
    intent = replace(read_device("pier", [name], [(file, sample)], catalogue).device, speaks=(name,))
    for number, (old, new, subject) in enumerate(BY_HAND[name]):
        assert old in sample
        texts = {file: sample.replace(old, new, 1)}
        found = compare(intent, read_device("pier", [name], texts.items(), catalogue)).differences
        assert any(subject in each.subject for each in found), (old, [each.subject for each in found])
        mending = mend(intent, list(texts.items()), catalogue=catalogue)
        (tmp_path / str(number)).mkdir()
        there = Folder(tmp_path / str(number), texts)
        for each in mending.mends:
            there.apply(each.change)
        after = read_device("pier", [name], there.texts.items(), catalogue)
        assert not compare(intent, after).differences
        assert verdict(intent, after, catalogue).same
        for each in mending.mends[::-1]:
            there.apply(each.undo)
        assert there.texts == texts
