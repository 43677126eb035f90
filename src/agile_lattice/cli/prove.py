"""`lattice prove`: whether devices treat every packet as the intent says."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

from agile_lattice.cli.captures import captured_texts
from agile_lattice.cli.output import print_json
from agile_lattice.compare.verdicts import verdict
from agile_lattice.dialects import read_device
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.notation.loading import load
from agile_lattice.show.proving import show_verdict
from agile_lattice.show.terminal import console


def run(arguments: Namespace) -> int:
    """Compare; 1 unless all is proven."""
    network = load(arguments.intent)
    catalogue = catalogue_beside(Path(arguments.intent))
    verdicts = [
        verdict(device, read_device(device.name, device.speaks, texts, catalogue), catalogue)
        for device, texts in captured_texts(network, arguments)
    ]
    if arguments.format == "json":
        print_json(verdicts)
    else:
        for each in verdicts:
            show_verdict(console(), each)
    return 0 if all(each.same for each in verdicts) else 1
