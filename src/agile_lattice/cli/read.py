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
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
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
    name, paths = _of_one_device([Path(each) for each in arguments.files], arguments.device)
    texts = [(str(each), read_text(each)) for each in paths]
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


def _of_one_device(paths: list[Path], device: str) -> tuple[str, list[Path]]:
    """Return the name of a device and its files, those of folders in their order.

    Raises:
        NotationError: If a folder has captures of several devices, and none is asked for.
    """
    if not any(each.is_dir() for each in paths):
        return device, paths
    [folder, *more] = paths
    inside = sorted(folder.iterdir()) if folder.is_dir() and not device else []
    if inside and all(each.is_dir() for each in inside):
        if len(inside) > 1:
            names = ", ".join(each.name for each in inside)
            raise fail(
                Place(str(folder)), f"there are captures of several devices: {names}", "Say which with --device."
            )
        folder = inside[0]
    name = device or folder.resolve().name
    return name, [each.path for each in captured_files([folder, *more], name).read]


def _unwritable(device: Device, catalogue: Catalogue) -> tuple[str, ...]:
    """Return what the dialects that a device was read with cannot express of it."""
    try:
        render_device(device, catalogue)
    except Refusals as refused:
        return tuple(str(each) for each in refused.refusals)
    return ()
