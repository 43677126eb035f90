"""The notation: what is written loads as the same; the schema that ships is the one that is checked."""

from __future__ import annotations

import json
import re
from importlib.resources import files
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.normal import normal
from agile_lattice.notation.located import parse
from strategies import devices
from test_laws import MANY
from where import DEMO


@MANY
@given(devices())
def test_what_is_written_loads_as_the_same(device: Device) -> None:
    names = [one.name for one in device.translations if one.name]
    if len(names) != len(set(names)):
        return  # an intent file has no two translations of one name
    again = al.loads(al.write(Network("", (device,)))).device(device.name)
    assert again is not None
    assert normal(again) == normal(device)
    assert al.loads(al.write(Network("", (again,)))) == al.loads(al.write(Network("", (device,))))


@pytest.mark.parametrize("spoilt", ["nonsense-x", "999.1.1.1/40", "-5", "7.5", "[]", "{}", "true", "tcp/99999"])
def test_one_mistake_is_one_fault(spoilt: str) -> None:
    """Whatever word of an intent is spoilt: nothing is told that only follows, and nothing in a programmer's words."""
    text = (DEMO / "saltmarsh.yaml").read_text()
    told = 0
    for word in re.finditer(r"""(?<=[ \[{:])[A-Za-z0-9./"_-]+(?=[,\]}\n:])""", text):
        try:
            al.loads(text[: word.start()] + spoilt + text[word.end() :])
        except al.NotationError as error:
            told += 1
            is_key = text[word.end()] == ":"
            lines = [fault.place.line for fault in error.faults]
            assert len(set(lines)) == len(lines), str(error)
            assert len(lines) == 1 or (is_key and all(word.group() in fault.what for fault in error.faults)), str(error)
            said = " ".join(fault.what for fault in error.faults)
            assert not re.search(r"\b(True|False|None)\b|\{'|valid|dictionary|instance", said), said
    assert told > 40


def test_the_schema_that_ships_is_the_one_that_is_checked() -> None:
    shipped = json.loads(files("agile_lattice.notation").joinpath("intent.schema.json").read_text())
    validator = jsonschema.Draft202012Validator(shipped)
    validator.check_schema(shipped)
    for name in ("saltmarsh.yaml", "draft.yaml"):
        validator.validate(parse((DEMO / name).read_text(), name)[0])
    with pytest.raises(jsonschema.ValidationError, match="distnace"):
        validator.validate(
            {"lattice": 1, "devices": {"q": {"speaks": "frr", "routes": [{"to": "default", "distnace": 1}]}}}
        )


def test_a_folder_is_one_intent_and_json_is_yaml(tmp_path: Path) -> None:
    whole: Any = parse((DEMO / "saltmarsh.yaml").read_text(), "saltmarsh.yaml")[0]
    quay, pier = ({name: whole["devices"][name]} for name in ("quay-edge", "pier-gate"))
    (tmp_path / "1-common.json").write_text(json.dumps({**whole, "devices": quay}))
    (tmp_path / "2-pier.yaml").write_text(yaml.safe_dump({"lattice": 1, "devices": pier}, sort_keys=False))
    together = al.load(tmp_path)
    assert together == al.load(DEMO / "saltmarsh.yaml")
    gate = together.device("pier-gate")
    assert gate is not None and gate.routes[1].place.file.endswith("2-pier.yaml")
    (tmp_path / "3-again.yaml").write_text("lattice: 1\nzones: {pier: {exposure: own}}\n")
    with pytest.raises(Exception, match=r"3-again.yaml:2: 'pier' is defined twice; first in .*1-common.json"):
        al.load(tmp_path)


def test_every_value_knows_its_line() -> None:
    lines = (DEMO / "saltmarsh.yaml").read_text().splitlines()
    device = al.load(DEMO / "saltmarsh.yaml").devices[0]
    for interface in device.interfaces:
        assert lines[interface.place.line - 1].strip().startswith(f"{interface.name}:")
    for route in device.routes:
        assert f"via: {route.via}" in lines[route.place.at("via").line - 1].replace('"', "") or route.discard
    for one in device.translations:
        assert f"name: {one.name}" in lines[one.place.at("name").line - 1]


TWO_ZONES = """
lattice: 1
zones: {office: {exposure: own}, sea: {exposure: public}, pier: {exposure: shared}}
names: {hosts: {far: 10.49.0.1}, networks: {landings: [10.41.0.0/16, 10.42.8.0/24]}}
devices:
  quay:
    speaks: [DIALECT]
    interfaces:
      wan0: {zone: sea, address: 203.0.113.2/28}
      lan0: {zone: office, address: 10.40.10.1/24}
      pier0: {zone: pier, address: 10.40.20.1/24}
    routes: [{to: landings, via: 10.40.20.2}, {to: far, via: 10.40.20.2}, {to: default, via: 203.0.113.1}]
    permits: [{name: out, from: office, to: [sea, pier]}]
"""


@pytest.mark.parametrize("dialect", ["iproute2, nftables", "mooring", "tideway", "bollard"])
def test_what_is_said_of_several_at_once_is_said_in_every_syntax(
    dialect: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    intent = tmp_path / "quay.yaml"
    intent.write_text(TWO_ZONES.replace("DIALECT", dialect))
    device = al.load(intent).device("quay")
    assert [str(each.to) for each in device.routes] == ["10.41.0.0/16", "10.42.8.0/24", "10.49.0.1/32", "0.0.0.0/0"]
    assert main(["render", str(intent), "--into", str(tmp_path / "out")]) == 0
    capsys.readouterr()
    assert main(["read", "--speaks", dialect, str(tmp_path / "out" / "quay")]) == 0
    read = al.loads(capsys.readouterr().out).device("quay")
    assert al.between(device, read).same
    (tmp_path / "out" / "gate").mkdir()
    (tmp_path / "out" / "gate" / "x").write_text("")
    assert main(["read", "--speaks", dialect, str(tmp_path / "out")]) == 2
    assert "captures of several devices: gate, quay" in capsys.readouterr().err
