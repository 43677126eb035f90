"""`lattice read`: a configuration becomes intent, and what was not understood is listed."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

import msgspec

from agile_lattice.archive.folders import captured_files
from agile_lattice.cli.output import exit_code, print_json
from agile_lattice.dialects import as_intent, read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.intent.model import Device, Network
from agile_lattice.notation.located import read_text
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from agile_lattice.show.differences import show_leftovers
from agile_lattice.show.terminal import Text, console

EXAMPLE = "lattice read --speaks frr,nftables --device quay-edge frr.conf ruleset.nft"
FORMATS: tuple[str, ...] = ("json",)


class WasRead(msgspec.Struct, frozen=True):
    """What a device has.

    Attributes:
        device: It in the notation of an intent, by its name.
        leftovers: What was not understood.
        unwritable: What of it the same dialects cannot express: rendered again it would be refused.
    """

    device: dict[str, Any]
    leftovers: tuple[Leftover, ...]
    unwritable: tuple[str, ...] = ()

    @property
    def settled(self) -> bool:
        """Whether all of it was understood, and can be written again."""
        return not (self.leftovers or self.unwritable)


DOCUMENTS = {"": WasRead}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    command.add_argument("files", metavar="FILE", nargs="+", help="configurations of one device, or folders of them")
    command.add_argument("--speaks", metavar="DIALECTS", required=True, help="its dialects, separated by commas")
    command.add_argument(
        "--device", metavar="NAME", default="", help="its name, if neither the files nor their folder say it"
    )


def run(arguments: Namespace) -> int:
    """Read; 1 if lines were left over, or it cannot be written again: both go to the error stream."""
    paths = [Path(each) for each in arguments.files]
    name = arguments.device or (paths[0].resolve().name if paths[0].is_dir() else "")
    texts = [(str(each), read_text(each)) for each in _files(paths, name)]
    speaks = [name.strip() for name in arguments.speaks.split(",") if name.strip()]
    # A user's own dialects lie beside where the intent is going to be: here.
    catalogue = catalogue_beside(Path.cwd())
    device, leftovers = as_intent(read_device(name, speaks, texts, catalogue))
    found = WasRead({device.name: device_data(device)}, leftovers, _unwritable(device, catalogue))
    if arguments.format == "json":
        print_json(found)
    else:
        sys.stdout.write(write(Network("", (device,))))
        err = console(sys.stderr)
        show_leftovers(err, leftovers)
        for words in found.unwritable:
            err.print(Text(f"cannot be written again: {words}", style="strong"))
    return exit_code([found])


def _files(paths: list[Path], device: str) -> list[Path]:
    """Return files, and those of folders, in their order."""
    if not any(each.is_dir() for each in paths):
        return paths
    return [each.path for each in captured_files(paths, device).read]


def _unwritable(device: Device, catalogue: Catalogue) -> tuple[str, ...]:
    """Return what the dialects that a device was read with cannot express of it."""
    try:
        render_device(device, catalogue)
    except Refusals as refused:
        return tuple(str(each) for each in refused.refusals)
    return ()
