"""What survives a restart: texts that change the running system only, and units that load them again.

A text that a program reads by itself when it starts is saved by being put in its place. Any other is gone after the
next start, unless something loads it: here a unit of systemd, in its own format (systemd.service(5)).
"""

from __future__ import annotations

from typing import Literal

import msgspec

FOLDER = "/etc/lattice"
# What has to stand before what when a system starts: filters before the network is up, the rest once it is there.
_ORDER = {
    "before network": "DefaultDependencies=no\nBefore=network-pre.target shutdown.target\nWants=network-pre.target\n"
    "Conflicts=shutdown.target",
    "after network": "After=network.target",
}


class Loading(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a text comes into the running system, where that is all that it changes.

    Attributes:
        command: The command, with `%` in place of the path of the text; empty if the text is the saved state itself.
        start: When it is to be loaded as a system starts.
    """

    command: str = ""
    start: Literal["before network", "after network"] = "after network"


def unit(title: str, file: str, loading: Loading) -> str:
    """Return a unit of systemd that loads a text as the system starts.

    Args:
        title: What the text is.
        file: Its name in the folder `/etc/lattice`.
        loading: How it is loaded.

    Example:
        >>> "ExecStart=/usr/sbin/nft -f /etc/lattice/a.nft" in unit("rules", "a.nft", Loading("/usr/sbin/nft -f %"))
        True
    """
    path = f"{FOLDER}/{file}"
    return (
        f"[Unit]\nDescription={title}, from {path}\n{_ORDER[loading.start]}\nConditionPathExists={path}\n\n"
        f"[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart={loading.command.replace('%', path)}\n\n"
        "[Install]\nWantedBy=multi-user.target\n"
    )
