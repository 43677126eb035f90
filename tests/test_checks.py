"""Every check speaks about its wrong example and is silent about its right one."""

from __future__ import annotations

import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest

import agile_lattice as al
from agile_lattice.checks import CHECKS, Check, example_intent, findings
from agile_lattice.cli.main import main
from agile_lattice.notation.errors import NotationError
from agile_lattice.notation.loading import load, loads
from where import ROOT

COAST = ROOT / "examples" / "coast"
DRAFT = ROOT / "src" / "agile_lattice" / "demo" / "draft.yaml"


@pytest.mark.parametrize("check", CHECKS.values(), ids=CHECKS)
def test_a_check_knows_wrong_from_right(check: Check) -> None:
    assert findings(loads(example_intent(check.right))) == []
    if check.theme == "values":
        with pytest.raises(NotationError) as caught:
            loads(example_intent(check.wrong))
        assert {fault.slug for fault in caught.value.faults} == {check.slug}
        return
    found = findings(loads(example_intent(check.wrong)))
    assert {(each.slug, each.severity) for each in found} == {(check.slug, check.severity)}
    assert found[0].place.line >= 2
    assert found[0].what and found[0].subject and found[0].remedy.endswith(".")


def test_a_correct_network_has_no_findings() -> None:
    network = load(COAST)
    assert len(network.devices) == 12
    assert [(each.slug, str(each.place)) for each in findings(network)] == []


def test_findings_go_to_other_programs(capsys: pytest.CaptureFixture[str]) -> None:
    found = findings(load(DRAFT))
    assert main(["check", str(DRAFT), "--format", "sarif"]) == 1
    [run] = json.loads(capsys.readouterr().out)["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert rules == list(CHECKS)
    lines = Path(DRAFT).read_text().splitlines()
    for one, result in zip(found, run["results"], strict=True):
        assert rules[result["ruleIndex"]] == result["ruleId"] == one.slug
        assert result["level"] in ("error", "warning") and one.what in result["message"]["text"]
        [location] = result["locations"]
        where = location["physicalLocation"]
        assert where["artifactLocation"]["uri"] == str(DRAFT)
        assert 1 <= where["region"]["startLine"] <= len(lines)
    assert main(["check", str(DRAFT), "--format", "junit"]) == 1
    suite = ElementTree.fromstring(capsys.readouterr().out)
    failed = {case.get("name") for case in suite.iter("testcase") if case.find("failure") is not None}
    assert failed == {each.slug for each in found}
    assert (suite.get("tests"), suite.get("failures")) == (str(len(CHECKS)), str(len(failed)))


def test_what_is_accepted_is_listed_and_does_not_count(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["check", str(DRAFT.with_name("saltmarsh.yaml"))]) == 0
    text = capsys.readouterr().out
    assert "because: timetables are for everybody to read" in text and "1 accepted" in text
    assert main(["check", str(DRAFT.with_name("saltmarsh.yaml")), "--format", "sarif"]) == 0
    [run] = json.loads(capsys.readouterr().out)["runs"]
    assert [each["suppressions"][0]["kind"] for each in run["results"]] == ["inSource"]


def test_a_check_explains_itself(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["check", "--explain", "no-way-back"]) == 0
    text = capsys.readouterr().out
    assert CHECKS["no-way-back"].why in " ".join(text.split()) and "wrong" in text and "right" in text
    assert main(["check", "--explain", "no-way-bakc"]) == 2
    assert "Did you mean 'no-way-back'?" in capsys.readouterr().err
    assert main(["check"]) == 2
    assert "INTENT is missing" in capsys.readouterr().err


def test_what_cannot_be_told_is_not_called_fine(capsys: pytest.CaptureFixture[str]) -> None:
    text = example_intent(CHECKS["private-source-leaves"].wrong).replace("sea: {exposure: public}", "sea: {}")
    found = {each.slug: each for each in findings(loads(text))}
    assert found["private-source-leaves"].severity == "unknown"
    assert "exposure-unsaid" in found


def test_a_leak_is_shown_by_a_packet_that_leaks() -> None:
    [one] = findings(loads(example_intent(CHECKS["private-source-leaves"].wrong)))
    source = re.search(r"such as (10\.41\.\d+\.\d+) -> [\d.]+ \S+ from lan0 to wan0", one.what)
    assert source, "10.40.10.0/24 is translated, what is behind 10.40.10.2 is not"


REACHED = """
lattice: 1
devices:
  quay:
    speaks: [iproute2, nftables]
    connection: {ssh: TO, port: 2222}
    interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24, enabled: SHUT}}
    management: ENTRIES
"""


@pytest.mark.parametrize(
    ("to", "shut", "entries", "found"),
    [
        ("10.40.10.1", "true", "[]", False),
        ("10.40.10.1", "true", "[{service: tcp/2222}]", False),
        ("10.40.10.1", "true", "[{from: lan0, service: [udp/161, tcp/2000-3000]}]", False),
        ("10.40.10.1", "true", "[{from: lan0}]", False),
        ("10.40.10.1", "true", "[{from: wan0, service: tcp/2222}, {from: lan0, service: udp/2222}]", True),
        ("quay.example", "true", "[{from: wan0, service: tcp/2222}]", False),
        ("quay.example", "true", "[{service: tcp/22}]", True),
        ("10.40.10.1", "false", "[]", True),
    ],
)
def test_a_connection_that_the_intent_itself_forbids_is_found(to: str, shut: str, entries: str, found: bool) -> None:
    text = REACHED.replace("TO", to).replace("SHUT", shut).replace("ENTRIES", entries)
    assert ("connection-not-let-in" in {each.slug for each in al.check(al.loads(text))}) == found
