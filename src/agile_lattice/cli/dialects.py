"""`lattice dialects`: the list, what each can carry, and a trial for somebody who writes one."""

from __future__ import annotations

import re
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from agile_lattice.cli.options import add_action
from agile_lattice.cli.output import print_json
from agile_lattice.dialects import as_intent
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.drafting import Draft, drafted
from agile_lattice.dialects.reference import FactReference, KindReference, facts_reference, kinds_reference
from agile_lattice.dialects.registry import BUILT_IN, catalogue_beside
from agile_lattice.dialects.trying import SAME, Trial, carries, probe, probes, try_sample
from agile_lattice.errors import UnknownName
from agile_lattice.intent.model import Device, Network, Section
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.located import read_text
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from agile_lattice.show.dialects import show_facts, show_kinds, show_list, show_matrix, show_trial
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


class Shown(msgspec.Struct, frozen=True):
    """The definition of a dialect, as it stands in its file."""

    name: str
    definition: str


DOCUMENTS = {
    "list": list[Listed],
    "show": Shown,
    "facts": list[FactReference],
    "types": list[KindReference],
    "matrix": dict[str, dict[str, str]],
    "try": Tried,
    "new": Draft,
}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    actions = command.add_subparsers(title="actions", metavar="ACTION", dest="action")
    add_action(actions, "list", "list the dialects (this is what happens without an action)")
    add_action(actions, "matrix", "show what each supports, by trying")
    action = add_action(actions, "show", "print the definition of a dialect")
    action.add_argument("name", metavar="NAME", help="the dialect")
    action = add_action(actions, "facts", "list what statements can say: every fact, its fields and what fits them")
    action.add_argument("fact", metavar="FACT", nargs="?", help="only this one")
    add_action(actions, "types", "list the types of values that every dialect has, and what each reads")
    action = add_action(
        actions, "try", "read a sample with a dialect file, write it again, and show what was understood"
    )
    action.add_argument("file", metavar="FILE", help="the dialect: a .toml file")
    action.add_argument("sample", metavar="SAMPLE", help="a configuration of the device")
    action = add_action(actions, "new", "draft a dialect from a sample, and an intent that says what it means")
    action.add_argument("sample", metavar="SAMPLE", help="a configuration of the device")
    action.add_argument("--intent", metavar="INTENT", help="an intent that has what the sample says")
    action.add_argument("--device", metavar="DEVICE", help="which device of the intent it is, if there are several")
    action.add_argument(
        "--name", metavar="NAME", help="what the dialect is called; the name of the sample if not given"
    )
    command.set_defaults(action="list", format="text")


def run(arguments: Namespace) -> int:
    """List, compare, show or try; a trial gives 1 if lines are left over or it does not come back as the same."""
    if arguments.action == "try":
        return _try(arguments)
    if arguments.action == "new":
        return _new(arguments)
    catalogue = catalogue_beside(Path.cwd())
    if arguments.action == "show":
        text = catalogue.text(arguments.name)
        _print(arguments, Shown(arguments.name, text), lambda: sys.stdout.write(text))
        return 0
    if arguments.action == "facts":
        facts = _facts(arguments.fact)
        _print(arguments, facts, lambda: show_facts(console(), facts))
        return 0
    if arguments.action == "types":
        kinds = kinds_reference()
        _print(arguments, kinds, lambda: show_kinds(console(), kinds))
        return 0
    known = [catalogue.dialect(name) for name in catalogue.names()]
    if arguments.action == "matrix":
        matrix = {
            what: {one.name: carries(one, section, probe(body, one.name)) for one in known}
            for section, members in probes().items()
            for what, body in members.items()
        }
        _print(arguments, matrix, lambda: show_matrix(console(), matrix, [one.name for one in known]))
        return 0
    listed = [Listed(one.name, one.title, one.carries, one.file) for one in known]
    _print(arguments, listed, lambda: show_list(console(), known))
    return 0


def _print(arguments: Namespace, document: Any, show: Callable[[], object]) -> None:
    if arguments.format == "json":
        print_json(document)
    else:
        show()


def _facts(name: str | None) -> list[FactReference]:
    found = facts_reference()
    if name is None:
        return found
    known = {each.name: each for each in found}
    if name not in known:
        raise UnknownName("fact", name, list(known))
    return [known[name]]


def _new(arguments: Namespace) -> int:
    """Print a draft; 1 if it leaves statements to the author."""
    sample = Path(arguments.sample)
    if arguments.device and not arguments.intent:
        raise fail(Place(arguments.sample), "--device names a device of an intent", "Give --intent INTENT as well.")
    if arguments.name and not re.fullmatch(r"[a-z0-9][a-z0-9-]*", arguments.name):
        raise fail(
            Place(arguments.sample), f"{arguments.name!r} cannot be the name of a dialect",
            "Use lower-case letters, digits and dashes.",
        )  # fmt: skip
    device = _meant(arguments.intent, arguments.device) if arguments.intent else None
    name = arguments.name or re.sub(r"[^a-z0-9-]+", "-", sample.stem.lower()).strip("-") or "mine"
    draft = drafted(read_text(sample), str(sample), name, device)
    _print(arguments, draft, lambda: sys.stdout.write(draft.text))
    return 0 if draft.said[0] == draft.said[1] else 1


def _meant(intent: str, name: str | None) -> Device:
    """Return the device of an intent that a sample is of."""
    devices = chosen_devices(load(intent).devices, [name] if name else None)
    if len(devices) > 1:
        names = ", ".join(each.name for each in devices)
        raise fail(Place(intent), f"the intent has several devices: {names}", "Say which one: --device NAME.")
    return devices[0]


def _try(arguments: Namespace) -> int:
    file, sample = Path(arguments.file), Path(arguments.sample)
    trial = try_sample(parse_dialect(read_text(file), str(file), BUILT_IN.text), read_text(sample), str(sample))
    device, _ = as_intent(trial.capture)
    if arguments.format == "json":
        print_json(Tried(trial, {device.name: device_data(device)}))
    else:
        show_trial(console(), trial, write(Network("", (device,))))
    return 0 if trial.again == SAME and not trial.capture.leftovers else 1
