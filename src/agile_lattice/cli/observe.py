"""`lattice observe`: what devices are doing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json
from agile_lattice.dialects.registry import catalogue_beside
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import device_named
from agile_lattice.observe.observing import Observed, observe
from agile_lattice.show.observing import show_observed
from agile_lattice.show.terminal import console
from agile_lattice.transport.capturing import session_of
from agile_lattice.transport.sealing import seal_key

EXAMPLE = "lattice observe intent.yaml --device quay-edge"
FORMATS: tuple[str, ...] = ("json",)
DOCUMENTS = {"": Observed}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("--device", metavar="NAME", required=True, help="the device")


def run(arguments: Namespace) -> int:
    """Ask, and tell."""
    network = load(arguments.intent)
    path = Path(arguments.intent)
    device = device_named(network, arguments.device)
    if device.connection is None:
        raise fail(device.place, f"the intent does not say how {device.name} is reached", "Say `connection`.")
    catalogue = catalogue_beside(path)
    folder = path if path.is_dir() else path.parent
    session = session_of(device.name, device.connection, folder, [catalogue.dialect(each) for each in device.speaks])
    observed = observe(session, network, device, catalogue, seal_key())
    if arguments.format == "json":
        print_json(observed)
    else:
        show_observed(console(), observed)
    return 0
