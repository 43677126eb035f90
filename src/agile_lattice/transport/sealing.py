"""The key by which secrets in captures are made unreadable: it is kept apart from all archives."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

LENGTH = 32  # octets


def seal_key() -> bytes:
    """Return this user's key; it is made at first, in a file that nobody else can read."""
    state = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
    path = Path(state) / "agile-lattice" / "seal"
    try:
        return path.read_bytes()
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f".seal-{os.getpid()}")
    made = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(made, "wb") as file:
        file.write(secrets.token_bytes(LENGTH))
    try:
        os.link(beside, path)  # of two that begin at once, the first wins
    except FileExistsError:
        pass
    finally:
        beside.unlink()
    return path.read_bytes()
