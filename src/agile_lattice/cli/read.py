"""`lattice read`: a configuration becomes intent, and what was not understood is listed."""

from __future__ import annotations

import sys
from argparse import Namespace
from pathlib import Path

from agile_lattice.cli.output import print_json
from agile_lattice.dialects import read_device
from agile_lattice.notation.located import read_text
from agile_lattice.notation.writing import device_data, write
from agile_lattice.show.differences import show_leftovers
from agile_lattice.show.terminal import console


def run(arguments: Namespace) -> int:
    """Read; 1 if lines were left over. Leftovers go to the error stream, so that the intent can be piped."""
    texts = [(file, read_text(Path(file))) for file in arguments.files]
    speaks = [name.strip() for name in arguments.speaks.split(",") if name.strip()]
    capture = read_device(arguments.device, speaks, texts)
    if arguments.format == "json":
        print_json({"device": {capture.device.name: device_data(capture.device)}, "leftovers": capture.leftovers})
    else:
        sys.stdout.write(write([capture.device]))
        show_leftovers(console(sys.stderr), capture.leftovers)
    return 1 if capture.leftovers else 0
