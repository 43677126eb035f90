"""`lattice report`: a page of HTML or Markdown about a network, how its devices differ from it, or a change of it."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from agile_lattice.checks import findings
from agile_lattice.cli.captures import captured_texts
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import write_files
from agile_lattice.cli.revisions import intent_of_revision
from agile_lattice.compare.changes import change
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.equivalence import verdict
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.terminal import with_progress

if TYPE_CHECKING:
    from agile_lattice.show.report import Configured, Facts


EXAMPLE = "lattice report intent.yaml report.html captures"
FORMATS: tuple[str, ...] = ()


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("into", metavar="FILE", help="the page: .html, or .md for the comment of a merge request")
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="*",
        help="a folder with a folder for each device, to be compared; or @REVISION, for what has changed since",
    )  # fmt: skip
    command.set_defaults(device=None)


def run(arguments: Namespace) -> int:
    """Write the page; 1 if it has findings or differences, or the change is felt by a packet."""
    into = Path(arguments.into)
    if into.suffix not in (".html", ".md"):
        raise fail(Place(arguments.into), "a report is an .html or an .md file", "Name it so.")
    network = load(arguments.intent)
    facts = _facts(network, arguments, catalogue_beside(Path(arguments.intent)))
    from agile_lattice.show.markdown import comment
    from agile_lattice.show.report import page

    write_files({into: page(facts) if into.suffix == ".html" else comment(facts)})
    print(into)
    differs = any(not each.same for each in facts.compared or ())
    felt = facts.change is not None and facts.change.felt
    return 1 if facts.open_findings or differs or felt else 0


def _rendered(device: Device, catalogue: Catalogue) -> Configured:
    from agile_lattice.show.report import Configured

    try:
        return Configured(device, render_device(device, catalogue, causes=True))
    except Refusals as error:
        return Configured(device, (), error.refusals)  # a design is worth a report before all of it can be rendered


def _facts(network: Network, arguments: Namespace, catalogue: Catalogue) -> Facts:
    from agile_lattice.show.report import Facts

    devices = chosen_devices(network, None)
    found = findings(network)
    rendered = [_rendered(device, catalogue) for device in with_progress(devices, "rendering")]
    if not arguments.captures:
        return Facts(network, found, rendered)
    first = arguments.captures[0]
    if first.startswith("@") and not Path(first).exists():
        before = intent_of_revision(Path(arguments.intent), first[1:] or "HEAD")
        return Facts(network, found, rendered, change=change(before, network, catalogue))
    compared, verdicts = [], []
    for device, texts in with_progress(captured_texts(network, arguments), "comparing"):
        capture = read_device(device.name, device.speaks, texts, catalogue)
        compared.append(compare(device, capture))
        verdicts.append(verdict(device, capture, catalogue))
    return Facts(network, found, rendered, compared, verdicts)
