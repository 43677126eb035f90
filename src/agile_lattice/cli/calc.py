"""`lattice calc`: the arithmetic of prefixes, one question at a time."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from typing import Any

import msgspec

from agile_lattice.cli.options import add_action, count
from agile_lattice.cli.output import print_json
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.plan import calculation
from agile_lattice.show.calculation import show_answer
from agile_lattice.show.terminal import console

EXAMPLE = "lattice calc split 203.0.113.0/28 /30"
FORMATS: tuple[str, ...] = ()
DOCUMENTS = {
    "mask": calculation.Mask,
    "subnet": calculation.Bounds,
    "summary": calculation.Summary,
    "split": list[str],
    "pool": calculation.Capacity,
}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    questions = command.add_subparsers(title="questions", metavar="QUESTION", dest="question", required=True)
    question = add_action(questions, "mask", "turn a prefix length, a netmask or a wildcard into the others")
    question.add_argument("mask", metavar="MASK", help="such as /20, 255.255.240.0 or 0.0.15.255")
    question = add_action(questions, "subnet", "give the bounds of a subnet")
    question.add_argument(
        "prefix", metavar="PREFIX", nargs="+", help="such as 10.40.10.77/20, or the address and its netmask"
    )
    question = add_action(questions, "summary", "find the smallest summary, and what it covers beyond the prefixes")
    question.add_argument("prefixes", metavar="PREFIX", nargs="+", help="the prefixes to summarise")
    question = add_action(questions, "split", "split a subnet into parts")
    question.add_argument("prefix", metavar="PREFIX", help="the prefix to split")
    question.add_argument("into", metavar="LENGTH", help="prefix length of the parts, such as /26")
    question = add_action(questions, "pool", "compute how many hosts and connections a pool can serve")
    question.add_argument("addresses", metavar="ADDRESSES", help="an address, a prefix, or first-last")
    question.add_argument("--hosts", metavar="N", type=count, help="how many internal hosts use it at a time")


def run(arguments: Namespace) -> int:
    """Answer one question."""
    try:
        answer = QUESTIONS[arguments.question](arguments)
    except ValueError as error:
        raise fail(Place(), str(error)) from None
    if arguments.format == "json":
        print_json(_spelt(answer))
    else:
        show_answer(console(), answer)
    return 0


def _mask(arguments: Namespace) -> Any:
    return calculation.mask(arguments.mask)


def _subnet(arguments: Namespace) -> Any:
    return calculation.bounds(Prefix.parse("/".join(arguments.prefix)))


def _summary(arguments: Namespace) -> Any:
    return calculation.summary([Prefix.parse(each) for each in arguments.prefixes])


def _split(arguments: Namespace) -> Any:
    prefix = Prefix.parse(arguments.prefix)
    text = arguments.into.removeprefix("/")
    if not (text.isascii() and text.isdigit()):
        raise ValueError(f"{arguments.into!r} is not a prefix length: write it as /26")
    return calculation.split(prefix, int(text))


def _pool(arguments: Namespace) -> Any:
    return calculation.capacity(AddressSet.parse(arguments.addresses), arguments.hosts)


QUESTIONS: dict[str, Callable[[Namespace], Any]] = {
    "mask": _mask,
    "subnet": _subnet,
    "summary": _summary,
    "split": _split,
    "pool": _pool,
}


def _spelt(value: Any) -> Any:
    """Return an answer as plain data, addresses and prefixes as text."""
    if isinstance(value, Address | Prefix):
        return str(value)
    if isinstance(value, msgspec.Struct):
        return {name: _spelt(getattr(value, name)) for name in value.__struct_fields__}
    return [_spelt(each) for each in value] if isinstance(value, list | tuple) else value
