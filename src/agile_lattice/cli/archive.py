"""`lattice archive`: what an archive of captures has, and which states are known to be good."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from agile_lattice.archive.repository import Archive, ArchiveError, Round
from agile_lattice.cli.options import add_action
from agile_lattice.cli.output import print_json
from agile_lattice.show.capturing import show_log
from agile_lattice.show.terminal import console

EXAMPLE = "lattice archive log archive"
FORMATS: tuple[str, ...] = ()
DOCUMENTS = {"log": list[Round], "good": Round}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    actions = command.add_subparsers(title="actions", metavar="ACTION", dest="action", required=True)
    action = add_action(actions, "log", "list the rounds of captures, the last one first")
    action.add_argument("archive", metavar="ARCHIVE", help="the archive")
    action.add_argument("--device", metavar="NAME", help="only the rounds in which this device changed")
    action = add_action(actions, "good", "say that the state of a device is known to be good")
    action.add_argument("archive", metavar="ARCHIVE", help="the archive")
    action.add_argument("device", metavar="DEVICE", help="the device")
    action.add_argument(
        "revision", metavar="REVISION", nargs="?", default="",
        help="a revision, or a day such as 2026-11-20 for what was there at its end; the last one if it is left out",
    )  # fmt: skip


def run(arguments: Namespace) -> int:
    """Show, or mark."""
    path = Path(arguments.archive)
    if not Archive.is_one(path):
        raise ArchiveError(f"{path} is no archive\n    `lattice capture INTENT --into {path}` makes one.")
    archive = Archive(path)
    if arguments.action == "good":
        revision = archive.revision(arguments.revision)
        if arguments.device not in archive.devices(revision):
            raise ArchiveError(f"{path} has no capture of {arguments.device} in {revision[:10]}")
        archive.set_good(arguments.device, revision)
        marked = next(each for each in archive.rounds() if each.revision == revision)
        if arguments.format == "json":
            print_json(marked)
        else:
            console().print(f"{arguments.device}: known to be good as captured in {revision[:10]}, {marked.when[:16]}")
        return 0
    rounds = archive.rounds(arguments.device or "")
    if arguments.format == "json":
        print_json(rounds)
    else:
        show_log(console(), rounds, archive.all_good())
    return 0
