"""How a device is reached, to capture its configuration and to change it."""

from __future__ import annotations

from typing import Literal

import msgspec

from agile_lattice.intent.places import NOWHERE, Place

SSH_PORT = 22


class Connection(msgspec.Struct, frozen=True):
    """How a device is reached.

    Attributes:
        by: `local` if it is this very system, `namespace` for a network namespace of it, `ssh` (RFC 4252) else.
        to: The namespace, or the host that SSH connects to.
        user: The user there; empty for whatever SSH takes.
        port: The port of SSH.
        key: The file of a private key; empty for those that SSH finds, in files or in an agent.
        known_hosts: The file that has the host's key; empty for those of SSH.
    """

    by: Literal["local", "namespace", "ssh"]
    to: str = ""
    user: str = ""
    port: int = SSH_PORT
    key: str = ""
    known_hosts: str = ""
    place: Place = NOWHERE

    def __str__(self) -> str:
        if self.by == "ssh":
            user = f"{self.user}@" if self.user else ""
            return f"SSH to {user}{self.to}{f' port {self.port}' if self.port != SSH_PORT else ''}"
        return f"namespace {self.to}" if self.by == "namespace" else "this system"
