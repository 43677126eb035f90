"""`lattice check`: check an intent against the design rules."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from difflib import get_close_matches

import msgspec

from agile_lattice.checks import CHECKS, Finding
from agile_lattice.checks.exchange import junit, sarif
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import print_json
from agile_lattice.cli.parallel import add_jobs, checked_by_all, loaded_fleet
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.show.findings import show_check, show_findings
from agile_lattice.show.terminal import console

EXAMPLE = "lattice check intent.yaml"
FORMATS: tuple[str, ...] = ("json", "sarif", "junit")


class Checked(msgspec.Struct, frozen=True):
    """What `lattice check` found in a network."""

    network: str
    findings: tuple[Finding, ...]


DOCUMENTS = {"": Checked}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command, optional=True)
    add_jobs(command, cluster=False)
    command.add_argument("--explain", metavar="SLUG", help="explain a check, with examples")


def run(arguments: Namespace) -> int:
    """Check; 1 if there are findings other than notes and accepted ones."""
    if arguments.explain:
        return explain(arguments.explain)
    if not arguments.intent:
        raise fail(Place(), "INTENT is missing", "Give a file or a folder: lattice check intent.yaml")
    fleet = loaded_fleet(arguments)
    found = checked_by_all(fleet, arguments)
    network = fleet if isinstance(fleet, Network) else fleet.bare
    name = network.name or str(arguments.intent)
    if arguments.format == "json":
        print_json(Checked(network.name, tuple(found)))
    elif arguments.format == "sarif":
        print_json(sarif(found))
    elif arguments.format == "junit":
        sys.stdout.write(junit(found, name))
    else:
        show_findings(console(), found, name)
    return 1 if any(_counts(each) for each in found) else 0


def _counts(one: Finding) -> bool:
    return not one.accepted and one.severity != "note"


def explain(slug: str) -> int:
    """Print why a check is there, with its examples."""
    if slug not in CHECKS:
        near = get_close_matches(slug, CHECKS, 1)
        raise fail(
            Place(), f"there is no check {slug!r}", f"Did you mean {near[0]!r}?" if near else
            "The slugs stand behind the findings of `lattice check`, and in docs/checks.md.",
        )  # fmt: skip
    show_check(console(), CHECKS[slug])
    return 0
