"""The captured configurations that a command is given: whose they are, and what is in them."""

from __future__ import annotations

import linecache
from argparse import Namespace
from collections.abc import Sequence
from pathlib import Path

from agile_lattice.archive.folders import by_device, captured_files
from agile_lattice.archive.repository import Archive
from agile_lattice.fleet.tasks import Texts
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.located import read_text
from agile_lattice.notation.lookup import HasName, N, device_named

GOOD = "good"


def texts_of(devices: Sequence[N], arguments: Namespace) -> list[tuple[N, Texts]]:
    """Return the devices, or the one that is asked for, with what was captured of each: nothing of those that were not.

    Raises:
        NotationError: As `captured_texts` does.
    """
    captured = captured_texts(devices, arguments)
    if arguments.device:
        return captured
    of = {device.name: texts for device, texts in captured}
    return [(device, of.get(device.name, [])) for device in devices]


def captured_texts(devices: Sequence[N], arguments: Namespace) -> list[tuple[N, Texts]]:
    """Return those of the devices that were captured, each with the name and the text of its files.

    Raises:
        NotationError: If it cannot be told which files are of which device, or one cannot be read.
    """
    [first, *more] = arguments.captures
    archived = archive_of(first)
    if archived is not None:
        if more:
            raise fail(Place(first), "an archive is given alone", "Leave the other captures out.")
        return _archived_texts(devices, *archived, arguments.device)
    if arguments.device:
        device_named(devices, arguments.device)
    paths = [Path(each) for each in arguments.captures]
    files = by_device(captured_files(paths, arguments.device or "", Path(arguments.intent)).read)
    known = {device.name: device for device in devices}
    order = {device.name: number for number, device in enumerate(devices)}
    named = [known.get(name) or device_named(devices, name) for name in files]
    named.sort(key=lambda each: order[each.name])
    return [(each, [(str(file.path), read_text(file.path)) for file in files[each.name]]) for each in named]


def archive_of(word: str) -> tuple[Archive, str] | None:
    """Return the archive that is named, and what of it: `ARCHIVE@good`, `ARCHIVE@2026-11-20`; `None` if none is."""
    if Archive.is_one(Path(word)):
        return Archive(Path(word)), ""
    path, at, of = word.rpartition("@")
    return (Archive(Path(path)), of) if at and of and Archive.is_one(Path(path)) else None


def _archived_texts(devices: Sequence[N], archive: Archive, at: str, name: str | None) -> list[tuple[N, Texts]]:
    """Return what an archive has of devices: of one, or of all that the intent has."""
    last = "" if at == GOOD else archive.revision(at)
    there = {*archive.devices(last)} if last else set()
    devices = [device_named(devices, name)] if name else devices
    good = {each: revision for revision, names in archive.all_good().items() for each in names} if at == GOOD else {}
    revisions = {each.name: good.get(each.name, last if each.name in there else "") for each in devices}
    states = archive.states({name: revision for name, revision in revisions.items() if revision})
    found = [
        (each, [(_shown(archive, at, each, file, text), text) for file, text in states[each.name].items()])
        for each in devices
        if each.name in states
    ]
    if name and not found:
        of = f" of {at}" if at else ""
        raise fail(Place(str(archive.path)), f"there is no capture{of} of {name}", "`lattice capture` makes one.")
    if not found:
        raise fail(Place(str(archive.path)), "it has no capture of a device of this intent", "")
    return found


def _shown(archive: Archive, at: str, device: HasName, file: str, text: str) -> str:
    """Return the name of an archived text, by which its lines can be shown though they are in no file."""
    name = f"{archive.path}{f'@{at}' if at else ''}/{device.name}/{file}"
    linecache.cache[name] = (len(text), None, text.splitlines(keepends=True), name)
    return name
