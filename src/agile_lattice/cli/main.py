"""The command `lattice`: which command the arguments call, and what is said if it fails.

Every command is a module of this room with `run(arguments) -> int`, imported when it is
called: asking for help costs nothing of what a command needs.
"""

from __future__ import annotations

import gc
import sys
from argparse import ArgumentParser, Namespace, _SubParsersAction
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from importlib import import_module
from io import StringIO, TextIOWrapper

from agile_lattice.cli.arguments import build_parser

NOTHING_TO_REPORT, COULD_NOT = 0, 2


def main(argv: list[str] | None = None) -> int:
    """Run the command line.

    Args:
        argv: Arguments without the program's name; those of the process if None.

    Returns:
        0 for nothing to report, 1 for findings or differences, 2 if it could not be done.
    """
    parser = build_parser()
    words = sys.argv[1:] if argv is None else argv
    mistaken = _mistaken_command(parser, words)
    if mistaken:
        print(f"lattice: {mistaken}", file=sys.stderr)
        return COULD_NOT
    arguments, unknown = parser.parse_known_args(words)
    if unknown:
        print(f"lattice: {_mistaken_option(parser, arguments.command, unknown[0])}", file=sys.stderr)
        return COULD_NOT
    if arguments.completion:
        import shtab

        print(shtab.complete(parser, arguments.completion))
        return NOTHING_TO_REPORT
    if arguments.command is None:
        parser.print_help()
        return NOTHING_TO_REPORT
    return _guarded(arguments)


def _commands(parser: ArgumentParser) -> Mapping[str, ArgumentParser]:
    return next(each.choices for each in parser._actions if isinstance(each, _SubParsersAction))


def _mistaken_command(parser: ArgumentParser, words: Sequence[str]) -> str:
    """Say what is wrong with a command that there is not; nothing if there is."""
    known = _commands(parser)
    if not words or words[0].startswith("-") or words[0] in known:
        return ""
    near = get_close_matches(words[0], known, 1)
    remedy = f"Did you mean `lattice {near[0]}`?" if near else f"There are {', '.join(known)}."
    return f"there is no command {words[0]!r}\n    {remedy}"


def _mistaken_option(parser: ArgumentParser, command: str | None, word: str) -> str:
    """Say what is wrong with a word that a command does not take."""
    of = _commands(parser)[command] if command else parser
    known = [name for each in of._actions for name in each.option_strings]
    near = get_close_matches(word.partition("=")[0], known, 1)
    remedy = f"Did you mean {near[0]}?" if near else f"`{of.prog} --help` says what it takes."
    return f"`{of.prog}` does not take {word!r}\n    {remedy}"


def _guarded(arguments: Namespace) -> int:
    """Run a command; what is wrong with its input is said in words, and is exit code 2."""
    from agile_lattice.dialects.errors import DialectError
    from agile_lattice.notation.errors import NotationError

    try:
        code: int = import_module(f"agile_lattice.cli.{arguments.command}").run(arguments)
    except NotationError as error:
        from agile_lattice.show.faults import fault_text

        print(f"lattice: {fault_text(error)}", file=sys.stderr)
        return COULD_NOT
    except ModuleNotFoundError as error:
        module = (error.name or "").partition(".")[0]
        if module not in EXTRAS:
            raise
        print(f"lattice: {_lacking(module)}", file=sys.stderr)
        return COULD_NOT
    except (DialectError, OSError) as error:
        print(f"lattice: {error}", file=sys.stderr)
        return COULD_NOT
    except KeyboardInterrupt:
        print("lattice: interrupted", file=sys.stderr)
        return COULD_NOT
    return code


# What is not installed with the package itself, and with which of its extras it comes.
EXTRAS = {"matplotlib": "figures", "pandas": "frames", "jinja2": "report"}


def _lacking(module: str) -> str:
    return f"this needs {module}, which is not installed\n    pip install 'agile-lattice[{EXTRAS[module]}]'"


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
        print("lattice: interrupted", file=sys.stderr)
        code = COULD_NOT
    sys.exit(code)


def _prepare_streams() -> None:
    """Let output go on where a stream is closed, or knows only some characters."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started us: what is printed goes nowhere
            setattr(sys, name, StringIO())
        elif isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="replace")
