"""Large intents: read on all cores, and kept as they were understood, whole and file by file.

A whole one is taken from the store if none of its files has changed; else only the files that have are read again.
"""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from hashlib import blake2b
from pathlib import Path

from agile_lattice.fleet.sharing import heedless, processes
from agile_lattice.fleet.store import Store, installed
from agile_lattice.intent.model import Network
from agile_lattice.notation.collector import paused_collector
from agile_lattice.notation.loading import intent_files, load, load_files, source_of
from agile_lattice.notation.resolving import Source

LEAST = 2**19  # octets, below which an intent is read as quickly as it is looked up
Texts = Sequence[tuple[Path, bytes]]


def is_large(path: str | Path) -> bool:
    """Tell whether it is worth to keep an intent.

    Raises:
        NotationError: If there is no file of one.
    """
    return sum(file.stat().st_size for file in intent_files(Path(path)) if file.exists()) >= LEAST


def load_large(path: str | Path, store: Store | None, jobs: int = 1) -> Network:
    """Read an intent as `notation.load` does, or take from a store what has not changed.

    Args:
        path: A file or a folder.
        store: Where it is kept, if it is.
        jobs: How many processes share the reading of its files.

    Raises:
        NotationError: As `load` does; what is wrong is not kept.
    """
    files = intent_files(Path(path))
    try:
        texts = [(file, file.read_bytes()) for file in files]
    except OSError:
        return load(path)  # which says what is wrong
    with paused_collector():  # millions of values come, and none goes
        network = store.get(_key("intent", texts)) if store is not None else None
        if not isinstance(network, Network):
            with _sources(texts, store, jobs) as source:
                network = load_files(files, source)
            if store is not None and _unchanged(texts):
                store.put(_key("intent", texts), network)
    return network


@contextmanager
def _sources(texts: Texts, store: Store | None, jobs: int) -> Iterator[Callable[[Path], Source]]:
    """Give what returns the source of each file: as it was kept, or as it is read here or by another process."""
    if len(texts) < 2:
        yield source_of  # the whole is kept, and there is nothing to share
        return
    said = dict(texts)
    keys = {file: _key("file", [(file, text)]) for file, text in texts}
    kept = {file: store.get(key) if store is not None else None for file, key in keys.items()}
    missing = [file for file, source in kept.items() if not isinstance(source, bytes)]
    pool = processes(min(jobs, len(missing)), heedless) if jobs > 1 and len(missing) > 1 else None
    reading = {file: pool.submit(_packed, file) for file in missing} if pool is not None else {}

    def source(file: Path) -> Source:
        packed = kept[file]
        if not isinstance(packed, bytes):
            packed = reading[file].result() if reading else _packed(file)
            if store is not None and _unchanged([(file, said[file])]):
                store.put(keys[file], packed)
        found: Source = pickle.loads(packed)
        return found

    try:
        yield source
    finally:
        if pool is not None:
            pool.shutdown(wait=False, cancel_futures=True)


def _packed(file: Path) -> bytes:
    """Read a file, for another process or the store."""
    with paused_collector():
        return pickle.dumps(source_of(file), pickle.HIGHEST_PROTOCOL)


def _unchanged(texts: Texts) -> bool:
    """Tell whether files still say what they said: what was understood of them is that, and not something newer."""
    try:
        return all(file.read_bytes() == text for file, text in texts)
    except OSError:
        return False


def _key(what: str, texts: Texts) -> bytes:
    """Return the key of what is understood of some files: of their names and all that they say."""
    found = blake2b(installed() + what.encode(), digest_size=32)
    for file, text in texts:
        found.update(f"{file} {len(text)}\n".encode(errors="surrogateescape") + text)
    return found.digest()
