"""Findings in formats that other programs read: SARIF 2.1.0 (OASIS) and JUnit XML."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any
from xml.etree import ElementTree

from agile_lattice.checks.registry import CHECKS, Finding, Severity

SARIF_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
LEVELS: dict[Severity, str] = {"error": "error", "warning": "warning", "note": "note", "unknown": "note"}


def sarif(findings: Iterable[Finding]) -> dict[str, Any]:
    """Return a SARIF log: every check is a rule; an accepted finding is a suppressed result."""
    order = list(CHECKS)
    rules = [
        {
            "id": each.slug,
            "shortDescription": {"text": each.slug.replace("-", " ")},
            "fullDescription": {"text": each.why},
            "help": {"text": f"Wrong:\n{each.wrong}\n\nRight:\n{each.right}"},
            "defaultConfiguration": {"level": LEVELS[each.severity]},
            "properties": {"theme": each.theme},
        }
        for each in CHECKS.values()
    ]
    driver = {"name": "Agile Lattice", "rules": rules}
    results = [_result(each, order.index(each.slug)) for each in findings]
    return {
        "$schema": SARIF_SCHEMA,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}],
    }


def _result(one: Finding, index: int) -> dict[str, Any]:
    location = {
        "physicalLocation": {
            "artifactLocation": {"uri": one.place.file.replace("\\", "/")},
            "region": {"startLine": max(one.place.line, 1)},
        }
    }
    result: dict[str, Any] = {
        "ruleId": one.slug,
        "ruleIndex": index,
        "level": LEVELS[one.severity],
        "kind": "open" if one.severity == "unknown" else "fail",
        "message": {"text": f"{one.subject}: {one.what}. {one.remedy}"},
        "locations": [location],
    }
    if one.severity == "unknown":
        result["level"] = "none"  # the specification asks for it beside any kind but `fail`
    if one.accepted:
        result["suppressions"] = [{"kind": "inSource", "justification": one.accepted}]
    return result


def junit(findings: Sequence[Finding], network: str) -> str:
    """Return JUnit XML: every check is a test case, which fails with what it found.

    Notes and accepted findings are output of the case; what could not be told makes it skipped.
    """
    by_check: dict[str, list[Finding]] = {slug: [] for slug in CHECKS}
    for each in findings:
        by_check[each.slug].append(each)
    suite = ElementTree.Element("testsuite", name=f"lattice check {network}".strip(), tests=str(len(by_check)))
    failures = skipped = 0
    for slug, members in by_check.items():
        case = ElementTree.SubElement(suite, "testcase", name=slug, classname=f"lattice.{CHECKS[slug].theme}")
        failed = [each for each in members if each.severity in ("error", "warning") and not each.accepted]
        unknown = [each for each in members if each.severity == "unknown" and not each.accepted]
        if failed:
            failures += 1
            failure = ElementTree.SubElement(case, "failure", type=failed[0].severity, message=failed[0].what)
            failure.text = _lines(failed)
        elif unknown:
            skipped += 1
            ElementTree.SubElement(case, "skipped", message=unknown[0].what)
        rest = [each for each in members if each not in failed]
        if rest:
            ElementTree.SubElement(case, "system-out").text = _lines(rest)
    suite.set("failures", str(failures))
    suite.set("skipped", str(skipped))
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"


def _lines(findings: Iterable[Finding]) -> str:
    return "\n".join(
        f"{one.place}: {one.severity}: {one.subject}: {one.what}. {one.remedy}"
        + f" (accepted: {one.accepted})" * bool(one.accepted)
        for one in findings
    )
