"""The intent as it was: files of a git revision, read through `git archive`."""

from __future__ import annotations

import io
import tarfile
import tempfile
from pathlib import Path

from agile_lattice.archive.git import GitError, run_around
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load


def intent_of_revision(path: Path, revision: str) -> Network:
    """Load an intent file, or a folder of them, as it was in a git revision.

    Raises:
        NotationError: If there is no such revision, it has no such file, or what it has is no intent.
    """
    if revision.startswith("-"):
        raise fail(Place(), f"{revision!r} is not a revision", "Name a commit, a branch or a tag.")
    folder, name = (path, ".") if path.is_dir() else (path.parent, path.name)
    try:
        packed = run_around(folder, "archive", "--format=tar", revision, "--", name)
    except GitError as error:
        words = f"it cannot be read as of {revision!r}: {error.said}"
        raise fail(Place(str(path)), words, "Name a commit, a branch or a tag.") from None
    with tempfile.TemporaryDirectory(prefix=f"lattice-{revision.replace('/', '-')}-") as there:
        with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
            for member in archive:
                try:
                    content = archive.extractfile(member)
                except KeyError:
                    words = f"as of {revision!r} {member.name} is a link to {member.linkname}, which is not beside it"
                    raise fail(Place(str(path)), words, "Give the folder that holds both.") from None
                if content is not None:  # a file
                    target = Path(there, member.name)
                    target.parent.mkdir(parents=True, exist_ok=True)
                    target.write_bytes(content.read())
        return load(Path(there) if path.is_dir() else Path(there) / name)
