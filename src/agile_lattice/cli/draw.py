"""`lattice draw`: the network as a picture."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

from agile_lattice.cli.output import write_picture
from agile_lattice.notation.loading import load


def run(arguments: Namespace) -> int:
    """Draw; 0 once the file is written."""
    network = load(arguments.intent)
    from agile_lattice.show.network import network_figure

    write_picture(network_figure(network), Path(arguments.into))
    return 0
