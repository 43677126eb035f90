"""`lattice observe`: what devices are doing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import device_named
from agile_lattice.observe.observing import Observed, observed_round
from agile_lattice.show.observing import show_observed
from agile_lattice.show.terminal import console, with_progress
from agile_lattice.transport.sealing import seal_key

EXAMPLE = "lattice observe intent.yaml --device quay-edge"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": list[Observed], "--device": Observed}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("--device", metavar="NAME", help="only this device")


def run(arguments: Namespace) -> int:
    """Ask, and tell; 2 if a device could not be asked."""
    network = load(arguments.intent)
    path = Path(arguments.intent)
    chosen = [device_named(network.devices, arguments.device)] if arguments.device is not None else network.devices
    devices = [each for each in chosen if each.connection is not None]
    if not devices:
        place = chosen[0].place if arguments.device is not None else Place(arguments.intent)
        which = arguments.device or "any device"
        raise fail(place, f"the intent does not say how {which} is reached", "Say `connection`.")
    answers = observed_round(
        network, devices, catalogue_beside(path), path if path.is_dir() else path.parent, seal_key()
    )  # fmt: skip
    found = {each.device: each for each in with_progress(answers, "asking", len(devices))}
    observed = [found[each.name] for each in devices]
    if arguments.format == "json":
        print_json(observed if arguments.device is None else observed[0])
    else:
        out = console()
        for number, each in enumerate(observed):
            if number:
                out.print()
            show_observed(out, each)
    return 2 if any(each.cause for each in observed) else 0
