"""`lattice dialects`: the list, what each can carry, and a trial for somebody who writes one."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

import msgspec

from agile_lattice.cli.options import add_action
from agile_lattice.cli.output import print_json
from agile_lattice.dialects import as_intent
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.registry import BUILT_IN, catalogue_beside
from agile_lattice.dialects.trying import SAME, Trial, carries, probe, probes, try_sample
from agile_lattice.intent.model import Network, Section
from agile_lattice.notation.located import read_text
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from agile_lattice.show.dialects import show_list, show_matrix, show_trial
from agile_lattice.show.terminal import console

EXAMPLE = "lattice dialects"
FORMATS: tuple[str, ...] = ()


class Listed(msgspec.Struct, frozen=True):
    """A dialect: what it is, which sections it carries, and its file."""

    name: str
    title: str
    carries: tuple[Section, ...]
    file: str


class Tried(msgspec.Struct, frozen=True):
    """What became of a sample in a dialect, and the device that it describes, in the notation of an intent."""

    trial: Trial
    device: dict[str, Any]


DOCUMENTS = {
    "list": list[Listed],
    "matrix": dict[str, dict[str, str]],
    "try": Tried,
}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    actions = command.add_subparsers(title="actions", metavar="ACTION", dest="action")
    add_action(actions, "list", "list the dialects (this is what happens without an action)")
    add_action(actions, "matrix", "show what each supports, by trying")
    action = add_action(
        actions, "try", "read a sample with a dialect file, write it again, and show what was understood"
    )
    action.add_argument("file", metavar="FILE", help="the dialect: a .toml file")
    action.add_argument("sample", metavar="SAMPLE", help="a configuration of the device")
    command.set_defaults(action="list", format="text")


def run(arguments: Namespace) -> int:
    """List, compare, or try; a trial gives 1 if lines are left over or it does not come back as the same."""
    if arguments.action == "try":
        return _try(arguments)
    catalogue = catalogue_beside(Path.cwd())
    known = [catalogue.dialect(name) for name in catalogue.names()]
    if arguments.action == "matrix":
        matrix = {
            what: {one.name: carries(one, section, probe(body, one.name)) for one in known}
            for section, members in probes().items()
            for what, body in members.items()
        }
        if arguments.format == "json":
            print_json(matrix)
        else:
            show_matrix(console(), matrix, [one.name for one in known])
    elif arguments.format == "json":
        print_json([Listed(one.name, one.title, one.carries, one.file) for one in known])
    else:
        show_list(console(), known)
    return 0


def _try(arguments: Namespace) -> int:
    file, sample = Path(arguments.file), Path(arguments.sample)
    trial = try_sample(parse_dialect(read_text(file), str(file), BUILT_IN.text), read_text(sample), str(sample))
    device, _ = as_intent(trial.capture)
    if arguments.format == "json":
        print_json(Tried(trial, {device.name: device_data(device)}))
    else:
        show_trial(console(), trial, write(Network("", (device,))))
    return 0 if trial.again == SAME and not trial.capture.leftovers else 1
