"""`lattice prove`: whether devices treat every packet as the intent says, or as another intent does."""

from __future__ import annotations

import re
from argparse import ArgumentParser, Namespace
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from agile_lattice.behaviour.proving import Proof
from agile_lattice.cli.captures import texts_of
from agile_lattice.cli.options import NOT_CAPTURED, add_assume, add_captures
from agile_lattice.cli.output import exit_code, print_json
from agile_lattice.cli.parallel import Done, add_jobs, devices_of, for_each, loaded_fleet, whole
from agile_lattice.cli.revisions import intent_of_revision
from agile_lattice.compare.equivalence import Verdict, between
from agile_lattice.fleet.work import proven
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.proving import show_verdicts
from agile_lattice.show.terminal import console

SPELLS_INTENT = re.compile(r"""^[\s{]*["']?lattice["']?\s*:""", re.MULTILINE)


EXAMPLE = "lattice prove intent.yaml captures"
FORMATS: tuple[str, ...] = ("json", "json-lines")
DOCUMENTS = {"": list[Verdict]}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_captures(command, "; or another intent; or @REVISION, for the intent as it was in git")
    add_assume(command)
    add_jobs(command)


def run(arguments: Namespace) -> int:
    """Compare; 1 unless all is proven."""
    fleet = loaded_fleet(arguments)
    other = arguments.captures[0] if len(arguments.captures) == 1 else ""
    sides, verdicts = ("intent", "device"), list[Verdict]()
    done: Done[Verdict] = Done((), ())
    at_once = False
    if other.startswith("@") and not Path(other).exists():
        sides = other, "now"
        verdicts += _between(intent_of_revision(Path(arguments.intent), other[1:] or "HEAD"), whole(fleet), arguments)
    elif other and _is_intent(Path(other)):
        sides = _told_apart(arguments.intent, other)
        verdicts += _between(whole(fleet), load(other), arguments)
    else:
        at_once = arguments.format == "json-lines"
        tell = (lambda each: print_json([each], "json-lines")) if at_once else None
        work = partial(proven, assume=tuple(arguments.assume))
        done = for_each(work, texts_of(devices_of(fleet), arguments), arguments, "proving", tell)
        verdicts += done.results
    if arguments.format == "text":
        show_verdicts(console(), verdicts, sides)
    elif not at_once:
        print_json(verdicts, arguments.format)
    return done.told(exit_code(verdicts))


def _between(one: Network, other: Network, arguments: Namespace) -> Iterator[Verdict]:
    """Compare the devices of two intents; of one that only one of them has nothing can be said.

    Raises:
        NotationError: If they have none in common, or not the one that was asked for; or if something is assumed.
    """
    if arguments.assume:
        raise fail(Place(), NOT_CAPTURED, "Leave it out: an intent has no such rules.")
    wanted = [arguments.device] if arguments.device else None
    there = {each.name: each for each in chosen_devices(other.devices, wanted)}
    here = chosen_devices(one.devices, wanted)
    if not any(each.name in there for each in here):
        raise fail(Place(), "the two intents have no device in common", "Devices are compared by their names.")
    for device in here:
        if device.name in there:
            yield between(device, there[device.name])
    for name in sorted({each.name for each in here} ^ there.keys()):
        yield Verdict(name, Proof((), (), 0), (), ("only one of the two intents has it",))


def _told_apart(one: str, other: str) -> tuple[str, str]:
    """Return the names of two files without their folders, if that tells them apart."""
    names = Path(one).name, Path(other).name
    return names if names[0] != names[1] else (one, other)


def _is_intent(path: Path) -> bool:
    files = sorted(path.glob("*.yaml")) if path.is_dir() else [path]
    texts = (file.read_text(errors="replace") for file in files if file.suffix in (".yaml", ".yml", ".json"))
    return any(SPELLS_INTENT.search(text) for text in texts)
