"""`lattice push`: devices brought in line with their intent, with a way back that each device itself takes."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from pathlib import Path

from agile_lattice.archive.repository import Archive
from agile_lattice.cli.options import add_intent, count
from agile_lattice.cli.output import print_json
from agile_lattice.compare.fleets import by_difference
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import device_named
from agile_lattice.push.many import Prepared, Waves, prepared
from agile_lattice.push.planning import Plan, PushRefused
from agile_lattice.push.pushing import Pushed, Pusher
from agile_lattice.push.waves import duties, in_waves
from agile_lattice.show.differences import show_comparisons
from agile_lattice.show.fleets import show_by_difference
from agile_lattice.show.mending import show_changes
from agile_lattice.show.pushing import is_well, show_pushed, show_waves
from agile_lattice.show.terminal import console, plural, with_progress
from agile_lattice.transport.sealing import seal_key

EXAMPLE = "lattice push intent.yaml archive --device quay-edge"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": list[Pushed], "--device": Pushed}
SECONDS = 60
IN_A_WAVE = 8


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("archive", metavar="ARCHIVE", help="the archive with the last captures")
    command.add_argument("--device", metavar="NAME", help="only this device (default: all, in waves)")
    command.add_argument(
        "--wave", metavar="N", type=count, default=IN_A_WAVE,
        help=f"how many devices are changed at the same time; never two that stand in for each other "
        f"(default: {IN_A_WAVE})",
    )  # fmt: skip
    command.add_argument(
        "--failures", metavar="N", type=int, default=0,
        help="how many may fail before no further wave is begun (default: 0)",
    )  # fmt: skip
    command.add_argument(
        "--seconds", metavar="N", type=int, default=SECONDS,
        help=f"how long a change stays if nobody confirms it (default: {SECONDS})",
    )  # fmt: skip
    command.add_argument(
        "--untimed", action="store_true",
        help="push over RESTCONF, where a device has no way back of its own if the link is lost",
    )  # fmt: skip
    what = command.add_mutually_exclusive_group()
    what.add_argument("--yes", action="store_true", help="do not ask")
    what.add_argument("--dry-run", action="store_true", help="show the change, and make none")
    what.add_argument(
        "--resume",
        action="store_true",
        help="go on with a push that was cut off while its change waits to be confirmed",
    )
    what.add_argument("--back", action="store_true", help="take back a push that did not end")


def run(arguments: Namespace) -> int:
    """Push; 0 if every change is kept, or there is none to make; 1 if one is not kept, 2 if one is refused."""
    network = load(arguments.intent)
    if not Archive.is_one(Path(arguments.archive)):
        raise fail(Place(arguments.archive), "this is no archive", "`lattice capture INTENT --into ARCHIVE` makes one.")
    if not 1 <= arguments.seconds <= 3600:
        raise fail(Place(), "--seconds is from 1 to 3600", "")
    if arguments.failures < 0:
        raise fail(Place(), "--failures is 0 or more", "")
    if not arguments.device:
        return _many(network, arguments)
    return _one(_pusher(device_named(network.devices, arguments.device), arguments), arguments)


def _pusher(device: Device, arguments: Namespace) -> Pusher:
    path = Path(arguments.intent)
    return Pusher(
        device, Archive(Path(arguments.archive)), catalogue_beside(path), path if path.is_dir() else path.parent,
        seal_key(),
    )  # fmt: skip


def _one(pusher: Pusher, arguments: Namespace) -> int:
    """Push to one device."""
    err = console(sys.stderr)
    if arguments.back:
        state = pusher.take_back()
        _told(arguments, Pushed(arguments.device, state or "none", "" if state else "no push is unfinished"))
        return 1 if state == "stuck" else 0
    if arguments.resume:
        pushed = pusher.resume(lambda words: err.print(f"{arguments.device}: {words}", style="remedy"))
        return _told(arguments, pushed or Pushed(arguments.device, "none", "no push is unfinished"))
    plan = pusher.plan(arguments.seconds)
    if plan is None:
        return _told(arguments, Pushed(arguments.device, "none", "it is as the intent says"))
    if arguments.format == "text":
        _show(plan)
    if arguments.dry_run:
        if arguments.format == "json":
            print_json(Pushed(arguments.device, "none", "there is a change to make"))
        return 1
    if not pusher.goes_back and not arguments.untimed:
        raise PushRefused(
            arguments.device, "over RESTCONF it has no way back of its own: if the link is lost, a change stays",
            "Give --untimed to push all the same.",
        )  # fmt: skip
    if not arguments.yes and not _agreed(
        f"this change on {arguments.device}", arguments.seconds if pusher.goes_back else 0
    ):
        return _told(arguments, Pushed(arguments.device, "none", "nobody wanted it"))
    return _told(arguments, pusher.push(plan, lambda words: err.print(f"{arguments.device}: {words}", style="remedy")))


def _many(network: Network, arguments: Namespace) -> int:
    """Push to all devices that the intent says how to reach, in waves."""
    if arguments.back or arguments.resume:
        raise fail(Place(), "--back and --resume are about the push to one device", "Name it with --device.")
    devices = [each for each in network.devices if each.connection is not None]
    if not devices:
        raise fail(Place(arguments.intent), "no device says how it is reached", "Say `connection` of a device.")
    pushers = [_pusher(each, arguments) for each in devices]
    answers = prepared(pushers, arguments.seconds, arguments.untimed)
    found = list(with_progress(answers, "looking", len(devices)))
    changes = {each.name: each for each in found if isinstance(each, Prepared)}
    outcomes = [each for each in found if isinstance(each, Pushed)]
    having = duties(network.devices)
    waves = [[changes[name] for name in wave] for wave in in_waves(list(changes), having, arguments.wave)]
    if arguments.format == "text" and waves:
        comparisons = [each.plan.comparison for each in changes.values()]
        show_by_difference(console(), by_difference(comparisons), len(comparisons))
        show_waves(console(), [[each.name for each in wave] for wave in waves])
    if arguments.dry_run or not waves:
        outcomes += [Pushed(name, "none", "there is a change to make") for name in changes]
        _told_all(arguments, outcomes)
        return _code(outcomes) or (1 if waves else 0)
    what = f"these changes on {plural(len(changes), 'device')}, in {plural(len(waves), 'wave')}"
    if arguments.yes or _agreed(what, arguments.seconds, "Each"):
        err = console(sys.stderr)
        outcomes += Waves(waves, having, arguments.failures, lambda words: err.print(words, style="remedy")).push()
    else:
        outcomes += [Pushed(name, "none", "nobody wanted it") for name in changes]
    _told_all(arguments, outcomes)
    return _code(outcomes)


def _code(outcomes: Sequence[Pushed]) -> int:
    if any(each.outcome == "refused" for each in outcomes):
        return 2
    return 0 if all(map(is_well, outcomes)) else 1


def _show(plan: Plan) -> None:
    out = console()
    show_comparisons(out, [plan.comparison])
    show_changes(out, [plan.mending])
    out.print()


def _agreed(what: str, seconds: int, each: str = "It") -> bool:
    """Ask whether a change is wanted."""
    if not sys.stdin.isatty():
        raise fail(Place(), "nobody can be asked here", "Give --yes to push without being asked.")
    back = f"{each} goes back after {seconds} s" if seconds else "It is taken back while the device can be reached,"
    question = f"Make {what}? {back} unless it does what it is for. [y/N] "
    return input(question).strip().lower() in ("y", "yes")


def _told(arguments: Namespace, pushed: Pushed) -> int:
    """Print what came of one device; return the exit code."""
    if arguments.format == "json":
        print_json(pushed)
    else:
        show_pushed(console(), [pushed])
    return 0 if is_well(pushed) else 1


def _told_all(arguments: Namespace, outcomes: Sequence[Pushed]) -> None:
    if arguments.format == "json":
        print_json(outcomes)
    else:
        show_pushed(console(), outcomes)
