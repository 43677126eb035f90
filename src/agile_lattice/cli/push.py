"""`lattice push`: a device brought in line with its intent, with a way back that the device itself takes."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from agile_lattice.archive.repository import Archive
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import device_named
from agile_lattice.push.planning import Plan, PushRefused
from agile_lattice.push.pushing import Pushed, Pusher
from agile_lattice.show.differences import show_comparisons
from agile_lattice.show.mending import show_changes
from agile_lattice.show.terminal import Text, console
from agile_lattice.transport.sealing import seal_key

EXAMPLE = "lattice push intent.yaml archive --device quay-edge"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": Pushed}
SECONDS = 60


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("archive", metavar="ARCHIVE", help="the archive with the last capture of the device")
    command.add_argument("--device", metavar="NAME", required=True, help="the device")
    command.add_argument(
        "--seconds", metavar="N", type=int, default=SECONDS,
        help=f"how long the change stays if nobody confirms it (default: {SECONDS})",
    )  # fmt: skip
    command.add_argument(
        "--untimed", action="store_true",
        help="push over RESTCONF, where a device has no way back of its own if the link is lost",
    )  # fmt: skip
    what = command.add_mutually_exclusive_group()
    what.add_argument("--yes", action="store_true", help="do not ask")
    what.add_argument("--dry-run", action="store_true", help="show the change, and make none")
    what.add_argument("--back", action="store_true", help="take back a push that did not end")


def run(arguments: Namespace) -> int:
    """Push; 0 if the change is kept, or there is none to make; 1 if it is not kept."""
    network = load(arguments.intent)
    path = Path(arguments.intent)
    if not Archive.is_one(Path(arguments.archive)):
        raise fail(Place(arguments.archive), "this is no archive", "`lattice capture INTENT --into ARCHIVE` makes one.")
    if not 1 <= arguments.seconds <= 3600:
        raise fail(Place(), "--seconds is from 1 to 3600", "")
    pusher = Pusher(
        device_named(network, arguments.device), Archive(Path(arguments.archive)), catalogue_beside(path),
        path if path.is_dir() else path.parent, seal_key(),
    )  # fmt: skip
    err = console(sys.stderr)
    if arguments.back:
        state = pusher.take_back()
        _told(arguments, Pushed(arguments.device, state or "none", "" if state else "no push is unfinished"))
        return 1 if state == "stuck" else 0
    plan = pusher.plan(arguments.seconds)
    if plan is None:
        return _told(arguments, Pushed(arguments.device, "none", "it is as the intent says"))
    if arguments.format == "text":
        _show(plan)
    if arguments.dry_run:
        return 1
    if not pusher.goes_back and not arguments.untimed:
        raise PushRefused(
            arguments.device, "over RESTCONF it has no way back of its own: if the link is lost, a change stays",
            "Give --untimed to push all the same.",
        )  # fmt: skip
    if not arguments.yes and not _agreed(arguments.device, arguments.seconds if pusher.goes_back else 0):
        return _told(arguments, Pushed(arguments.device, "none", "nobody wanted it"))
    return _told(arguments, pusher.push(plan, lambda words: err.print(f"{arguments.device}: {words}", style="remedy")))


def _show(plan: Plan) -> None:
    out = console()
    show_comparisons(out, [plan.comparison])
    show_changes(out, [plan.mending])
    out.print()


def _agreed(device: str, seconds: int) -> bool:
    """Ask whether the change is wanted."""
    if not sys.stdin.isatty():
        raise fail(Place(), "nobody can be asked here", "Give --yes to push without being asked.")
    back = f"It goes back after {seconds} s" if seconds else "It is taken back while the device can be reached,"
    question = f"Make this change on {device}? {back} unless it does what it is for. [y/N] "
    return input(question).strip().lower() in ("y", "yes")


def _told(arguments: Namespace, pushed: Pushed) -> int:
    """Print what came of it; return the exit code."""
    if arguments.format == "json":
        print_json(pushed)
    else:
        console().print(Text(f"{pushed.device}: {_words(pushed)}", style="head" if _is_well(pushed) else "strong"))
    return 0 if _is_well(pushed) else 1


def _is_well(pushed: Pushed) -> bool:
    return pushed.outcome in ("kept", "none")


def _words(pushed: Pushed) -> str:
    if pushed.outcome == "kept":
        return f"changed, and known to be good as captured in {pushed.revision[:10]}"
    words = {
        "back": "as it was before",
        "none": "nothing was changed",
        "stuck": "neither as before nor as the intent says",
    }
    return f"{words.get(pushed.outcome, pushed.outcome)}: {pushed.reason}" if pushed.reason else words[pushed.outcome]
