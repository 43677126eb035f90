"""`lattice diff`: devices held against their intent."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from agile_lattice.cli.output import device_named, print_json
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.differences import Comparison, Weight
from agile_lattice.dialects import read_device
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.located import read_text
from agile_lattice.show.differences import show_comparison
from agile_lattice.show.terminal import console


def run(arguments: Namespace) -> int:
    """Compare; 1 if anything differs or was not understood."""
    network = load(arguments.intent)
    captures = captured_files(network, [Path(each) for each in arguments.captures], arguments.device)
    catalogue = catalogue_beside(Path(arguments.intent))
    comparisons = [compare_files(device, files, catalogue) for device, files in captures]
    if arguments.only:
        comparisons = [_only(each, arguments.only) for each in comparisons]
    if arguments.format == "json":
        print_json(comparisons)
    else:
        out = console()
        for comparison in comparisons:
            show_comparison(out, comparison)
        for device in network.devices:
            if not arguments.device and device.name not in [each.device for each in comparisons]:
                out.print(f"{device.name}: not captured, so not compared", style="strong")
    return 0 if all(each.same for each in comparisons) else 1


def _only(comparison: Comparison, weight: Weight) -> Comparison:
    """Leave the differences of one weight; the exit code follows what is left."""
    kept = tuple(each for each in comparison.differences if each.weight == weight)
    return replace(comparison, differences=kept)


def compare_files(device: Device, files: Sequence[Path], catalogue: Catalogue) -> Comparison:
    """Read the files of a device and hold them against its intent."""
    texts = [(str(file), read_text(file)) for file in files]
    return compare(device, read_device(device.name, device.speaks, texts, catalogue))


def captured_files(network: Network, captures: Sequence[Path], name: str | None) -> list[tuple[Device, list[Path]]]:
    """Find out which files are of which device.

    Raises:
        NotationError: If that cannot be told.
    """
    for path in captures:
        if not path.exists():
            raise fail(Place(str(path)), "there is no such file or folder")
    if name:
        files = [file for path in captures for file in (_files(path) if path.is_dir() else [path])]
        return [(device_named(network, name), files)]
    known = [device.name for device in network.devices]
    folders = [folder for path in captures if path.is_dir() for folder in sorted(path.iterdir()) if folder.is_dir()]
    folders.sort(key=lambda folder: known.index(folder.name) if folder.name in known else 0)
    if not folders:
        raise fail(
            Place(str(captures[0])), "which device is this of?",
            "Say so with --device, or give a folder that has a folder for each device.",
        )  # fmt: skip
    return [(device_named(network, folder.name), _files(folder)) for folder in folders]


def _files(folder: Path) -> list[Path]:
    files = sorted(file for file in folder.iterdir() if file.is_file() and not file.name.startswith("."))
    if not files:
        raise fail(Place(str(folder)), "the folder holds no files", "Capture the device's configuration into it.")
    return files
