"""How values show themselves in a notebook: a network as its drawing, the rest as tables."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from agile_lattice.behaviour.walking import Walk
from agile_lattice.checks import Finding
from agile_lattice.compare.differences import Comparison
from agile_lattice.compare.equivalence import Verdict
from agile_lattice.intent.model import Network
from agile_lattice.show.differences import summary as difference_summary
from agile_lattice.show.network import network_figure
from agile_lattice.show.proving import PARTS
from agile_lattice.show.proving import summary as verdict_summary
from agile_lattice.show.report import difference_words, stage_rows, svg
from agile_lattice.show.templates import template
from agile_lattice.show.walking import reply_words

Table = tuple[Sequence[str], Iterable[Sequence[str]]]
WALKED = ("device", "stage", "packet", "decided by")


def network_html(network: Network) -> str:
    """Return a network as its drawing."""
    return _fragment(drawing=svg(network_figure(network), "net"))


def finding_html(finding: Finding) -> str:
    """Return a finding as a table of one row."""
    row = (str(finding.place), f"{finding.severity}: {finding.slug}", finding.subject, finding.what, finding.remedy)
    return _fragment(tables=[(("place", "finding", "on", "what", "what to do"), [row])])


def comparison_html(comparison: Comparison) -> str:
    """Return what differs on a device as a table."""
    heads = ("what", "effect", "intent", "device has", "example packet")
    rows = [difference_words(one) for one in comparison.differences]
    left = [(str(each.place), each.text, each.reason) for each in comparison.leftovers]
    tables: list[Table] = [(heads, rows)] if rows else []
    tables += [(("not understood", "", "why"), left)] if left else []
    return _fragment(f"{comparison.device}: {difference_summary(comparison)}", tables=tables)


def walk_html(walk: Walk) -> str:
    """Return a packet's way as a table of stages."""
    end = "; ".join([walk.outcome, *(words for words, _ in reply_words(walk))])
    return _fragment(str(walk.visits[0].before), tables=[(WALKED, stage_rows(walk))], end=end)


def verdict_html(verdict: Verdict) -> str:
    """Return what was found out about every packet: for each set of packets one of it, and what becomes of it."""
    rows = [
        (PARTS[each.parting.part], f"{each.witness.header}, in {each.witness.arrives}", each.witness.intent,
         each.witness.device)
        for each in verdict.shown if each.witness is not None
    ]  # fmt: skip
    tables = [(("stage", "such as", "the one", "the other"), rows)] if rows else []
    return _fragment(f"{verdict.device}: {verdict_summary(verdict)}", tables=tables)


def _fragment(title: str = "", drawing: str = "", tables: Sequence[Table] = (), end: str = "") -> str:
    return template("fragment.html").render(title=title, drawing=drawing, tables=tables, end=end)
