"""Results that were kept, so that only what has changed is worked out again.

An entry is found by everything that its result follows from: the device of the intent with all that it refers to, its
captured texts, the dialects, the work, and this package as it is installed. It is sealed with that key, so that one
that is torn, or of another key, is never believed. Where a captured text holds a secret, nothing is kept.
"""

from __future__ import annotations

import os
import pickle
import re
import sqlite3
import time
from collections.abc import Callable
from functools import cache, partial
from hashlib import blake2b
from pathlib import Path
from types import TracebackType
from typing import Any

import msgspec

from agile_lattice.dialects.registry import Catalogue
from agile_lattice.fleet.packed import Packed, packed
from agile_lattice.intent.model import Device
from agile_lattice.notation.collector import paused_collector

FILE = "results.sqlite"
MOST = 512 * 2**20  # octets of results that are kept
KEPT = 0.8  # of these what stays when there are more
AWHILE = 3600  # seconds, in which it makes no difference when a result was used
PATIENCE = 5  # seconds to wait for another process
TABLE = "CREATE TABLE IF NOT EXISTS results (key BLOB PRIMARY KEY, seal BLOB, result BLOB, used REAL)"


def usual_store() -> Store | None:
    """Open the store in the user's folder for such things; None if that cannot be used, or others can write there."""
    root = os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache"
    folder = Path(root, "agile-lattice")
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        about = folder.stat()
        if about.st_uid != os.getuid() or about.st_mode & 0o022:
            return None
        return Store(folder / FILE)
    except (OSError, sqlite3.Error):
        return None


class Store:
    """Results by key, in a file that several processes may use at once.

    Args:
        path: The file; a damaged one is begun anew.
        most: How many octets of results are kept: those that have not been used for longest go first.
    """

    def __init__(self, path: Path, most: int = MOST) -> None:
        self.path, self.most = path, most
        self._used: list[bytes] = []
        self._now = time.time()
        try:
            self._base = self._opened()
        except sqlite3.DatabaseError:
            path.unlink(missing_ok=True)
            self._base = self._opened()

    def _opened(self) -> sqlite3.Connection:
        base = sqlite3.connect(self.path, timeout=PATIENCE)
        base.execute("PRAGMA journal_mode = WAL")
        base.execute("PRAGMA synchronous = NORMAL")
        base.execute(TABLE)
        return base

    def __enter__(self) -> Store:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self.close()

    def get(self, key: bytes) -> Any:
        """Return what was kept under a key; None if nothing was that can be believed."""
        try:
            row = self._base.execute("SELECT seal, result, used FROM results WHERE key = ?", (key,)).fetchone()
        except sqlite3.DatabaseError:
            return None
        if row is None or row[0] != _seal(key, row[1]):
            return None
        try:
            with paused_collector():
                result = pickle.loads(row[1])
        except Exception:  # whatever a class that has changed makes of it
            return None
        if row[2] < self._now - AWHILE:
            self._used.append(key)
        return result

    def put(self, key: bytes, result: object) -> None:
        """Keep a result."""
        data = pickle.dumps(result, pickle.HIGHEST_PROTOCOL)
        row = key, _seal(key, data), data, self._now
        self._try(lambda: self._base.execute("INSERT OR REPLACE INTO results VALUES (?, ?, ?, ?)", row))

    def close(self) -> None:
        """Write what was kept, and let the oldest go if it is too much."""
        rows = [(self._now, each) for each in self._used]
        self._try(lambda: self._base.executemany("UPDATE results SET used = ? WHERE key = ?", rows))
        self._try(self._shrink)
        self._try(self._base.commit)
        self._base.close()

    def _shrink(self) -> None:
        total = self._base.execute("SELECT sum(length(result)) FROM results").fetchone()[0] or 0
        if total <= self.most:
            return
        for key, size in self._base.execute("SELECT key, length(result) FROM results ORDER BY used").fetchall():
            if total <= self.most * KEPT:
                break
            self._base.execute("DELETE FROM results WHERE key = ?", (key,))
            total -= size

    def _try(self, what: Callable[[], object]) -> None:
        """Do something with the file; that it is full or busy is no reason to stop."""
        try:
            what()
        except sqlite3.DatabaseError:
            self._base.rollback()


def key_of(
    work: Callable[..., Any], device: Device | Packed, texts: list[tuple[str, str]], catalogue: Catalogue
) -> bytes | None:
    """Return the key of a result; None if its captured texts hold a secret, so that it must not be kept."""
    for name in device.speaks:
        hidden = catalogue.secrets(name)
        if any(re.search(each, text, re.MULTILINE) for each in hidden for _, text in texts):
            return None
    plain = work.func if isinstance(work, partial) else work
    said = (work.args, sorted(work.keywords.items())) if isinstance(work, partial) else ()
    what = f"{plain.__module__}.{plain.__qualname__}", repr(said)
    whole = [installed(), catalogue.digest, *what, packed(device).digest, sorted(texts)]
    return blake2b(msgspec.msgpack.encode(whole), digest_size=32).digest()


@cache
def installed() -> bytes:
    """Return what tells this package, as it is installed, from any other state of it."""
    found = blake2b(digest_size=16)
    root = Path(__file__).parent.parent
    for path in sorted(root.rglob("*")):
        if path.suffix in (".py", ".toml", ".yaml", ".json"):
            about = path.stat()
            found.update(f"{path.relative_to(root)} {about.st_size} {about.st_mtime_ns}\n".encode())
    return found.digest()


def _seal(key: bytes, data: bytes) -> bytes:
    return blake2b(data, key=key, digest_size=32).digest()
