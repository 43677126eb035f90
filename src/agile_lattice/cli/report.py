"""`lattice report`: one page of HTML about a network, or about how its devices differ from it."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

from agile_lattice.checks import findings
from agile_lattice.cli.captures import captured_texts
from agile_lattice.cli.output import write_files
from agile_lattice.compare.comparing import compare
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import chosen_devices


def run(arguments: Namespace) -> int:
    """Write the page; 1 if it has findings or differences."""
    network = load(arguments.intent)
    catalogue = catalogue_beside(Path(arguments.intent))
    devices = chosen_devices(network, None)
    found = findings(network)
    compared = [
        compare(device, read_device(device.name, device.speaks, texts, catalogue))
        for device, texts in (captured_texts(network, arguments) if arguments.captures else ())
    ]
    from agile_lattice.show.report import report

    rendered = [(device, render_device(device, catalogue)) for device in devices]
    page = report(network, found, rendered, compared if arguments.captures else None)
    write_files({Path(arguments.into): page})
    print(arguments.into)
    return 1 if any(not each.accepted for each in found) or any(not each.same for each in compared) else 0
