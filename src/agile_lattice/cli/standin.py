"""`lattice standin`: devices of the fictional vendors, to practise on."""

from __future__ import annotations

import asyncio
import signal
import sys
from argparse import ArgumentParser, Namespace
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import get_args

from rich.text import Text

from agile_lattice.cli.options import add_intent
from agile_lattice.dialects import render_device
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.show.terminal import console
from agile_lattice.standin.commands import VENDORS
from agile_lattice.standin.device import FAULTS, Fault, Standin

EXAMPLE = "lattice standin practice/quay.yaml"
FORMATS: tuple[str, ...] = ()
OURS = ip_network("127.0.0.0/8")


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    faults = "; ".join(f"{name} ({what})" for name, what in FAULTS.items())
    command.add_argument(
        "--fault",
        metavar="DEVICE:FAULT",
        action="append",
        default=[],
        help=f"what goes wrong: {faults}; may be repeated",
    )


def run(arguments: Namespace) -> int:
    """Start every device of an intent that can be stood in for, and serve until interrupted."""
    network = load(arguments.intent)
    path = Path(arguments.intent)
    folder = path if path.is_dir() else path.parent
    faults = _faults(arguments.fault, {each.name for each in network.devices})
    mine = [each for each in network.devices if _stands_in(each)]
    if not mine:
        raise fail(
            Place(arguments.intent), "no device of it can be stood in for",
            f"One that can speaks one of {', '.join(VENDORS)}, and is reached by SSH at an address of {OURS}.",
        )  # fmt: skip
    out = console(sys.stderr)
    for each in network.devices:
        if each not in mine:
            out.print(Text(f"{each.name}: not stood in for: it speaks {', '.join(each.speaks)}", style="remedy"))
    asyncio.run(_serve(mine, folder, faults))
    return 0


def _stands_in(device: Device) -> bool:
    connection = device.connection
    if connection is None or connection.by != "ssh" or len(device.speaks) != 1 or device.speaks[0] not in VENDORS:
        return False
    try:
        return ip_address(connection.to) in OURS
    except ValueError:
        return False


def _faults(given: list[str], names: set[str]) -> dict[str, set[Fault]]:
    found: dict[str, set[Fault]] = {}
    for each in given:
        name, _, fault = each.partition(":")
        if name not in names or fault not in FAULTS:
            raise fail(NOWHERE, f"--fault {each}: a device and a fault are wanted", f"Faults are {', '.join(FAULTS)}.")
        found.setdefault(name, set()).add(next(one for one in get_args(Fault) if one == fault))
    return found


async def _serve(devices: list[Device], folder: Path, faults: dict[str, set[Fault]]) -> None:
    from agile_lattice.standin.server import Served, keys, serve

    served, out = [], console(sys.stderr)
    for each in devices:
        connection = each.connection
        assert connection is not None
        text = "".join(one.text for one in render_device(each))
        standin = Standin(each.name, each.speaks[0], text, frozenset(faults.get(each.name, ())))
        served.append(Served(standin, connection.to, connection.port))
    first = devices[0].connection
    assert first is not None
    if not (first.key and first.known_hosts):
        raise fail(devices[0].place, "its connection names no `key`, or no `known_hosts`", "Name the files to make.")
    key, known_hosts = folder / first.key, folder / first.known_hosts
    try:
        running = await serve(served, keys(key, known_hosts, served), key)
    except OSError as error:
        raise fail(
            NOWHERE, f"no stand-in was started: {error.strerror or error}", "Another one may be running."
        ) from None
    for one in served:
        out.print(Text(f"{one.device.name}: {one.device.dialect} at {one.host} port {one.port}", style="head"))
    out.print(Text("Interrupt to end.", style="remedy"))
    ended = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, ended.set)
    await ended.wait()
    for server in running:
        server.close()
