"""A report of many devices: an index, and a page for each device that it leads to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from agile_lattice.checks import Finding
from agile_lattice.compare.differences import Comparison
from agile_lattice.compare.equivalence import Verdict
from agile_lattice.compare.fleets import Shared, by_difference
from agile_lattice.fleet.sharing import side_by_side
from agile_lattice.show.differences import CHANGES, EFFECTS, missing_words
from agile_lattice.show.differences import summary as compared_words
from agile_lattice.show.fleets import own_words
from agile_lattice.show.proving import summary as proven_words
from agile_lattice.show.report import Cell, Configured, Facts, page
from agile_lattice.show.templates import template
from agile_lattice.show.terminal import nearest, plural

INDEX, UP = "index.html", "../index.html"
AT_ONCE = 8  # pages that a process writes before it hands them over


def pages(facts: Facts, jobs: int = 1) -> Iterator[tuple[str, str]]:
    """Yield the name and the text of each page of a folder: the index first.

    Args:
        facts: What is told of all devices.
        jobs: How many processes write pages.
    """
    yield INDEX, _index(facts)
    yield from side_by_side(_Parts.page, _Parts(facts), range(len(facts.rendered)), jobs, AT_ONCE)


class _Parts:
    """What is told of each device.

    Args:
        facts: What is told of all of them.
    """

    def __init__(self, facts: Facts) -> None:
        self.facts = facts
        self.compared = {each.device: each for each in facts.compared or ()}
        self.verdicts = {each.device: each for each in facts.verdicts}
        self.findings = _by_device(facts.open_findings)
        self.observed = {each.device: each for each in facts.observed or ()}

    def page(self, number: int) -> tuple[str, str]:
        """Return the name and the text of the page of a device."""
        facts, one = self.facts, self.facts.rendered[number]
        name = one.device.name
        mine = Facts(
            replace(facts.network, devices=(one.device,), blocks=()), self.findings.get(name, []), [one],
            None if facts.compared is None else [self.compared[name]] if name in self.compared else [],
            [self.verdicts[name]] if name in self.verdicts else [],
            failed={name: facts.failed[name]} if name in facts.failed else {},
            observed=None if facts.observed is None else [self.observed[name]] if name in self.observed else [],
        )  # fmt: skip
        return _page_of(name), page(mine, UP)


def _index(facts: Facts) -> str:
    compared, network = facts.compared, facts.network
    shared = None if compared is None else by_difference(compared)
    differ = sum(not each.same for each in compared or () if each.captured)
    absent = sum(not each.captured for each in compared or ())
    counted = [(len(network.devices), "device"), (len(facts.open_findings), "finding")]
    counted += [(differ, "device not the same as the intent")] if compared is not None else []
    counted += [(absent, "device without a capture")] if absent else []
    counted += [(len(facts.failed), "device that could not be compared")] if facts.failed else []
    counts = [(count, what if count == 1 else what.replace("device", "devices").replace("finding", "findings"))
              for count, what in counted]  # fmt: skip
    contents = ({"differences": "Differences"} if shared is not None else {}) | {"devices": "Devices"}
    heads = ("device", "speaks", "compared", "every packet", "findings", "rendered")
    return template("fleet.html").render(
        title=network.name or "Network", index="", contents={**contents, "findings": "Findings"}, counts=counts,
        heads=heads,
        shared=None if shared is None else [_difference(each) for each in shared],
        findings=[_finding(each) for each in facts.open_findings], devices=_devices(facts),
        table=template("table.html").module.table,  # type: ignore[attr-defined]
    )  # fmt: skip


def _devices(facts: Facts) -> list[list[Cell]]:
    """Return a row for each device: those that are not as the intent says come first."""
    compared = {each.device: each for each in facts.compared or ()}
    verdicts = {each.device: each for each in facts.verdicts}
    findings = _by_device(facts.open_findings)
    rows = []
    for one in facts.rendered:
        name = one.device.name
        of_it = compared.get(name), verdicts.get(name), findings.get(name, []), facts.failed.get(name, "")
        rows.append(_device(one, *of_it))
    return [row for _, row in sorted(rows, key=lambda each: each[0])]


def _device(
    one: Configured, compared: Comparison | None, verdict: Verdict | None, findings: Sequence[Finding], failed: str
) -> tuple[bool, list[Cell]]:
    name, fine = one.device.name, not failed and (compared is None or compared.same)
    words = failed if compared is None else compared_words(compared)
    missing = missing_words(compared) if compared is not None and compared.captured else []
    more = "".join(f"; {each}" for each in missing)
    proven = "" if verdict is None else proven_words(verdict)
    lines = sum(len(each.text.splitlines()) for each in one.texts)
    return fine, [
        ("", name, _page_of(name)), ("", ", ".join(one.device.speaks), ""), ("" if fine else "open", words + more, ""),
        ("" if verdict is None or verdict.same else "open", proven, ""),
        ("open" if findings else "", str(len(findings) or ""), ""),
        ("open", "it cannot be rendered", "") if one.refusals else ("", f"{lines} lines", ""),
    ]  # fmt: skip


def _difference(one: Shared) -> list[Cell]:
    first = one.devices[0]
    count = plural(len({*one.devices}), "device")
    what = one.subject, CHANGES.get(one.change, "not compared"), *own_words(one)
    return [
        ("", count, ""), ("", "\n".join(what), ""), (one.effect, EFFECTS[one.effect][0], ""),
        ("intent", "\n".join(f"{each.name}: {each.intent or '-'}" for each in one.fields) or "-", ""),
        ("there", "\n".join(f"{each.name}: {each.device or '-'}" for each in one.fields) or "-", ""),
        ("", first, _page_of(first)),
    ]  # fmt: skip


def _finding(one: Finding) -> list[Cell]:
    return [
        (one.severity, f"{one.severity}: {one.slug}", ""), ("", one.subject, ""), ("", one.what, ""),
        ("", one.remedy, ""), ("place", nearest(one.place), ""),
    ]  # fmt: skip


def _by_device(findings: Sequence[Finding]) -> dict[str, list[Finding]]:
    """Return findings by the device that they are about; their subject begins with its name."""
    found: dict[str, list[Finding]] = {}
    for each in findings:
        found.setdefault(each.subject.partition(" ")[0], []).append(each)
    return found


def _page_of(device: str) -> str:
    return f"devices/{device}.html"
