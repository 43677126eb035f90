"""`lattice read`: a configuration becomes intent, and what was not understood is listed."""

from __future__ import annotations

import sys
from argparse import Namespace
from pathlib import Path

from agile_lattice.cli.documents import WasRead
from agile_lattice.cli.output import print_json
from agile_lattice.dialects import as_intent, read_device
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.model import Network
from agile_lattice.notation.located import read_text
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from agile_lattice.show.differences import show_leftovers
from agile_lattice.show.terminal import console


def run(arguments: Namespace) -> int:
    """Read; 1 if lines were left over. Leftovers go to the error stream, so that the intent can be piped."""
    texts = [(file, read_text(Path(file))) for file in arguments.files]
    speaks = [name.strip() for name in arguments.speaks.split(",") if name.strip()]
    # A user's own dialects lie beside where the intent is going to be: here.
    device, leftovers = as_intent(read_device(arguments.device, speaks, texts, catalogue_beside(Path.cwd())))
    if arguments.format == "json":
        print_json(WasRead({device.name: device_data(device)}, leftovers))
    else:
        sys.stdout.write(write(Network("", (device,))))
        show_leftovers(console(sys.stderr), leftovers)
    return 1 if leftovers else 0
