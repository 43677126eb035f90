"""`lattice read`: a configuration becomes intent, and what was not understood is listed."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

import msgspec

from agile_lattice.cli.output import print_json
from agile_lattice.dialects import as_intent, read_device
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.model import Network
from agile_lattice.notation.located import read_text
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from agile_lattice.show.differences import show_leftovers
from agile_lattice.show.terminal import console

EXAMPLE = "lattice read --speaks frr,nftables --device quay-edge frr.conf ruleset.nft"
FORMATS: tuple[str, ...] = ("json",)


class WasRead(msgspec.Struct, frozen=True):
    """A device in the notation of an intent, by its name, and what was not understood."""

    device: dict[str, Any]
    leftovers: tuple[Leftover, ...]


DOCUMENTS = {"": WasRead}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    command.add_argument("files", metavar="FILE", nargs="+", help="configurations of one device")
    command.add_argument("--speaks", metavar="DIALECTS", required=True, help="its dialects, separated by commas")
    command.add_argument("--device", metavar="NAME", default="", help="its name, if the files do not say")


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
