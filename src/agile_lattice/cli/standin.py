"""`lattice standin`: devices to practise on: of the fictional vendors, and with RESTCONF."""

from __future__ import annotations

import asyncio
import signal
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import get_args

from rich.text import Text

from agile_lattice.cli.options import add_intent
from agile_lattice.dialects import render_device
from agile_lattice.intent.connections import Connection
from agile_lattice.intent.model import Device
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.show.terminal import console
from agile_lattice.standin.commands import VENDORS
from agile_lattice.standin.device import FAULTS, Fault, Standin

EXAMPLE = "lattice standin practice/quay.yaml"
FORMATS: tuple[str, ...] = ()
YANG = "ietf-yang"
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
            f"One that can speaks one of {', '.join(VENDORS)} and is reached by SSH, or {YANG} by RESTCONF, at an"
            f" address of {OURS}.",
        )  # fmt: skip
    out = console(sys.stderr)
    for each in network.devices:
        if each not in mine:
            out.print(Text(f"{each.name}: not stood in for: it speaks {', '.join(each.speaks)}", style="remedy"))
    asyncio.run(_serve(mine, folder, faults))
    return 0


def _stands_in(device: Device) -> bool:
    connection = device.connection
    spoken = {"ssh": {*VENDORS}, "restconf": {YANG}}.get(connection.by, set()) if connection is not None else set()
    if connection is None or len(device.speaks) != 1 or not spoken & {*device.speaks}:
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
    out = console(sys.stderr)
    made = [
        Standin(each.name, each.speaks[0], "".join(one.text for one in render_device(each)),
                frozenset(faults.get(each.name, ())))
        for each in devices
    ]  # fmt: skip
    reached = [(each, device.connection, device.place) for each, device in zip(made, devices, strict=True)]
    try:
        running = await _by_ssh([each for each in reached if each[0].dialect != YANG], folder)
        running += [_by_restconf(*each, folder) for each in reached if each[0].dialect == YANG]
    except OSError as error:
        raise fail(
            NOWHERE, f"no stand-in was started: {error.strerror or error}", "Another one may be running."
        ) from None
    for one, connection, _ in reached:
        assert connection is not None
        out.print(Text(f"{one.name}: {one.dialect} at {connection.to} port {connection.port}", style="head"))
    out.print(Text("Interrupt to end.", style="remedy"))
    ended = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, ended.set)
    await ended.wait()
    for close in running:
        close()


Reached = tuple[Standin, Connection | None, Place]


async def _by_ssh(reached: list[Reached], folder: Path) -> list[Callable[[], None]]:
    """Let devices be reached by SSH; return what ends that."""
    if not reached:
        return []
    from agile_lattice.standin.certificates import password_in
    from agile_lattice.standin.server import Served, keys, serve

    for _, one, place in reached:
        if one is None or not (one.known_hosts and (one.key or one.password_file)):
            raise fail(
                place, "its connection names no `key` and no `password-file`, or no `known-hosts`",
                "Name the files to make.",
            )  # fmt: skip
    named = [(device, one) for device, one, _ in reached if one is not None]
    logins = {
        one: (one.user, password_in(folder / one.password_file)) for _, one in named if one.password_file
    }  # fmt: skip
    served = [Served(device, one.to, one.port, logins.get(one)) for device, one in named]
    first = next((one for _, one in named if one.key), named[0][1])
    key, known_hosts = folder / (first.key or f"{first.known_hosts}.key"), folder / named[0][1].known_hosts
    return [server.close for server in await serve(served, keys(key, known_hosts, served), key)]


def _by_restconf(device: Standin, one: Connection | None, place: Place, folder: Path) -> Callable[[], None]:
    """Let a device be reached by RESTCONF; return what ends that."""
    from agile_lattice.standin.certificates import password_in
    from agile_lattice.standin.restconf import serve

    if one is None or not (one.certificate and one.password_file):
        raise fail(place, "its connection names no `certificate`, or no `password-file`", "Name the files to make.")
    login = f"{one.user}:{password_in(folder / one.password_file)}"
    return serve(device, one.to, one.port, login, folder / one.certificate).shutdown
