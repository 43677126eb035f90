"""The password by which a user logs in on a device: from the environment, or from a file that nobody else may read."""

from __future__ import annotations

import os
import tempfile
from functools import cache
from pathlib import Path
from threading import Lock

from agile_lattice.intent.connections import Connection
from agile_lattice.transport.errors import TransportError

OTHERS = 0o077  # the bits of a file's mode that are not its owner's
VARIABLE = "LATTICE_LOGIN"


def password_of(device: str, connection: Connection, folder: Path) -> str:
    """Return the password that a connection names.

    Args:
        device: The device's name.
        connection: How it is reached.
        folder: Where file names of the connection begin: that of the intent.

    Raises:
        TransportError: If there is none, or others may read it.
    """
    name = connection.password_variable
    if name:
        if name not in os.environ:
            raise TransportError(device, "there is no password for it", f"the environment has no {name}")
        return os.environ[name]
    path = folder / Path(connection.password_file).expanduser()
    try:
        if path.stat().st_mode & OTHERS:
            raise TransportError(device, "others may read the file of its password", str(path), f"chmod 600 {path}")
        return path.read_text(encoding="utf-8").strip()
    except OSError as error:
        raise TransportError(device, "there is no password for it", f"{path}: {error.strerror}") from None


def answering(password: str) -> dict[str, str]:
    """Return an environment in which the client of OpenSSH logs in with a password, without a terminal.

    It takes no password as an argument, where others could read it, but runs a program that prints it.
    """
    return {**os.environ, "SSH_ASKPASS": _printer(), "SSH_ASKPASS_REQUIRE": "force", VARIABLE: password}


def _printer() -> str:
    """Return a program that prints the password of its environment."""
    with _MAKING:
        path = Path(_folder().name, "login")
        if not path.exists():
            path.touch(0o700)
            path.write_text(f'#!/bin/sh\nprintf "%s\\n" "${VARIABLE}"\n')
    return str(path)


@cache
def _folder() -> tempfile.TemporaryDirectory[str]:
    """Return a folder that is gone with this process."""
    return tempfile.TemporaryDirectory(prefix="lattice-")


_MAKING = Lock()  # many devices are asked at once
