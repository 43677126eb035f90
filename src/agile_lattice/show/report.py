"""A network, how its devices differ from it, or a change of it, as one page of HTML that needs nothing else."""

from __future__ import annotations

import io
import linecache
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import msgspec

from agile_lattice.behaviour.pipeline import Stage
from agile_lattice.behaviour.walking import Walk
from agile_lattice.checks import Finding
from agile_lattice.compare.changes import Change
from agile_lattice.compare.differences import Comparison, Difference
from agile_lattice.compare.equivalence import Shown, Verdict
from agile_lattice.dialects import Rendered
from agile_lattice.dialects.errors import Refusal
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.plan.usage import plans
from agile_lattice.show.address_map import strip_figure
from agile_lattice.show.counterparts import counterpart_rows
from agile_lattice.show.differences import CHANGES, EFFECTS, missing_words, shown_differences
from agile_lattice.show.network import network_figure
from agile_lattice.show.observing import FLOWS, MOST, count_words, failing, flow_words, observed_words, pool_words
from agile_lattice.show.proving import PARTS, summary
from agile_lattice.show.templates import template
from agile_lattice.show.terminal import nearest, plural
from agile_lattice.show.walking import NAMES

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from agile_lattice.observe.observing import Observed

LONG, NEAR = 2000, 2  # lines of a file of which only a part is shown, and lines around what is spoken of
Cell = tuple[str, str, str]  # a class of the page, words, and where in the page they lead to


class Configured(msgspec.Struct, frozen=True):
    """A device with its configuration, and of every line where it comes from; or why it cannot be rendered."""

    device: Device
    texts: Sequence[Rendered]
    refusals: Sequence[Refusal] = ()


class Facts(msgspec.Struct, frozen=True):
    """What a report tells.

    Attributes:
        network: The network.
        findings: What the checks found in it.
        rendered: Its devices, each with its configuration.
        compared: How captured devices differ from it; `None` if that was not looked at.
        verdicts: Whether each packet is treated by them as the intent says.
        change: What a change of the intent means; `None` if that was not looked at.
        failed: Devices that could not be compared, each with the reason.
        observed: What devices are doing; `None` if they were not asked.
    """

    network: Network
    findings: Sequence[Finding]
    rendered: Sequence[Configured]
    compared: Sequence[Comparison] | None = None
    verdicts: Sequence[Verdict] = ()
    change: Change | None = None
    failed: Mapping[str, str] = {}
    observed: Sequence[Observed] | None = None

    @property
    def open_findings(self) -> list[Finding]:
        """The findings that nobody has accepted."""
        return [each for each in self.findings if not each.accepted]


def page(facts: Facts, index: str = "") -> str:
    """Write the page; `index` is where the page is that leads here, if there is one."""
    network, sources = facts.network, _Sources()
    compared = facts.compared
    differences = None if compared is None else [row for each in compared for row in _differences(each, sources)]
    verdicts = [*facts.verdicts, *(facts.change.verdicts if facts.change is not None else ())]
    drawn = ", ".join(each.name for each in network.devices)
    blocks = [each for each in plans(network) if each.name in {block.name for block in network.blocks}]
    return template("report.html").render(
        title=network.devices[0].name if index else network.name or "Network",
        contents=_contents(facts, index, bool(verdicts)), counts=_counts(facts, index),
        drawing="" if index else svg(network_figure(network), "net"),
        drawn=f"{plural(len(network.devices), 'device')}: {drawn}",
        plan=svg(strip_figure(blocks), "plan") if blocks else "",
        planned="; ".join(f"{each.name} {each.prefix}: {each.left} left" for each in blocks),
        addresses=_addresses(network, sources), findings=[_finding(each, sources) for each in facts.open_findings],
        differences=differences, rules=[
            (each.device, f"rules-{number}", [_plain(*row) for row in counterpart_rows(each.rules)])
            for number, each in enumerate(compared or (), 1) if each.rules is not None
        ], observed=None if facts.observed is None else [_in_use(*each) for each in enumerate(facts.observed, 1)],
        change=facts.change, sides=("before", "now") if facts.change else ("intent", "device"),
        packets=[
            (each, summary(each), [_packets(one) for one in each.shown if one.witness is not None])
            for each in verdicts
        ],
        devices=[
            (each.device, [(text, _listing(text, sources)) for text in each.texts],
             [(str(one), sources.anchor(one.place)) for one in each.refusals])
            for each in facts.rendered
        ],
        sources=sources, index=index, failed=facts.failed, table=template("table.html").module.table,  # type: ignore[attr-defined]
    )  # fmt: skip


