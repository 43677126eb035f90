"""`lattice draw`: the network as a picture."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

from agile_lattice.cli.output import write_picture
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import chosen_devices


def run(arguments: Namespace) -> int:
    """Draw; 0 once the file is written."""
    network = load(arguments.intent)
    chosen_devices(network, None)  # there are some
    from agile_lattice.show.network import network_figure

    write_picture(network_figure(network), Path(arguments.into))
    return 0
