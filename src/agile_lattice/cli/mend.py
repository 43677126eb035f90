"""`lattice mend`: the commands that bring devices in line with the intent, and those that undo them."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from difflib import get_close_matches
from functools import partial
from pathlib import Path

from agile_lattice.cli.captures import texts_of
from agile_lattice.cli.options import add_captures
from agile_lattice.cli.output import exit_code, print_json, write_files
from agile_lattice.cli.parallel import add_jobs, devices_of, for_each, loaded_fleet
from agile_lattice.compare.mending import Mending
from agile_lattice.fleet.work import mended
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.show.mending import show_changes, show_held
from agile_lattice.show.terminal import console

EXAMPLE = "lattice mend intent.yaml captures --into changes"
FORMATS: tuple[str, ...] = ("json", "json-lines")
DOCUMENTS = {"": list[Mending]}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_captures(command)
    add_jobs(command)
    command.add_argument("--undo", action="store_true", help="print the commands that undo the change instead")
    command.add_argument("--into", metavar="FOLDER", help="write both there, a folder for each device; all or none")
    command.add_argument(
        "--allow-lockout", metavar="IDENTITY", action="append",
        help="change this object of this device although it could lock you out: the identity that is printed where "
        "it is withheld; may be repeated",
    )  # fmt: skip


def run(arguments: Namespace) -> int:
    """Find the changes; 1 if there is any or one was withheld, or not all of a device was captured and understood."""
    devices = devices_of(loaded_fleet(arguments))
    work = partial(mended, consent=tuple(arguments.allow_lockout or ()))
    # A name that no difference has is refused before anything is printed: then all have to be known.
    at_once = arguments.format == "json-lines" and not arguments.allow_lockout and not arguments.into
    tell = (lambda each: print_json([each], "json-lines")) if at_once else None
    done = for_each(work, texts_of(devices, arguments), arguments, "finding changes", tell)
    mendings = done.results
    _refuse_unknown(arguments.allow_lockout or (), mendings)
    if arguments.into:
        _write(Path(arguments.into), mendings)
    if arguments.format != "text":
        if not at_once:
            print_json(mendings, arguments.format)
        return done.told(exit_code(mendings))
    show_held(console(sys.stderr), mendings)
    if not arguments.into:
        show_changes(console(), mendings, undo=arguments.undo)
    return done.told(exit_code(mendings))


def _refuse_unknown(consent: Sequence[str], mendings: Sequence[Mending]) -> None:
    """Refuse an identity that no difference has: a slip of the pen must not pass for consent."""
    known = {one.identity for each in mendings for one in each.comparison.differences}
    for identity in consent:
        if identity not in known:
            near = get_close_matches(identity, known, 1)
            remedy = f"Did you mean {near[0]!r}?" if near else "What is withheld is printed with its identity."
            raise fail(Place(), f"nothing that differs is {identity!r}", remedy)


def _write(folder: Path, mendings: Sequence[Mending]) -> None:
    texts = {}
    for each in mendings:
        # Of two changes in one dialect the numbers tell which comes first; to take them back, the last comes first.
        numbered = len({one.dialect for one in each.mends}) < len(each.mends)
        for number, one in enumerate(each.mends, 1):
            name = f"{number}-{one.dialect}" if numbered else one.dialect
            texts[folder / each.device / f"{name}.mend"] = one.change
            texts[folder / each.device / f"{name}.undo"] = one.undo
    write_files(texts, [folder])
    for path in texts:
        print(path)
