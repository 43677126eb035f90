"""Arguments that several commands take."""

from __future__ import annotations

from argparse import ArgumentParser, ArgumentTypeError
from typing import Protocol

NOT_CAPTURED = "--assume is about rules of devices as they were captured"


class Actions(Protocol):
    """What the several things that a command can do are added to."""

    def add_parser(self, name: str, *, help: str, description: str) -> ArgumentParser:
        """Add one."""


def add_intent(command: ArgumentParser, *, optional: bool = False) -> None:
    """Add the intent."""
    command.add_argument(
        "intent", metavar="INTENT", nargs="?" if optional else None, help="an intent file, or a folder of them"
    )


def add_captures(command: ArgumentParser, more: str = "") -> None:
    """Add the intent, captures, and whose they are.

    Args:
        command: The parser of the command.
        more: What can be given instead, for the help.
    """
    add_intent(command)
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="+",
        help=f"a folder with a folder for each device, or an archive (ARCHIVE, ARCHIVE@good, ARCHIVE@2026-11-20); or, "
        f"with --device, files or a folder of files{more}",
    )  # fmt: skip
    command.add_argument("--device", metavar="NAME", help="the device that the captures are of")


def add_assume(command: ArgumentParser) -> None:
    """Add what is taken for granted of packets."""
    from agile_lattice.dialects.usual import MEANS  # what most commands need not load

    command.add_argument(
        "--assume", metavar="WHAT", action="append", choices=[*MEANS], default=[],
        help="take something for granted of packets where rules that somebody wrote hang on it: "
        "`within-rates` (no rate, count or quota is exceeded) or `ordinary` (hop limit, options and the like are as "
        "usual); may be repeated. It is told with the answer, and proves nothing",
    )  # fmt: skip


def add_action(commands: Actions, name: str, does: str) -> ArgumentParser:
    """Add one of several things that a command can do, with its output format."""
    action = commands.add_parser(name, help=does, description=does[0].upper() + does[1:] + ".")
    action.add_argument("--format", choices=["text", "json"], default="text", help="output format (default: text)")
    return action


def count(text: str) -> int:
    """Return a positive number.

    Raises:
        ArgumentTypeError: If a text is none.
    """
    if not (text.isascii() and text.isdigit() and int(text) > 0):
        raise ArgumentTypeError(f"{text!r} is not a positive number")
    return int(text)
