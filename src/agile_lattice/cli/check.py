"""`lattice check`: hold an intent against the rulebook."""

from __future__ import annotations

from argparse import Namespace

from agile_lattice.checks import findings
from agile_lattice.cli.output import print_json
from agile_lattice.notation.loading import load
from agile_lattice.show.findings import show_findings
from agile_lattice.show.terminal import console


def run(arguments: Namespace) -> int:
    """Check; 1 if there are findings."""
    network = load(arguments.intent)
    found = findings(network)
    if arguments.format == "json":
        print_json({"network": network.name, "findings": found})
    else:
        show_findings(console(), found, network.name or str(arguments.intent))
    return 1 if found else 0
