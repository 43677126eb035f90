"""What secrets in captures look like, and the key by which they are made unreadable: it is kept apart from archives."""

from __future__ import annotations

import os
import re
import secrets
from pathlib import Path

LENGTH = 32  # octets
_WORDS = "auth|authentication|authentication-key|key|key-string|password|passwd|secret|community|psk|passphrase|md5"
_NAMES = r"[\w-]*(?:password|secret|psk|passphrase|community|private-?key|preshared-?key|auth-?key|key-string)"
# What is a secret whatever a dialect says of its own: all that follows such a word on its line, but in descriptions.
USUAL_SECRETS = (
    re.compile(
        r"(?im)^(?![ \t]*(?:description|alias|remark|comment)\b)"
        rf'(?:[^\n"]{{0,200}}[ \t])?(?:[\w-]{{0,40}}-)?(?:{_WORDS})[ \t]+(?=\S)([^\n]+)'
    ),
    re.compile(rf'(?i)"{_NAMES}"\s*:\s*"([^"\n]+)"'),
    re.compile(rf"(?im)^[ \t-]*{_NAMES}[ \t]*[:=][ \t]*(?=\S)([^\n]+)"),
)


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
