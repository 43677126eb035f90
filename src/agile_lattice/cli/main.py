"""The command `lattice`: which command the arguments call, and what is said if it fails."""

from __future__ import annotations

import gc
import re
import sys
from argparse import Namespace
from difflib import get_close_matches
from io import StringIO, TextIOWrapper

from agile_lattice.cli.commands import COMMANDS, command_module, command_parser, main_parser, whole_parser
from agile_lattice.errors import LatticeError

NOTHING_TO_REPORT, COULD_NOT = 0, 2


def main(argv: list[str] | None = None) -> int:
    """Run the command line.

    Args:
        argv: Arguments without the program's name; those of the process if None.

    Returns:
        0 for nothing to report, 1 for findings or differences, 2 if it could not be done.
    """
    words = sys.argv[1:] if argv is None else argv
    if not words or words[0].startswith("-"):
        return _without_command(words)
    name = words[0]
    if name not in COMMANDS:
        return _failed(f"there is no command {name!r}", _nearest(name, list(COMMANDS), "There are {}.", "lattice "))
    parser = command_parser(name)
    arguments, unknown = parser.parse_known_args(words[1:])
    if unknown:
        options = re.findall(r"--[\w-]+", parser.format_help())
        remedy = _nearest(unknown[0].partition("=")[0], options, f"`{parser.prog} --help` says what it takes.")
        return _failed(f"`{parser.prog}` does not take {unknown[0]!r}", remedy)
    return _guarded(name, arguments)


def _without_command(words: list[str]) -> int:
    """Do what is asked for without a command: help, if nothing else."""
    parser = main_parser()
    arguments, unknown = parser.parse_known_args(words)
    if unknown:
        return _failed(f"`lattice` does not take {unknown[0]!r}", "`lattice --help` says what it takes.")
    if arguments.completion:
        import shtab

        print(shtab.complete(whole_parser(), arguments.completion))
    else:
        parser.print_help()
    return NOTHING_TO_REPORT


def _nearest(word: str, known: list[str], otherwise: str, before: str = "") -> str:
    near = get_close_matches(word, known, 1)
    return f"Did you mean `{before}{near[0]}`?" if near else otherwise.format(", ".join(known))


def _failed(what: str, remedy: str = "") -> int:
    print(f"lattice: {what}" + (f"\n    {remedy}" if remedy else ""), file=sys.stderr)
    return COULD_NOT


def _guarded(name: str, arguments: Namespace) -> int:
    """Run a command; what is wrong with its input is said in words, and is exit code 2."""
    from agile_lattice.notation.errors import NotationError

    try:
        return command_module(name).run(arguments)
    except NotationError as error:
        from agile_lattice.show.faults import fault_text

        return _failed(fault_text(error))
    except ModuleNotFoundError as error:
        module = (error.name or "").partition(".")[0]
        if module not in EXTRAS:
            raise
        return _failed(f"this needs {module}, which is not installed", f"pip install 'agile-lattice[{EXTRAS[module]}]'")
    except (LatticeError, OSError) as error:
        return _failed(str(error))
    except KeyboardInterrupt:
        return _failed("interrupted")


# What is not installed with the package itself, and with which of its extras it comes.
EXTRAS = {"asyncssh": "live", "matplotlib": "figures", "pandas": "frames", "jinja2": "report"}


def run() -> None:
    """Run the command line and leave the process with its exit code."""
    # A command makes many values that all stay until it ends: to look for garbage among them takes a third of the time.
    gc.disable()
    try:
        _prepare_streams()
        code = main()
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever read our output has had enough of it; that is no failure of ours.
        sys.stderr.close()
        code = COULD_NOT
    except KeyboardInterrupt:
        code = _failed("interrupted")
    sys.exit(code)


def _prepare_streams() -> None:
    """Let output go on where a stream is closed, or knows only some characters."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started us: what is printed goes nowhere
            setattr(sys, name, StringIO())
        elif isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="replace")
