"""What `--format json` prints is what its schema says, for every command, on the demo data and on what goes wrong."""

from __future__ import annotations

import json
import shlex
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator, ValidationError

from agile_lattice.cli.commands import documents
from agile_lattice.cli.main import main
from agile_lattice.cli.schemas import json_schema
from agile_lattice.fleet.work import compared
from where import DEMO, ROOT
from write_schema import schemas

INTENT, CHANGED = DEMO / "saltmarsh.yaml", DEMO / "a-year-later"
PACKET = "192.0.2.77 203.0.113.5 tcp/443 --at quay-edge:wan0"

# Of each document: what is typed, and where in it something must be found, so that it is not empty.
TYPED = {
    "addresses": (f"addresses {INTENT} --run 4", "0.uses.0.addresses"),
    "calc mask": ("calc mask /20", "netmask"),
    "calc subnet": ("calc subnet 10.40.10.77/20", "network"),
    "calc summary": ("calc summary 10.41.0.0/24 10.41.2.0/24", "too_much.0"),
    "calc split": ("calc split 203.0.113.0/28 /30", "3"),
    "calc pool": ("calc pool 203.0.113.8-203.0.113.11 --hosts 500", "addresses"),
    "check": (f"check {DEMO / 'draft.yaml'}", "findings.3.place.column"),
    "render": (f"render {INTENT}", "1.text"),
    "read": (f"read --speaks nftables {CHANGED / 'quay-edge' / 'ruleset.nft'}", "device.device.translations.0.name"),
    "diff": (f"diff {INTENT} {CHANGED}", "0.differences.0.intent.line"),
    "diff --by-difference": (f"diff {INTENT} {CHANGED} --by-difference", "0.devices.0"),
    "mend": (f"mend {INTENT} {CHANGED}", "0.mends.0.change"),
    "prove": (f"prove {INTENT} {CHANGED}", "0.proof.partings.0.part"),
    "capture": ("capture {local} --into {archive}", "0.files.0"),
    "archive log": ("archive log {archive}", "0.devices.0"),
    "archive good": ("archive good {archive} host", "revision"),
    "observe": ("observe {local}", "0.unasked.0"),
    "observe --device": ("observe {local} --device host", "unasked.0"),
    "push": ("push {local} {archive} --dry-run", "0.reason"),
    "push --device": ("push {local} {archive} --device host --dry-run", "reason"),
    "walk": (f"walk {INTENT} {PACKET}", "visits.0.stages.0.place.line"),
    "walk --captured": (f"walk {INTENT} {PACKET} --captured {CHANGED}", "captured.visits.0.stages.0.place.line"),
    "walk --flows": (f"walk {INTENT} --flows {DEMO / 'flows.txt'}", "0.visits.0.device"),
    "walk --plan": (f"walk {INTENT} --plan", "probes.0.header.source"),
    "dialects list": ("dialects list", "0.name"),
    "dialects matrix": ("dialects matrix", "VLAN.frr"),
    "dialects show": ("dialects show frr", "definition"),
    "dialects facts": ("dialects facts route", "0.fields.0.holds"),
    "dialects types": ("dialects types", "0.reads"),
    "dialects new": ("dialects new {sample}", "said.1"),
    "dialects try": ("dialects try {dialect} {sample}", "trial.refusals.0.reason"),
}
# It reads what it never writes: so there is a refusal.
LAMPS = """
dialect = "lamps"
title = "Lamps"
[[forms]]
name = "log"
file = "lamps.log"
carries = ["routes"]
syntax = {kind = "lines"}
statements = '''
beam to <to:prefix4> by <via:address4>   => route written=never
'''
"""


@pytest.mark.parametrize("document", documents())
def test_what_is_printed_is_what_the_schema_says(
    document: str, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    typed, inside = TYPED[document]
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    local, archive = tmp_path / "local.yaml", tmp_path / "archive"
    local.write_text("lattice: 1\ndevices: {host: {speaks: hosts, connection: local}}\n")
    if "{archive}" in typed and document != "capture":
        main(["capture", str(local), "--into", str(archive)])
        capsys.readouterr()
    dialect, sample = tmp_path / "lamps.toml", tmp_path / "sample.txt"
    dialect.write_text(LAMPS)
    sample.write_text("beam to 10.61.0.0/16 by 10.60.10.2\nfog\n")
    main([*shlex.split(typed.format(dialect=dialect, sample=sample, local=local, archive=archive)), "--format", "json"])
    data = json.loads(capsys.readouterr().out)
    schema = json_schema(document, documents()[document])
    Draft202012Validator.check_schema(schema)
    Draft202012Validator(schema).validate(data)
    found = data
    for step in inside.split("."):
        found = found[int(step)] if isinstance(found, list) else found[step]
    assert found not in (None, "", [])
    # And a schema that lets anything pass would say nothing.
    with pytest.raises(ValidationError):
        Draft202012Validator(schema).validate([{"strange": 1}] if isinstance(data, list) else {"strange": 1})


def test_the_schemas_that_are_shipped_and_documented_are_current() -> None:
    for path, schema in schemas():
        assert json.loads(path.read_text(encoding="utf-8")) == schema, f"{path.name}: run scripts/write_schema.py"
    assert {each.name for each in (ROOT / "docs/schemas").iterdir()} == {
        path.name for path, _ in schemas() if path.parent.name == "schemas"
    }


@pytest.mark.parametrize("name", ["diff", "diff --by-difference", "mend", "prove"])
def test_lines_are_the_members_of_the_list(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    typed = shlex.split(TYPED[name][0])
    main([*typed, "--format", "json"])
    whole = json.loads(capsys.readouterr().out)
    main([*typed, "--format", "json-lines"])
    assert [json.loads(each) for each in capsys.readouterr().out.splitlines()] == whole and len(whole) > 1


def test_a_line_is_there_as_soon_as_its_device_is_done(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    seen: list[int] = []

    def watched(*given: Any, **more: Any) -> Any:
        seen.append(capsys.readouterr().out.count("\n"))
        return compared(*given, **more)

    monkeypatch.setattr("agile_lattice.cli.diff.compared", watched)
    main([*shlex.split(TYPED["diff"][0]), "--format", "json-lines"])
    assert len(seen) > 1 and seen == [0, *(1 for _ in seen[1:])]
