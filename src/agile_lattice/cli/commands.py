"""The commands: one table of them all, and the parser of the command line.

A command is a module of this room with `EXAMPLE`, `FORMATS` (what `--format` takes besides text), `add_arguments`
and `run(arguments) -> int`; one that prints JSON has `DOCUMENTS`, the types of what it prints. It is imported when it
is called: to ask for the list of commands costs nothing of what they need.
"""

from __future__ import annotations

from argparse import ArgumentParser, RawDescriptionHelpFormatter
from importlib import import_module
from typing import Any, Protocol, cast

from agile_lattice import __version__

# In the order of the work, with what each does.
COMMANDS = {
    "draw": "draw the network",
    "addresses": "show what every block and subnet is used for",
    "calc": "do address arithmetic",
    "check": "check an intent against the design rules",
    "render": "write the configuration of devices",
    "read": "turn the configuration of a device into intent",
    "diff": "compare the configuration of devices with the intent",
    "prove": "prove that devices treat every packet as the intent says",
    "mend": "print the commands that bring devices in line with the intent",
    "capture": "fetch the configuration of devices into an archive",
    "archive": "show what an archive has, and say what is known to be good",
    "push": "bring devices in line with the intent, with a timed way back",
    "standin": "start devices to practise on, with SSH and RESTCONF",
    "observe": "show which rules are hit, and which translations are in use",
    "walk": "follow packets through the network",
    "report": "write a report",
    "dialects": "list dialects and what each supports, and try a new one",
    "demo": "run the whole workflow on demo data",
}
DESCRIPTION = """\
Keep addresses, routes and translations in one neutral intent; render them for
every device's own syntax; find out how a device differs from the intent."""

EPILOG = """\
in order of use:
  lattice draw intent.yaml network.svg                 devices and their links
  lattice addresses intent.yaml                        what every block and subnet is used for
  lattice calc summary 10.41.0.0/24 10.41.1.0/24       address arithmetic
  lattice check intent.yaml                            mistakes in the design
  lattice render intent.yaml --into rendered           the configuration of every device
  lattice read --speaks frr,nftables frr.conf nat.nft  an intent from a configuration
  lattice diff intent.yaml captures                    how the devices differ from it
  lattice prove intent.yaml captures                   proof for every packet, or an example
  lattice mend intent.yaml captures                    commands that close the gap, and undo
  lattice capture intent.yaml --into archive           fetch what the devices have
  lattice observe intent.yaml --device quay            rules that are hit, translations in use
  lattice push intent.yaml archive --device quay       change a device, with a timed way back
  lattice standin practice/quay.yaml                   devices to practise on
  lattice diff intent.yaml archive@good                the last state known to be good
  lattice walk intent.yaml web 192.0.2.7 tcp/443       where a packet goes, and which rule decides
  lattice walk intent.yaml --plan                      test packets for every rule
  lattice report intent.yaml report.html captures      everything on one page
  lattice report intent.yaml comment.md @main          the effect of a change, for a merge request
  lattice dialects matrix                              what each dialect supports
  lattice demo                                         the whole workflow on demo data

exit code: 0 nothing to report, 1 findings or differences, 2 error"""


class Command(Protocol):
    """What the module of a command has."""

    EXAMPLE: str
    FORMATS: tuple[str, ...]

    def add_arguments(self, command: ArgumentParser) -> None:
        """Add its arguments."""

    def run(self, arguments: Any) -> int:
        """Run it; return the exit code."""


def command_module(name: str) -> Command:
    """Import the module of a command."""
    return cast(Command, import_module(f"agile_lattice.cli.{name}"))


def documents() -> dict[str, Any]:
    """Return the types of what `--format json` prints, by what is typed."""
    return {
        f"{name} {more}".strip(): printed
        for name in COMMANDS
        for more, printed in getattr(command_module(name), "DOCUMENTS", {}).items()
    }


def command_parser(name: str, parser: ArgumentParser | None = None) -> ArgumentParser:
    """Return the parser of one command.

    Args:
        name: The command.
        parser: What gets its arguments; a new one if None.
    """
    module = command_module(name)
    parser = parser or ArgumentParser(f"lattice {name}")
    parser.formatter_class = RawDescriptionHelpFormatter
    parser.description = COMMANDS[name][0].upper() + COMMANDS[name][1:] + "."
    parser.epilog = f"example:\n  {module.EXAMPLE}"
    if module.FORMATS:
        parser.add_argument(
            "--format", choices=["text", *module.FORMATS], default="text", help="output format (default: text)"
        )
    module.add_arguments(parser)
    return parser


def main_parser() -> ArgumentParser:
    """Return the parser of what stands before a command."""
    listed = "\n".join(f"  {name:<12}{does}" for name, does in COMMANDS.items())
    parser = ArgumentParser(
        "lattice", usage="lattice [-h] [--version] [--completion SHELL] COMMAND ...",
        description=f"{DESCRIPTION}\n\ncommands:\n{listed}", epilog=EPILOG, formatter_class=RawDescriptionHelpFormatter,
    )  # fmt: skip
    parser.add_argument("--version", action="version", version=f"lattice {__version__}")
    parser.add_argument(
        "--completion", metavar="SHELL", choices=["bash", "zsh", "tcsh"],
        help="print a completion script for bash, zsh or tcsh",
    )  # fmt: skip
    return parser


def whole_parser() -> ArgumentParser:
    """Return one parser of all commands, for completion scripts."""
    parser = main_parser()
    commands = parser.add_subparsers(metavar="COMMAND")
    for name, does in COMMANDS.items():
        command_parser(name, commands.add_parser(name, help=does))
    return parser
