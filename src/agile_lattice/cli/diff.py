"""`lattice diff`: devices compared with their intent."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from msgspec.structs import replace

from agile_lattice.cli.captures import captured_texts
from agile_lattice.cli.options import add_captures
from agile_lattice.cli.output import print_json, write_picture
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.differences import Comparison, Effect
from agile_lattice.dialects import read_device
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.notation.loading import load
from agile_lattice.show.differences import show_comparisons
from agile_lattice.show.terminal import console, with_progress

EXAMPLE = "lattice diff intent.yaml captures"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": list[Comparison]}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_captures(command)
    command.add_argument(
        "--only", choices=["changes-traffic", "may-change-traffic", "description-only", "no-effect"],
        help="show only these differences; the exit code is 1 if there are others, too",
    )  # fmt: skip
    command.add_argument("--picture", metavar="FILE", help="draw devices by sections, as .png or .svg")


def run(arguments: Namespace) -> int:
    """Compare; 1 if anything differs, was not understood or not compared, whether it is shown or not."""
    network = load(arguments.intent)
    catalogue = catalogue_beside(Path(arguments.intent))
    comparisons = [
        compare(device, read_device(device.name, device.speaks, texts, catalogue))
        for device, texts in with_progress(captured_texts(network, arguments), "comparing")
    ]
    if arguments.only:
        comparisons = [_only(each, arguments.only) for each in comparisons]
    if arguments.picture:
        from agile_lattice.show.sections import sections_figure

        write_picture(sections_figure(comparisons), Path(arguments.picture))
    if arguments.format == "json":
        print_json(comparisons)
    else:
        out = console()
        show_comparisons(out, comparisons)
        for device in network.devices:
            if not arguments.device and device.name not in [each.device for each in comparisons]:
                out.print(f"{device.name}: not captured, so not compared", style="strong")
    return 0 if all(each.same for each in comparisons) else 1


def _only(comparison: Comparison, effect: Effect) -> Comparison:
    """Leave the differences of one effect, and count the others: the device is not the same because of these, too."""
    kept = tuple(each for each in comparison.differences if each.effect == effect)
    return replace(comparison, differences=kept, left_out=len(comparison.differences) - len(kept))
