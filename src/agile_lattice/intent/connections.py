"""How a device is reached, to capture its configuration and to change it."""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.places import NOWHERE, Place

SSH_PORT = 22
PORTS = {"ssh": SSH_PORT, "restconf": 443}


class Connection(msgspec.Struct, frozen=True):
    """How a device is reached.

    Attributes:
        by: `local` if it is this very system, `namespace` for a network namespace of it, `ssh` (RFC 4252) or
            `restconf` (RFC 8040) else.
        to: The namespace, or the host that is connected to.
        user: The user there; empty for whatever SSH takes.
        sudo: Whether what is run there is run as root by `sudo`, which must ask that user for no password.
        port: The port of the host.
        key: The file of a private key; empty for those that SSH finds, in files or in an agent.
        known_hosts: The file that has the host's key; empty for those of SSH.
        certificate: The file with the host's certificate, or that of who signed it; empty for those of this system.
        password_file, password_variable: The file, or the environment variable, that holds the user's password.
    """

    by: Literal["local", "namespace", "ssh", "restconf"]
    to: str = ""
    user: str = ""
    port: int = SSH_PORT
    key: str = ""
    known_hosts: str = ""
    certificate: str = ""
    password_file: str = ""
    password_variable: str = ""
    sudo: bool = False
    place: Place = NOWHERE

    def __str__(self) -> str:
        if self.by in PORTS:
            user = f"{self.user}@" if self.user else ""
            return f"{self.by.upper()} to {user}{self.to}{f' port {self.port}' if self.port != PORTS[self.by] else ''}"
        return f"namespace {self.to}" if self.by == "namespace" else "this system"
