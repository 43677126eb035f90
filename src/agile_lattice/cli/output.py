"""What commands share: JSON output, picking devices, writing files whole or not at all."""

from __future__ import annotations

import glob
import io
import os
import sys
import tempfile
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import msgspec

from agile_lattice.errors import LatticeError
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail

if TYPE_CHECKING:
    from matplotlib.figure import Figure


MARK = ".lattice-"  # in the names of files that are being written, before the number of the process


class Settled(Protocol):
    """What was found out about a device."""

    @property
    def settled(self) -> bool:
        """Whether all of it was looked at, and nothing is left to say or to do."""


def exit_code(found: Iterable[Settled]) -> int:
    """Return the exit code of a command with a verdict: 0 only if all is settled, else 1."""
    return 0 if all(each.settled for each in found) else 1


def print_json(value: Any, how: str = "json") -> None:
    """Print a value of the library as JSON: places as file and line, addresses as they are written.

    Args:
        value: The value.
        how: `json` for one document, `json-lines` for one in each line, for each member of a list.
    """
    if how == "json-lines":
        for each in value:
            sys.stdout.write(msgspec.json.encode(msgspec.to_builtins(_plain(each))).decode() + "\n")
            sys.stdout.flush()  # somebody may wait for it
        return
    data = msgspec.to_builtins(_plain(value))
    sys.stdout.write(msgspec.json.format(msgspec.json.encode(data), indent=2).decode() + "\n")


def _plain(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "backslashreplace").decode()  # a file's name need not be UTF-8
    if isinstance(value, Place):
        column = {"column": value.column} if value.column else {}
        jumps = {"jumps": [*value.jumps]} if value.jumps else {}
        return {"file": _plain(value.file), "line": value.line, **column, **jumps} if value.line else None
    if isinstance(value, Address | Prefix | AddressSet):
        return str(value)
    if isinstance(value, msgspec.Struct):
        return {name: _plain(getattr(value, name)) for name in value.__struct_fields__}
    if isinstance(value, LatticeError):
        return _plain(vars(value))
    if isinstance(value, Mapping):
        return {key: _plain(each) for key, each in value.items()}
    if isinstance(value, list | tuple | set | frozenset):
        return [_plain(each) for each in value]
    return value


def write_picture(figure: Figure, path: Path) -> None:
    """Write a figure as .png or .svg, whole or not at all.

    Raises:
        NotationError: If the file's name says neither.
        OSError: If it cannot be written.
    """
    kind = path.suffix.lstrip(".")
    if kind not in ("png", "svg"):
        raise fail(Place(str(path)), "a picture is a .png or an .svg file", "Name it so.")
    import matplotlib

    data = io.BytesIO()
    with matplotlib.rc_context({"svg.hashsalt": "lattice"}):  # the same picture is the same bytes
        figure.savefig(data, format=kind, dpi=100, metadata={"Date": None} if kind == "svg" else None)
    write_files({path: data.getvalue()})


def _remove_left_over(path: Path) -> None:
    """Remove what a run that was killed left beside a file."""
    for left in path.parent.glob(f".{glob.escape(path.name)}{MARK}*"):
        process = left.name.partition(MARK)[2].partition("-")[0]
        if process.isdigit() and not Path(f"/proc/{process}").exists():
            left.unlink(missing_ok=True)


def _refuse_links(path: Path, within: Collection[Path]) -> None:
    """Refuse to write through a link that somebody put into a folder: it leads elsewhere."""
    for folder in path.parents if set(within) & {*path.parents} else ():
        if folder in within:
            return
        if folder.is_symlink():
            raise fail(Place(str(folder)), "it is a link, and leads out of the folder to write to", "Take it out.")


def write_files(
    contents: Mapping[Path, str | bytes] | Iterable[tuple[Path, str | bytes]], within: Collection[Path] = ()
) -> None:
    """Write files, all of them or none: each is written beside its place first, then all are renamed.

    Args:
        contents: What is in each; of many that are made one after the other none has to be kept.
        within: The folders that were given, if they are in some: no link below these is followed.

    Raises:
        NotationError: If a folder below that is a link.
        OSError: If a file cannot be written; no file has changed then.
    """
    waiting: dict[Path, Path] = {}
    mask = os.umask(0)
    os.umask(mask)
    try:
        for path, content in contents.items() if isinstance(contents, Mapping) else contents:
            _refuse_links(path, within)
            path.parent.mkdir(parents=True, exist_ok=True)
            _remove_left_over(path)
            handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}{MARK}{os.getpid()}-")
            waiting[path] = Path(name)
            with os.fdopen(handle, "wb") as file:
                file.write(content.encode(errors="backslashreplace") if isinstance(content, str) else content)
            Path(name).chmod(0o666 & ~mask)
        for path in list(waiting):
            waiting[path].replace(path)
            del waiting[path]
    finally:
        for left in waiting.values():
            left.unlink(missing_ok=True)
