"""`lattice capture`: the configuration of devices, fetched into an archive."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from collections.abc import Iterable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from agile_lattice.archive.repository import Archive, who
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import device_named
from agile_lattice.show.capturing import show_round
from agile_lattice.show.terminal import console, with_progress
from agile_lattice.transport.rounds import Captured, captured_round
from agile_lattice.transport.sealing import seal_key

EXAMPLE = "lattice capture intent.yaml --into archive"
FORMATS: tuple[str, ...] = ("json",)


class Outcome(msgspec.Struct, frozen=True):
    """What came of a round for one device.

    Attributes:
        device: The device's name.
        files: The texts that were fetched.
        changed: Whether they are others than in the round before.
        cause: Why it could not be fetched; empty if it was.
        detail: What was said of that.
    """

    device: str
    files: tuple[str, ...]
    changed: bool
    cause: str = ""
    detail: str = ""


DOCUMENTS = {"": list[Outcome]}
INTERRUPTED = "interrupted: --resume gets it"


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("--into", metavar="ARCHIVE", required=True, help="the archive; it is made if there is none")
    which = command.add_mutually_exclusive_group()
    which.add_argument("--device", metavar="NAME", action="append", help="only this device; may be repeated")
    which.add_argument("--resume", action="store_true", help="only the devices that the last round did not get")


def run(arguments: Namespace) -> int:
    """Fetch and keep; 2 if a device could not be fetched."""
    network = load(arguments.intent)
    path = Path(arguments.intent)
    folder = path if path.is_dir() else path.parent
    chosen = [device_named(network.devices, each) for each in arguments.device or ()]
    devices = chosen or [each for each in network.devices if each.connection is not None]
    if not devices:
        raise fail(Place(arguments.intent), "no device says how it is reached", "Say `connection` of a device.")
    archive = Archive.made(Path(arguments.into))
    if arguments.resume:
        missed = archive.missed()
        devices = [each for each in devices if each.name in missed]
        if not devices and arguments.format == "text":
            console().print("The last round got every device: there is nothing to resume.")
            return 0
    answers = captured_round(devices, catalogue_beside(path), folder, seal_key())
    found = _until_interrupted(with_progress(answers, "capturing", len(devices)))
    outcomes = _kept(archive, [found.get(each.name) or Captured(each.name, cause=INTERRUPTED) for each in devices])
    if arguments.format == "json":
        print_json(outcomes)
    else:
        show_round(console(), [(each.device, each.files, each.changed, each.cause, each.detail) for each in outcomes])
    return 2 if any(each.cause for each in outcomes) else 0


def _until_interrupted(answers: Iterable[Captured]) -> dict[str, Captured]:
    """Return what came of devices; if somebody interrupts it, what came until then is not lost."""
    found: dict[str, Captured] = {}
    with suppress(KeyboardInterrupt):
        for each in answers:
            found[each.device] = each
    return found


def _kept(archive: Archive, found: list[Captured]) -> list[Outcome]:
    """Write what was fetched as one round, and say what is another one than before."""
    texts = {each.device: each.texts for each in found if not each.cause}
    failed = {each.device: each.cause for each in found if each.cause}
    changed: set[str] = set()
    if found:
        archive.write(texts, failed, who(), datetime.now(UTC))
        changed = {*archive.rounds(most=1)[0].devices}
    return [Outcome(each.device, tuple(each.texts), each.device in changed, each.cause, each.detail) for each in found]
