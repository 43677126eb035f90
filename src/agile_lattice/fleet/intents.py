"""Large intents, kept as they were understood: they are read again only when one of their files has changed."""

from __future__ import annotations

from hashlib import blake2b
from pathlib import Path

from agile_lattice.fleet.store import Store, installed
from agile_lattice.intent.model import Network
from agile_lattice.notation.loading import intent_files, load

LEAST = 2**19  # octets, below which an intent is read as quickly as it is looked up


def is_large(path: str | Path) -> bool:
    """Tell whether it is worth to keep an intent.

    Raises:
        NotationError: If there is no file of one.
    """
    return sum(file.stat().st_size for file in intent_files(Path(path)) if file.exists()) >= LEAST


def load_kept(path: str | Path, store: Store) -> Network:
    """Read an intent as `notation.load` does, or take it from a store if none of its files has changed.

    Args:
        path: A file or a folder.
        store: Where it is kept.

    Raises:
        NotationError: As `load` does; what is wrong is not kept.
    """
    files = intent_files(Path(path))
    try:
        texts = [(str(file), file.read_bytes()) for file in files]
    except OSError:
        return load(path)  # which says what is wrong
    found = blake2b(installed(), digest_size=32)
    for name, text in texts:
        found.update(f"{name} {len(text)}\n".encode(errors="surrogateescape") + text)
    network = store.get(found.digest())
    if not isinstance(network, Network):
        network = load(path)
        store.put(found.digest(), network)
    return network
