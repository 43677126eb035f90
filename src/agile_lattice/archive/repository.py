"""A bare git repository of captured texts.

    devices/<2 hex digits of a digest of the name>/<name>/<file>     the texts
    refs/lattice/good/<name>                                         the last state of a device known to be good

A round of captures is one commit, written in one stream: it is there as a whole, or not at all.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable, Mapping
from datetime import datetime
from pathlib import Path

import msgspec

from agile_lattice.archive.git import GitError, make_bare, run_in_archive
from agile_lattice.errors import LatticeError

BRANCH = "refs/heads/main"
GOOD = "refs/lattice/good"
FEW = 8  # devices of one revision that are read one by one
DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
SEEN, FAILED = "Seen", "Failed"


class ArchiveError(LatticeError):
    """An archive cannot be read or written, or has not what is asked of it."""


class Round(msgspec.Struct, frozen=True):
    """One round of captures.

    Attributes:
        revision: The commit.
        when: In ISO 8601, with the offset from UTC.
        who: Who captured.
        what: What it is, in words.
        devices: Devices whose configuration is another one than in the round before.
    """

    revision: str
    when: str
    who: str
    what: str
    devices: tuple[str, ...] = ()


class Archive:
    """An archive.

    Args:
        path: Its folder.
    """

    def __init__(self, path: Path) -> None:
        self.path = path

    @staticmethod
    def is_one(path: Path) -> bool:
        """Tell whether a folder is an archive."""
        return (path / "HEAD").is_file() and (path / "objects").is_dir() and (path / "refs").is_dir()

    @classmethod
    def made(cls, path: Path) -> Archive:
        """Return the archive of a folder; it is made if there is none.

        Raises:
            ArchiveError: If the folder holds something else.
        """
        if not cls.is_one(path):
            if path.exists() and (not path.is_dir() or any(path.iterdir())):
                raise ArchiveError(
                    f"{path} holds something that is no archive\n    Name a folder that is new, or empty."
                )
            try:
                make_bare(path)
            except GitError as error:
                raise ArchiveError(f"{path} cannot be made an archive: {error.said}") from None
        return cls(path)

    def write(
        self, devices: Mapping[str, Mapping[str, str]], failed: Mapping[str, str], who: str, when: datetime
    ) -> str:
        """Write a round, and return its revision.

        Args:
            devices: The texts of each device by name; what a device had before and has no more is gone.
            failed: The devices that could not be captured, each with the cause.
            who: Who captured.
            when: When, with a time zone.

        Raises:
            ArchiveError: If another round was written at the same time, or git fails.
        """
        tip = self._tip()
        stream = bytearray()
        message = _message(devices, failed)
        stamp = f"{who} <{who}@localhost> {int(when.timestamp())} {when:%z}"
        stream += f"commit {BRANCH}\nauthor {stamp}\ncommitter {stamp}\n".encode()
        stream += _data(message)
        if tip:
            stream += f"from {tip}\n".encode()
        for name, texts in devices.items():
            if tip:
                stream += f"D {_folder(name)}\n".encode()
            for file, text in texts.items():
                stream += f"M 644 inline {_quoted(f'{_folder(name)}/{file}')}\n".encode() + _data(text)
        stream += b"\n"
        self._git("fast-import", "--quiet", "--date-format=raw", given=bytes(stream))
        return self._tip()

    def revision(self, at: str = "") -> str:
        """Return the commit of a revision, or of the end of a day (`2026-11-20`); the last one if nothing is said.

        Raises:
            ArchiveError: If there is none.
        """
        if not at:
            found = self._tip()
        elif DATE.fullmatch(at):
            found = self._git("rev-list", "-1", f"--before={at} 23:59:59", BRANCH).strip() if self._tip() else ""
        else:
            found = self._found(f"{at}^{{commit}}")
        if not found:
            raise ArchiveError(f"{self.path} has no captures{f' of {at}' if at else ' yet'}")
        return found

    def missed(self) -> list[str]:
        """Return the devices that the last round did not get."""
        said = self._git("log", "--max-count=1", "--format=%B", BRANCH) if self._tip() else ""
        mark = f"{FAILED}: "
        return [line.removeprefix(mark).partition(": ")[0] for line in said.split("\n") if line.startswith(mark)]

    def good(self, device: str) -> str:
        """Return the commit with the last state of a device known to be good; empty if there is none."""
        return self._found(f"{GOOD}/{device}")

    def set_good(self, device: str, revision: str) -> None:
        """Say of which revision the state of a device is known to be good."""
        self._git("update-ref", f"{GOOD}/{device}", revision)

    def all_good(self) -> dict[str, list[str]]:
        """Return the devices whose state is known to be good, by the revision of that."""
        found: dict[str, list[str]] = {}
        for line in self._git("for-each-ref", "--format=%(objectname) %(refname:lstrip=3)", f"{GOOD}/").split("\n"):
            revision, _, device = line.partition(" ")
            found.setdefault(revision, []).append(device)
        return found

    def devices(self, revision: str) -> list[str]:
        """Return the names of the devices that a revision has."""
        listed = self._git("ls-tree", "-r", "--name-only", "-z", revision, "devices/").split("\0")
        return list(dict.fromkeys(each.split("/")[2] for each in listed if each))

    def texts(self, revision: str, device: str) -> dict[str, str]:
        """Return the texts of a device in a revision, by file name."""
        return self.all_texts(revision, _folder(device)).get(device, {})

    def states(self, revisions: Mapping[str, str]) -> dict[str, dict[str, str]]:
        """Return the texts of devices, each in the revision that is given for it, by device and by file name."""
        together: dict[str, list[str]] = {}
        for device, revision in revisions.items():
            together.setdefault(revision, []).append(device)
        found: dict[str, dict[str, str]] = {}
        for revision, devices in together.items():
            whole = self.all_texts(revision) if len(devices) > FEW else {}
            found |= {each: whole[each] if each in whole else self.texts(revision, each) for each in devices}
        return {each: found[each] for each in revisions}

    def all_texts(self, revision: str, folder: str = "devices") -> dict[str, dict[str, str]]:
        """Return the texts of every device in a revision, by its name and by file name; `folder` for one alone."""
        listed = self._run("ls-tree", "-r", "-z", revision, f"{folder}/").split(b"\0")
        entries = [each.split(b"\t", 1) for each in listed if each]
        wanted = b"".join(head.split()[2] + b"\n" for head, _ in entries)
        given = self._run("cat-file", "--batch", given=wanted) if entries else b""
        found: dict[str, dict[str, str]] = {}
        at = 0
        for _, path in entries:  # each answer is `ID blob SIZE`, a line end, so many octets, a line end
            end = given.index(b"\n", at)
            head = given[at:end].split()
            try:
                *_, device, file = path.decode().split("/", 3)
                start, size = end + 1, int(head[2])
                found.setdefault(device, {})[file] = given[start : start + size].decode()
            except (IndexError, ValueError):
                name = path.decode(errors="backslashreplace")
                what = "is not in it" if head[-1:] == [b"missing"] else "is no text"
                raise ArchiveError(f"{self.path}: of {revision} the text {name} {what}") from None
            at = start + size + 1
        return found

    def rounds(self, device: str = "", most: int = 0) -> list[Round]:
        """Return the rounds, the last one first: of all devices, or those in which a device became another one."""
        if not self._tip():
            return []
        about = ["--", _folder(device)] if device else []
        count = [f"--max-count={most}"] if most else []
        form = "--format=%x1e%H%x1f%aI%x1f%an%x1f%s%x1f"
        said = self._git("log", "--name-only", form, *count, BRANCH, *about)
        return [_round(each) for each in said.split("\x1e")[1:]]

    def _tip(self) -> str:
        return self._found(BRANCH)

    def _found(self, name: str) -> str:
        try:
            found = run_in_archive(self.path, "rev-parse", "--verify", "--quiet", "--end-of-options", name)
        except GitError as error:
            if error.said:
                raise ArchiveError(f"{self.path}: {error}") from None
            return ""  # there is no such name
        return found.decode().strip()

    def _git(self, *arguments: str, given: bytes | None = None) -> str:
        return self._run(*arguments, given=given).decode()

    def _run(self, *arguments: str, given: bytes | None = None) -> bytes:
        try:
            return run_in_archive(self.path, *arguments, given=given)
        except GitError as error:
            raise ArchiveError(f"{self.path}: {error}") from None


def _message(devices: Iterable[str], failed: Mapping[str, str]) -> str:
    names = list(devices)
    lines = [
        f"Capture {', '.join(names[:3]) or 'nothing'}{f' and {len(names) - 3} more' if len(names) > 3 else ''}",
        "",
    ]
    lines += [f"{SEEN}: {len(names)}", *(f"{FAILED}: {name}: {cause}" for name, cause in failed.items())]
    return "\n".join(lines) + "\n"


def _round(text: str) -> Round:
    revision, when, who, what, files = text.split("\x1f")
    devices = dict.fromkeys(each.split("/")[2] for each in files.split("\n") if each.count("/") >= 3)
    return Round(revision, when, who, what, tuple(devices))


def _folder(device: str) -> str:
    return f"devices/{hashlib.sha256(device.encode()).hexdigest()[:2]}/{device}"


def _data(text: str) -> bytes:
    raw = text.encode()
    return f"data {len(raw)}\n".encode() + raw + b"\n"


def _quoted(path: str) -> str:
    escaped = path.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return f'"{escaped}"'


def who() -> str:
    """Return the name of the user that runs this."""
    return os.environ.get("USER") or os.environ.get("LOGNAME") or "nobody"
