"""The one way in which git is called: nothing that lies in a repository decides what is run.

A folder of captures may have come with an intent that somebody else checked in. If it looks like a repository, git
would take configuration from it: hooks, programs that fetch what is missing, filters. So git gets a folder of its own,
with a configuration of our own and no hooks, into which the objects and the references of the repository are linked;
and it may not connect to anything.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from agile_lattice.errors import LatticeError

CONFIGURATION = "[core]\n\trepositoryformatversion = 0\n\tbare = true\n\tlogallrefupdates = false\n"
SHARED = ("objects", "refs", "packed-refs")
# For a repository that is looked for around a folder: none that somebody put there as plain files.
CAREFUL = ("safe.bareRepository=explicit", "core.hooksPath=/dev/null", "core.fsmonitor=false", "core.pager=cat")


class GitError(LatticeError):
    """Git is not there, or cannot do what is asked of it.

    Attributes:
        command: What was asked.
        said: What it said.
    """

    def __init__(self, command: str, said: str) -> None:
        self.command, self.said = command, said
        super().__init__(command, said)

    def __str__(self) -> str:
        return f"git {self.command} failed: {self.said}"


def run_in_archive(path: Path, *arguments: str, given: bytes | None = None) -> bytes:
    """Run git on the objects and references of a bare repository, and return what it printed.

    Args:
        path: The folder of the repository: nothing else in it is looked at.
        arguments: What git is asked.
        given: What it reads.

    Raises:
        GitError: If it fails, or the folder belongs to another user.
    """
    owner = path.stat().st_uid
    if owner not in _trusted():
        raise GitError(arguments[0], f"{path} belongs to another user (number {owner}): copy it, or change its owner")
    with _own_folder(path) as folder:
        return _run(["--git-dir", folder, *arguments], arguments[0], given)


def run_around(folder: Path, *arguments: str) -> bytes:
    """Run git on the repository that a folder is in, and return what it printed.

    Raises:
        GitError: If it fails.
    """
    settings = [word for each in CAREFUL for word in ("-c", each)]
    return _run([*settings, "-C", str(folder), *arguments], arguments[0], None)


def make_bare(path: Path) -> None:
    """Make a bare repository.

    Raises:
        GitError: If that fails.
    """
    _run(["init", "--quiet", "--bare", "--initial-branch=main", "--template=", str(path)], "init", None)


@contextmanager
def _own_folder(path: Path) -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="lattice-git-") as folder:
        own = Path(folder)
        own.joinpath("config").write_text(CONFIGURATION)
        own.joinpath("HEAD").write_text("ref: refs/heads/main\n")
        for name in SHARED:
            if (path / name).exists():
                own.joinpath(name).symlink_to((path / name).resolve())
        yield folder


def _trusted() -> set[int]:
    """Return the users whose repositories are looked at: this one, whom `sudo` runs this for, and root."""
    caller = os.environ.get("SUDO_UID", "")
    return {0, os.geteuid(), *([int(caller)] if caller.isdigit() else [])}


def _run(arguments: list[str], command: str, given: bytes | None) -> bytes:
    kept = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")}
    own = {
        "GIT_CONFIG_NOSYSTEM": "1", "GIT_CONFIG_GLOBAL": os.devnull, "GIT_TERMINAL_PROMPT": "0",
        "GIT_ALLOW_PROTOCOL": "none", "GIT_NO_LAZY_FETCH": "1", "GIT_OPTIONAL_LOCKS": "0",
    }  # fmt: skip
    try:
        done = subprocess.run(["git", *arguments], input=given, capture_output=True, check=False, env={**kept, **own})
    except FileNotFoundError:
        raise GitError(command, "git is not installed") from None
    if done.returncode:
        raise GitError(command, done.stderr.decode(errors="replace").strip().removeprefix("fatal: "))
    return done.stdout
