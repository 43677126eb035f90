"""A network as one page of HTML that needs nothing else: drawing, addresses, findings, differences, configuration."""

from __future__ import annotations

import io
from collections.abc import Sequence

from jinja2 import Environment, PackageLoader, StrictUndefined

from agile_lattice.checks import Finding
from agile_lattice.compare.differences import Comparison, Difference
from agile_lattice.dialects import Rendered
from agile_lattice.intent.model import Device, Network
from agile_lattice.show.differences import CHANGES, WEIGHTS
from agile_lattice.show.network import network_figure
from agile_lattice.show.terminal import plural

Cell = tuple[str, str]  # a class of the page, and words


def report(
    network: Network,
    findings: Sequence[Finding],
    rendered: Sequence[tuple[Device, Sequence[Rendered]]],
    compared: Sequence[Comparison] | None = None,
) -> str:
    """Write the page.

    Args:
        network: The network.
        findings: What the rulebook says of it.
        rendered: Its devices, each with its configuration.
        compared: How devices differ from it; `None` if that was not looked at.
    """
    pages = Environment(
        loader=PackageLoader("agile_lattice.show", "pages"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    differences = (
        None if compared is None else [_difference(each, one) for each in compared for one in each.differences]
    )
    open_findings = [each for each in findings if not each.accepted]
    counts = [(len(network.devices), "devices"), (len(open_findings), "findings")]
    counts += [(len(differences), "differences")] if differences is not None else []
    contents = {"network": "Network", "addresses": "Addresses", "findings": "Findings"}
    contents |= {"differences": "Differences"} if differences is not None else {}
    drawn = ", ".join(each.name for each in network.devices)
    return pages.get_template("report.html").render(
        network=network, contents=[*contents.items(), ("devices", "Configuration")], counts=counts,
        drawing=_drawing(network), drawn=f"{plural(len(network.devices), 'device')}: {drawn}",
        addresses=_addresses(network), findings=[_finding(each) for each in open_findings], differences=differences,
        devices=rendered, table=pages.get_template("table.html").module.table,  # type: ignore[attr-defined]
    )  # fmt: skip


def _drawing(network: Network) -> str:
    import matplotlib

    data = io.StringIO()
    with matplotlib.rc_context({"svg.hashsalt": "lattice"}):  # the same network gives the same page
        network_figure(network).savefig(data, format="svg", metadata={"Date": None})
    text = data.getvalue()
    return text[text.index("<svg") :]


def _addresses(network: Network) -> list[list[Cell]]:
    return [
        [("", device.name), ("", one.name), ("", str(own)), ("", one.zone), ("place", str(one.place_of(index)))]
        for device in network.devices
        for one in device.interfaces
        for index, own in enumerate(one.addresses)
    ]


def _finding(one: Finding) -> list[Cell]:
    return [
        (one.severity, f"{one.severity}: {one.slug}"), ("", one.subject), ("", one.what), ("", one.remedy),
        ("place", str(one.place)),
    ]  # fmt: skip


def _difference(of: Comparison, one: Difference) -> list[Cell]:
    sides: list[list[str]] = [[], []]
    for field in one.fields:
        sides[0].append(f"{field.name}: {field.intent or '-'}")
        sides[1].append(f"{field.name}: {field.device or '-'}")
    packet = ""
    if one.witness is not None:
        packet = f"{one.witness.header}, in by {one.witness.arrives}"
        sides[0].append(one.witness.intent)
        sides[1].append(one.witness.device)
    note = f" ({one.note})" if one.note else ""
    return [
        ("", of.device), ("", f"{one.subject}, {CHANGES[one.change]}{note}"), (one.weight, WEIGHTS[one.weight][0]),
        ("intent", "; ".join(sides[0]) or "-"), ("there", "; ".join(sides[1]) or "-"), ("", packet),
    ]  # fmt: skip
