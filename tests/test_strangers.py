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
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.drafting import drafted
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.trying import try_sample
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.model import Network
from agile_lattice.intent.normal import normal
from agile_lattice.notation.loading import load, loads
from agile_lattice.notation.writing import write
from test_changes import Folder
from where import DEMO, ROOT

STRANGERS = ROOT / "tests" / "strangers"
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


def test_what_a_device_has_names_for_goes_by_them_in_the_intent(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copytree(STRANGERS, tmp_path / "dialects")
    for name in ("semaphore", "almanac"):
        assert main(["read", "--speaks", name, "--device", "pier", str(STRANGERS / SAMPLES[name])]) == 0
        Path("read.yaml").write_text(capsys.readouterr().out)
        again, by_hand = load("read.yaml"), load(STRANGERS / f"{name}.yaml")
        assert again == by_hand, "groups, services and zones as somebody who knows the device wrote them"
        assert ", source: office," in Path("read.yaml").read_text() or name != "almanac"
        assert "{from: inner, to: outer}" in Path("read.yaml").read_text() or name != "semaphore"
    # Where two devices mean different things by one name, what it stands for is written out.
    one = load(STRANGERS / "almanac.yaml").devices[0]
    named = [replace(each, addresses=AddressSet.parse("10.9.0.0/16")) for each in one.named if each.name == "office"]
    both = [one, replace(one, name="quay", named=tuple(named))]
    text = write(Network("", tuple(both)))
    assert "office:" not in text and "kiosk:" in text
    assert [normal(each) for each in loads(text).devices] == [normal(each) for each in both]


@pytest.mark.parametrize("place", SAMPLES, indirect=True)
def test_a_draft_from_a_sample_and_its_meaning_reads_most_of_it(
    place: tuple[Path, str], capsys: pytest.CaptureFixture[str]
) -> None:
    folder, name = place
    sample = folder / SAMPLES[name]
    main(["dialects", "new", str(sample), "--intent", str(STRANGERS / f"{name}.yaml"), "--name", "drafted"])
    text = capsys.readouterr().out
    trial = try_sample(parse_dialect(text, "drafted.toml"), sample.read_text(), sample.name)
    understood, left = len(trial.taken), len(trial.capture.leftovers)
    assert understood >= 0.7 * (understood + left), [each.text for each in trial.capture.leftovers]
    # What was read is what the intent says, not only something: nothing else is an interface, a route or an address.
    intent, device = load(STRANGERS / f"{name}.yaml").devices[0], trial.capture.device
    assert {(one.name, one.addresses) for one in device.interfaces} <= {
        (one.name, one.addresses) for one in intent.interfaces
    }
    assert {(each.to, each.via) for each in device.routes} <= {(each.to, each.via) for each in intent.routes}
    assert f"from {sample}: " in text and " statements say something of the intent" in text


@pytest.mark.parametrize(
    "text", ["", "\n", "say '''this'''", 'a "b" \\ c', "tab\there\x07", "{ } ; <a> [b] (c) => d", "name = '''"]
)
def test_a_draft_of_hostile_text_is_a_dialect(text: str) -> None:
    device = load(STRANGERS / "semaphore.yaml").devices[0]
    for meaning in (device, None):
        parse_dialect(drafted(f"jack lan0\n{text}\n", "sample", "drafted", meaning).text, "drafted.toml")


def test_every_draft_is_a_dialect_whatever_it_is_drafted_from() -> None:
    for device in load(DEMO / "saltmarsh.yaml").devices:
        for each in render_device(device):
            for meaning in (device, None):
                parse_dialect(drafted(each.text, each.file, "drafted", meaning).text, "drafted.toml")
