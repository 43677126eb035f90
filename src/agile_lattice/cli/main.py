"""The command `lattice`: arguments, and which command they call.

Every command is a module of this room with `run(arguments) -> int`, imported when it is
called: asking for help costs nothing of what a command needs.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace, RawDescriptionHelpFormatter
from importlib import import_module

NOTHING_TO_REPORT, SOMETHING_TO_REPORT, COULD_NOT = 0, 1, 2

DESCRIPTION = """\
Keep addresses, routes and translations in one neutral intent; render them for
every device's own syntax; find out how a device differs from what was meant."""

EPILOG = """\
in the order of the work:
  lattice check intent.yaml                            what is wrong with the design
  lattice render intent.yaml --into rendered           the configuration of every device
  lattice read --speaks frr,nftables frr.conf nat.nft  a configuration as intent
  lattice diff intent.yaml captures                    how the devices differ from it
  lattice demo                                         all of it, on a small ferry company

exit code: 0 nothing to report, 1 findings or differences, 2 could not do it"""


def build_parser() -> ArgumentParser:
    """Return the parser of the whole command line."""
    parser = ArgumentParser(
        "lattice", description=DESCRIPTION, epilog=EPILOG, formatter_class=RawDescriptionHelpFormatter
    )
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", dest="command")

    def add(name: str, help: str, example: str) -> ArgumentParser:
        command = commands.add_parser(
            name, help=help, description=help[0].upper() + help[1:] + ".", epilog=f"example:\n  {example}",
            formatter_class=RawDescriptionHelpFormatter,
        )  # fmt: skip
        if name != "demo":
            command.add_argument("--format", choices=["text", "json"], default="text", help="how to print (text)")
        return command

    command = add("check", "hold an intent against the rulebook of design checks", "lattice check intent.yaml")
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")

    command = add("render", "write the configuration of devices", "lattice render intent.yaml --into rendered")
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument("--device", metavar="NAME", action="append", help="only this device; may be repeated")
    command.add_argument("--into", metavar="FOLDER", help="write files there, a folder for each device; all or none")

    command = add(
        "read", "turn the configuration of a device into intent",
        "lattice read --speaks frr,nftables --device quay-edge frr.conf ruleset.nft",
    )  # fmt: skip
    command.add_argument("files", metavar="FILE", nargs="+", help="configurations of one device")
    command.add_argument("--speaks", metavar="DIALECTS", required=True, help="its dialects, separated by commas")
    command.add_argument("--device", metavar="NAME", default="", help="its name, if the files do not say")

    command = add("diff", "hold the configuration of devices against the intent", "lattice diff intent.yaml captures")
    command.add_argument("intent", metavar="INTENT", help="an intent file, or a folder of them")
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="+",
        help="a folder with a folder for each device; or, with --device, files or a folder of files",
    )  # fmt: skip
    command.add_argument("--device", metavar="NAME", help="the device that the captures are of")

    add("demo", "show all of it on demo data, as a story", "lattice demo")
    return parser


def main(argv: list[str] | None = None) -> int:
    """Run the command line.

    Args:
        argv: Arguments without the program's name; those of the process if None.

    Returns:
        0 for nothing to report, 1 for findings or differences, 2 if it could not be done.
    """
    parser = build_parser()
    arguments = parser.parse_args(argv)
    if arguments.command is None:
        parser.print_help()
        return NOTHING_TO_REPORT
    return _guarded(arguments)


def _guarded(arguments: Namespace) -> int:
    """Run a command; what is wrong with its input is said in words, and is exit code 2."""
    from agile_lattice.dialects.errors import DialectError
    from agile_lattice.notation.errors import NotationError

    try:
        code: int = import_module(f"agile_lattice.cli.{arguments.command}").run(arguments)
    except (NotationError, DialectError, OSError) as error:
        print(f"lattice: {error}", file=sys.stderr)
        return COULD_NOT
    except KeyboardInterrupt:
        print("lattice: interrupted", file=sys.stderr)
        return COULD_NOT
    return code


def run() -> None:
    """Run the command line and leave the process with its exit code."""
    try:
        code = main()
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever read our output has had enough of it; that is no failure of ours.
        sys.stderr.close()
        code = COULD_NOT
    sys.exit(code)
