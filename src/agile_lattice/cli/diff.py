"""`lattice diff`: devices compared with their intent."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from agile_lattice.cli.captures import texts_of
from agile_lattice.cli.options import add_assume, add_captures
from agile_lattice.cli.output import exit_code, print_json, write_picture
from agile_lattice.cli.parallel import add_jobs, devices_of, for_each, loaded_fleet
from agile_lattice.compare.differences import Comparison, Effect
from agile_lattice.compare.fleets import Shared, by_difference
from agile_lattice.fleet.work import compared
from agile_lattice.show.differences import show_comparisons
from agile_lattice.show.fleets import show_by_difference
from agile_lattice.show.terminal import console

EXAMPLE = "lattice diff intent.yaml captures"
FORMATS: tuple[str, ...] = ("json", "json-lines")
DOCUMENTS = {"": list[Comparison], "--by-difference": list[Shared]}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_captures(command)
    add_assume(command)
    command.add_argument(
        "--only", choices=["changes-traffic", "may-change-traffic", "description-only", "no-effect"],
        help="show only these differences; the exit code is 1 if there are others, too",
    )  # fmt: skip
    command.add_argument(
        "--by-difference", action="store_true", help="show each difference once, with the devices that have it"
    )
    add_jobs(command)
    command.add_argument("--picture", metavar="FILE", help="draw devices by sections, as .png or .svg")


def run(arguments: Namespace) -> int:
    """Compare; 1 if anything differs, was not understood or not compared, whether it is shown or not."""
    devices = devices_of(loaded_fleet(arguments))
    at_once = arguments.format == "json-lines" and not arguments.by_difference
    tell = (lambda each: print_json([_only(each, arguments.only)], "json-lines")) if at_once else None
    work = partial(compared, assume=tuple(arguments.assume))
    done = for_each(work, texts_of(devices, arguments), arguments, "comparing", tell)
    comparisons = [_only(each, arguments.only) for each in done.results]
    if arguments.picture:
        from agile_lattice.show.sections import sections_figure

        write_picture(sections_figure(comparisons), Path(arguments.picture))
    grouped = by_difference(comparisons) if arguments.by_difference else None
    if arguments.format == "text":
        out = console()
        if grouped is None:
            show_comparisons(out, comparisons)
        else:
            show_by_difference(out, grouped, sum(each.captured for each in comparisons))
    elif not at_once:
        print_json(comparisons if grouped is None else grouped, arguments.format)
    return done.told(exit_code(comparisons))


def _only(comparison: Comparison, effect: Effect | None) -> Comparison:
    """Leave the differences of one effect, if one is asked for; the others count, since the device is not the same."""
    if effect is None:
        return comparison
    kept = tuple(each for each in comparison.differences if each.effect == effect)
    return replace(comparison, differences=kept, left_out=len(comparison.differences) - len(kept))