def _contents(facts: Facts, index: str, packets: bool) -> dict[str, str]:
    """Return the parts of a page, by their anchors; one device alone is no drawing."""
    parts = {
        "network": "" if index else "Network", "addresses": "Addresses", "findings": "Findings",
        "differences": "Differences" if facts.compared is not None else "",
        "change": "Change" if facts.change is not None else "", "packets": "Packets" if packets else "",
        "use": "In use" if facts.observed is not None else "",
        "devices": "Configuration", "intent": "Intent",
    }  # fmt: skip
    return {anchor: words for anchor, words in parts.items() if words}


def _counts(facts: Facts, index: str) -> list[tuple[int, str]]:
    found = [] if index else [(len(facts.network.devices), "device")]
    found.append((len(facts.open_findings), "finding"))
    if facts.compared is not None:
        found.append((sum(len(shown_differences(each)) for each in facts.compared), "difference"))
    return [(count, what if count == 1 else f"{what}s") for count, what in found]


class _Sources:
    """The files of the intent, in the order in which they are first spoken of, and the anchors of their lines."""

    def __init__(self) -> None:
        self._files: list[str] = []
        self._lines: dict[str, set[int]] = {}

    def anchor(self, place: Place) -> str:
        """Return the anchor of a line; empty if it cannot be read."""
        if not place.line or not linecache.getline(place.file, place.line):
            return ""
        if place.file not in self._files:
            self._files.append(place.file)
        self._lines.setdefault(place.file, set()).add(place.line)
        return f"i{self._files.index(place.file) + 1}-{place.line}"

    def files(self) -> Iterator[tuple[str, list[tuple[str, int, str]]]]:
        """Yield the name of each file, and its lines with their anchors and numbers."""
        for number, file in enumerate(self._files, 1):
            lines, shown = linecache.getlines(file), self._shown(file)
            found: list[tuple[str, int, str]] = []
            for at in shown:
                if at - (found[-1][1] if found else 0) > 1:
                    found.append(("", 0, "..."))
                found.append((f"i{number}-{at}", at, lines[at - 1].rstrip("\n")))
            yield file, found

    def _shown(self, file: str) -> list[int]:
        """Return the lines of a file that are shown: of a long one what is spoken of, and what is near."""
        last = len(linecache.getlines(file))
        if last <= LONG:
            return [*range(1, last + 1)]
        near = {each + step for each in self._lines[file] for step in range(-NEAR, NEAR + 1)}
        return sorted(each for each in near if 1 <= each <= last)


def svg(figure: Figure, name: str) -> str:
    """Return a figure as SVG, to stand in a page; `name` tells its parts from those of other figures there."""
    import matplotlib

    data = io.StringIO()
    with matplotlib.rc_context({"svg.hashsalt": "lattice"}):  # the same network gives the same page
        figure.savefig(data, format="svg", metadata={"Date": None})
    text = data.getvalue()
    # A page has several drawings, and each calls its parts by the same names.
    return re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{name}-", text[text.index("<svg") :])


def _place(place: Place, sources: _Sources) -> Cell:
    return "place", nearest(place), sources.anchor(place)


def _plain(*words: str) -> list[Cell]:
    return [("", each, "") for each in words]


def _addresses(network: Network, sources: _Sources) -> list[list[Cell]]:
    return [
        [*_plain(device.name, one.name, str(own), one.zone), _place(one.place_of(index), sources)]
        for device in network.devices
        for one in device.interfaces
        for index, own in enumerate(one.addresses)
    ]


def _in_use(number: int, one: Observed) -> dict[str, Any]:
    """Return what a device is doing: a summary, what fails, its rules, and its translations."""
    return {
        "device": one.device, "words": observed_words(one), "wrong": [*failing(one)], "name": f"use-{number}",
        "unasked": one.unasked, "pools": [pool_words(each) for each in one.pools],
        "hits": [[*_plain(each.rule, each.kind), ("" if each.count else "open", count_words(each.count), ""),
                  ("place", str(each.place), "")] for each in one.hits],
        "flows": [[*_plain(*flow_words(each)[:2]), ("open" if each.outlives else "", flow_words(each)[2], "")]
                  for each in one.in_use[:MOST]], "heads": FLOWS, "more": max(len(one.in_use) - MOST, 0),
    }  # fmt: skip


