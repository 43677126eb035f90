"""Captures in folders: every path that is given, and every file below it, is read, ignored by a rule, or refused.

    CAPTURES/DEVICE/running.conf
    CAPTURES/DEVICE/nftables.d/nat.nft     a file in a folder of a device is one of its texts, too

What is ignored has a rule with a name, in `IGNORED`. All else that is no text of a device is refused: nobody can tell
what a file would have said that nobody read.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

import msgspec

from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import Fault, NotationError

MOST_DEEP = 16  # folders inside one another
# The rules by which a path is ignored, by the names that they are for.
IGNORED = {
    ".git": "version control",
    ".gitattributes": "version control",
    ".gitignore": "version control",
    ".gitkeep": "version control",
}
KINDS = {stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket", stat.S_IFBLK: "a device", stat.S_IFCHR: "a device"}


class CapturedFile(msgspec.Struct, frozen=True):
    """A file with a text of a device.

    Attributes:
        device: The name of its device.
        name: What the text is called within the device: its path below the device's folder.
        path: Where the file is.
    """

    device: str
    name: str
    path: Path


class Ledger(msgspec.Struct):
    """What became of paths.

    Attributes:
        read: Files that are texts of devices.
        ignored: Paths that are ignored, each with the rule.
        refused: What is wrong with the others.
    """

    read: list[CapturedFile] = msgspec.field(default_factory=list)
    ignored: dict[Path, str] = msgspec.field(default_factory=dict)
    refused: list[Fault] = msgspec.field(default_factory=list)

    def refuse(self, path: Path, what: str, remedy: str = "") -> None:
        """Enter a path that is neither read nor ignored."""
        self.refused.append(Fault(Place(str(path)), what, remedy))


def captured_files(paths: Sequence[Path], device: str = "", intent: Path | None = None) -> Ledger:
    """Find the texts of devices.

    Args:
        paths: Folders with a folder for each device; or, of one device, its files and folders of them.
        device: The one device that all of it is of; empty to tell devices by their folders.
        intent: The file or folder of the intent, which may stand beside the folders of the devices.

    Returns:
        What was found, in the order of the paths and then of names; nothing of it is refused.

    Raises:
        NotationError: With every path that is no text of a device, and no rule ignores; and with every text that is
            there twice.
    """
    ledger = Ledger()
    for path in paths:
        if not path.exists():
            broken = path.is_symlink()
            ledger.refuse(path, "this link leads nowhere" if broken else "there is no such file or folder")
        elif not path.is_dir():
            _one_file(ledger, path, device)
        elif not device or (path / device).is_dir():
            _folders_of_devices(ledger, path, device, intent)
        else:
            _folder(ledger, path, device)
    _refuse_repeated(ledger)
    if ledger.refused:
        raise NotationError(ledger.refused)
    return ledger


def _one_file(ledger: Ledger, path: Path, device: str) -> None:
    if device:
        _file(ledger, path, device, path.name)
    else:
        ledger.refuse(
            path, "the device that these files belong to is missing",
            "Give it with --device, or give a folder that has a folder for each device.",
        )  # fmt: skip


def _folders_of_devices(ledger: Ledger, path: Path, only: str, intent: Path | None) -> None:
    entries = []
    for each in _entries(ledger, path):
        if intent is not None and intent.exists() and each.exists() and each.samefile(intent):
            ledger.ignored[each] = "the intent"
        else:
            entries.append(each)
    folders = [each for each in entries if each.is_dir()]
    if not folders:
        ledger.refuse(
            path, "the device that these files belong to is missing",
            "Give it with --device, or give a folder that has a folder for each device.",
        )  # fmt: skip
        return
    for each in entries:
        if each not in folders:
            ledger.refuse(
                each, "it stands beside the folders of the devices, so it is not known whose it is",
                "Move it into the folder of its device, or out of the captures.",
            )  # fmt: skip
    for each in folders:
        if only and each.name != only:
            ledger.ignored[each] = "captures of another device"
        else:
            _folder(ledger, each, each.name)


def _folder(ledger: Ledger, path: Path, device: str) -> None:
    """Enter all files of a device's folder, and of the folders in it."""
    known = len(ledger.read), len(ledger.refused)
    _inside(ledger, path, device, (), frozenset())
    if (len(ledger.read), len(ledger.refused)) == known:
        ledger.refuse(path, "the folder holds no files", "Capture the device's configuration into it.")


def _inside(ledger: Ledger, path: Path, device: str, above: tuple[str, ...], passed: frozenset[str]) -> None:
    real = os.path.realpath(path)
    if real in passed or len(above) > MOST_DEEP:
        ledger.refuse(path, "folders lead back into one another here, or nest too deeply", "Take the link out.")
        return
    for each in _entries(ledger, path):
        if each.is_dir():
            _inside(ledger, each, device, (*above, each.name), passed | {real})
        else:
            _file(ledger, each, device, "/".join((*above, each.name)))


def _entries(ledger: Ledger, path: Path) -> Iterator[Path]:
    """Yield what is in a folder and no rule ignores, in the order of names."""
    try:
        names = sorted(each.name for each in path.iterdir())
    except OSError as error:
        ledger.refuse(path, f"cannot read the folder: {error.strerror}")
        return
    for name in names:
        if name in IGNORED:
            ledger.ignored[path / name] = IGNORED[name]
        else:
            yield path / name


def _file(ledger: Ledger, path: Path, device: str, name: str) -> None:
    try:
        mode = path.stat().st_mode
    except OSError as error:
        if path.is_symlink():
            ledger.refuse(path, "this link leads nowhere", "Put the file there that it should lead to, or remove it.")
        else:
            ledger.refuse(path, f"cannot read the file: {error.strerror}")
        return
    if stat.S_ISREG(mode):
        if path.name.startswith("."):
            ledger.refuse(
                path, "it is hidden, so it is not known whether it is a text of the device",
                "Give it a name without the dot, or remove it.",
            )  # fmt: skip
            return
        ledger.read.append(CapturedFile(device, name, path))
    else:
        kind = KINDS.get(stat.S_IFMT(mode), "something else")
        ledger.refuse(path, f"it is no file but {kind}", "Give a file.")


def _refuse_repeated(ledger: Ledger) -> None:
    """Refuse a text that is there twice: which of two captures of it holds is not known."""
    first: dict[tuple[str, str], Path] = {}
    for each in ledger.read:
        known = first.setdefault((each.device, each.name), each.path)
        if known is not each.path:
            ledger.refuse(
                each.path, f"{each.device} has a text of this name already: {known}",
                "Give one capture of each device: several are put together only if they are different texts of it.",
            )  # fmt: skip


def by_device(files: Iterable[CapturedFile]) -> dict[str, list[CapturedFile]]:
    """Return files by the names of their devices."""
    found: dict[str, list[CapturedFile]] = {}
    for each in files:
        found.setdefault(each.device, []).append(each)
    return found
