"""`lattice render`: the configuration of devices, to the terminal or into a folder."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TypeVar

from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json, write_files
from agile_lattice.cli.parallel import Done, add_jobs, devices_of, for_each, loaded_fleet
from agile_lattice.dialects import Rendered
from agile_lattice.dialects.errors import Refusals
from agile_lattice.fleet.packed import Packed, unpacked
from agile_lattice.fleet.tasks import Texts
from agile_lattice.fleet.work import proven, rendered
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.terminal import console, plural, visible

EXAMPLE = "lattice render intent.yaml --into rendered"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": list[Rendered]}
R = TypeVar("R")


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("--device", metavar="NAME", action="append", help="only this device; may be repeated")
    command.add_argument("--into", metavar="FOLDER", help="write files there, a folder for each device; all or none")
    command.add_argument(
        "--units", metavar="FOLDER",
        help="write units of systemd there that load what would be gone after a restart; the texts go to /etc/lattice",
    )  # fmt: skip
    add_jobs(command)
    command.add_argument(
        "--prove",
        action="store_true",
        help="read it again and prove that it is the same for every packet, or write nothing",
    )


def run(arguments: Namespace) -> int:
    """Render; nothing is printed or written unless everything can be."""
    devices = chosen_devices(devices_of(loaded_fleet(arguments)), arguments.device)
    texts = _rendered(devices, arguments)
    if arguments.prove:
        _prove(devices, texts, arguments)
    files = {Path(arguments.into) / each.device / each.file: each.text for each in texts} if arguments.into else {}
    if arguments.units and not arguments.into:
        raise fail(Place(), "`--units` needs `--into`", "Give the folder for the texts that the units load, too.")
    if arguments.units:
        folder = Path(arguments.units)
        files |= {folder / each.device / unit_name(each): each.unit for each in texts if each.unit}
    write_files(files, [Path(each) for each in (arguments.into, arguments.units) if each])
    if arguments.format == "json":
        print_json(texts)
    elif files:
        print(*files, sep="\n")
        show_what_lasts(texts, units=bool(arguments.units))
    else:
        show_texts(texts)
    return 0


def unit_name(text: Rendered) -> str:
    """Return what the unit that loads a text is called."""
    return f"lattice-{text.dialect}.service"


def show_what_lasts(texts: Sequence[Rendered], units: bool) -> None:
    """Say, on the error stream, which texts change the running system only."""
    running = sorted({each.dialect for each in texts if not each.lasts})
    if running and not units:
        console(sys.stderr).print(
            f"Running state only, gone after a restart: {', '.join(running)}. "
            "--units FOLDER writes what loads them again."
        )


def _rendered(devices: Sequence[Device | Packed], arguments: Namespace) -> list[Rendered]:
    """Render devices.

    Raises:
        Refusals: With what all of them together cannot express.
        NotationError: If one failed otherwise.
    """
    work = partial(rendered, causes=arguments.format == "json")
    done = for_each(work, [(each, []) for each in devices], arguments, "rendering")
    _all_of(done)
    refusals = [each for _, refused in done.results for each in refused]
    if refusals:
        raise Refusals(refusals)
    return [each for texts, _ in done.results for each in texts]


def _all_of(done: Done[R]) -> Done[R]:
    """Stop if a device failed: nothing is written then."""
    if done.failed:
        raise fail(Place(), f"{done.failed[0].device}: {done.failed[0].reason}", "Nothing was written.")
    return done


def _prove(devices: Sequence[Device | Packed], texts: Sequence[Rendered], arguments: Namespace) -> None:
    """Read what was rendered, and prove that it treats every packet as the intent says.

    Raises:
        NotationError: If that is not so, or is not decided.
    """
    of: dict[str, Texts] = {device.name: [] for device in devices}
    for each in texts:
        if each.text.strip():
            of[each.device].append((each.file, each.text))
    done = for_each(
        partial(proven, running=False), [(device, of[device.name]) for device in devices], arguments, "proving"
    )
    for device, found in zip(devices, _all_of(done).results, strict=True):
        if found.shown or found.hidden or found.proof.undecided:
            why = found.proof.undecided or [str(each.witness or each.unknown) for each in found.shown]
            raise fail(
                unpacked(device).place, f"{device.name}: the configuration would not do what the intent says: {why[0]}",
                "Nothing was written.",
            )  # fmt: skip


def show_texts(texts: Sequence[Rendered]) -> None:
    """Print configurations; a single one as it is, so that it can be piped into a program."""
    if len(texts) == 1:
        sys.stdout.write(visible(texts[0].text) if sys.stdout.isatty() else texts[0].text)
        return
    out = console()
    for index, each in enumerate(texts):
        if index:
            out.print()
        lines = plural(each.text.count("\n"), "line")
        out.rule(f"{each.device}: {each.dialect} ({', '.join(each.sections)}; {lines})", style="place", align="left")
        out.file.write(visible(each.text) if out.is_terminal else each.text)  # as it is, tabs and all