def _finding(one: Finding, sources: _Sources) -> list[Cell]:
    head = one.severity, f"{one.severity}: {one.slug}", ""
    return [head, *_plain(one.subject, one.what, one.remedy), _place(one.place, sources)]


def _differences(one: Comparison, sources: _Sources) -> Iterator[list[Cell]]:
    """Yield what differs on a device, what was not understood, and what was not compared."""
    for each in shown_differences(one):
        yield _difference(one, each, sources)
    for left in one.leftovers:
        words = f"{nearest(left.place)}: {left.text}"
        yield [*_plain(one.device, "not understood"), ("may-change-traffic", left.reason, ""), *_plain("", words, "")]
    for words in missing_words(one):
        yield [*_plain(one.device, "not compared"), ("may-change-traffic", words, ""), *_plain("", "", "")]


def _difference(of: Comparison, one: Difference, sources: _Sources) -> list[Cell]:
    what, effect, intent, there, packet = difference_words(one)
    return [
        *_plain(of.device, what), (one.effect, effect, ""), ("intent", intent, sources.anchor(one.intent)),
        ("there", there, ""), *_plain(packet),
    ]  # fmt: skip


def difference_words(one: Difference) -> tuple[str, str, str, str, str]:
    """Return what differs, how much it matters, what each side has and does, and a packet that shows it."""
    sides: list[list[str]] = [[], []]
    for field in one.fields:
        sides[0].append(f"{field.name}: {field.intent or '-'}")
        sides[1].append(f"{field.name}: {field.device or '-'}")
    packet = ""
    if one.witness is not None:
        packet = f"{one.witness.header}, in {one.witness.arrives}"
    for side, place in zip(sides, (one.intent, one.device), strict=True):
        side += [nearest(place)] if place.line else []
    if one.witness is not None:
        sides[0].append(one.witness.intent)
        sides[1].append(one.witness.device)
    what = "\n".join(each for each in (one.subject, CHANGES[one.change], one.note) if each)
    return what, EFFECTS[one.effect][0], "\n".join(sides[0]) or "-", "\n".join(sides[1]) or "-", packet


def _packets(one: Shown) -> tuple[str, str, list[tuple[list[list[str]], str]]]:
    """Return a set of packets, one of it, and what each side does with that, stage by stage, and how it ends."""
    assert one.witness is not None
    parting = one.parting
    some = f"to {parting.destinations}" if parting.destinations is not None else ""
    if parting.region is not None:
        some = "; ".join(parting.region.told(3))
    words = one.witness.intent, one.witness.device
    walks = [
        ([row[1:] for row in stage_rows(walk)], walk.outcome) if walk is not None else ([], said)
        for walk, said in zip(one.walks, words, strict=True)
    ]
    return f"{PARTS[parting.part]}: {some}", f"{one.witness.header}, in {one.witness.arrives}", walks


def stage_rows(walk: Walk) -> Iterator[list[str]]:
    """Yield for each stage of a walk the device, the stage, the packet behind it, and what decided."""
    for visit in walk.visits:
        for stage in visit.stages:
            after = "unchanged" if stage.before == stage.after else str(stage.after)
            yield [visit.device, NAMES[stage.stage], after, _decided(stage)]


def _decided(stage: Stage) -> str:
    return f"{stage.decided or 'no rule matches'}{f' ({stage.note})' if stage.note else ''}"


def _listing(text: Rendered, sources: _Sources) -> list[tuple[str, str, str, str]]:
    """Return the lines of a text, each with the anchor, the number and the words of the line that it comes from."""
    causes = {each.line: each.place for each in text.causes}
    found = []
    for number, line in enumerate(text.text.splitlines(), 1):
        place = causes.get(number)
        anchor = sources.anchor(place) if place is not None else ""
        words = f"{place}  {linecache.getline(place.file, place.line).strip()}" if place is not None and anchor else ""
        found.append((line, anchor, str(place.line) if place is not None and anchor else "", words))
    return found
