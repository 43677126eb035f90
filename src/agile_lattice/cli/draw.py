"""`lattice draw`: the network as a picture, or which rules of a device take packets from which."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from agile_lattice.behaviour.shadowing import ordered
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import write_picture
from agile_lattice.intent.model import Network
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.notation.lookup import chosen_devices, device_named
from agile_lattice.packets.boxes import Undecided

if TYPE_CHECKING:
    from matplotlib.figure import Figure


EXAMPLE = "lattice draw intent.yaml network.svg"
FORMATS: tuple[str, ...] = ()


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("into", metavar="FILE", help="the picture: a .png or an .svg")
    command.add_argument(
        "--rules", metavar="DEVICE", help="draw instead which rules of this device hide packets from which"
    )


def run(arguments: Namespace) -> int:
    """Draw; 0 once the file is written."""
    network = load(arguments.intent)
    chosen_devices(network.devices, None)  # there are some
    figure = _rules(network, arguments.rules) if arguments.rules else _network(network)
    write_picture(figure, Path(arguments.into))
    return 0


def _network(network: Network) -> Figure:
    from agile_lattice.show.network import network_figure

    return network_figure(network)


def _rules(network: Network, name: str) -> Figure:
    from agile_lattice.show.rule_map import rules_figure

    device = device_named(network.devices, name)
    lists = [each for each in ordered([device]) if len(each.members) > 1]
    if not lists:
        raise fail(device.place, f"{name} has no list of rules in which one could take packets from another")
    try:
        return rules_figure(lists, f"{name}: which rules take packets from which")
    except Undecided:
        raise fail(device.place, f"too many rules of {name} cross one another to be drawn") from None
