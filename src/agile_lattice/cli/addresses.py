"""`lattice addresses`: what every block and subnet is used for, and what is left."""

from __future__ import annotations

import csv
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

import msgspec

from agile_lattice.cli.options import add_intent, count
from agile_lattice.cli.output import print_json, write_picture
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.plan.usage import COLUMNS, Plan, plans, table
from agile_lattice.show.terminal import console

FORMULA = tuple("=+-@\t\r")  # what a spreadsheet takes for the beginning of one


EXAMPLE = "lattice addresses intent.yaml --run 4"
FORMATS: tuple[str, ...] = ("json", "csv")


class Used(msgspec.Struct, frozen=True):
    """Addresses with one use; `kind` and `holder` say what for and by whom."""

    addresses: AddressSet
    kind: str
    holder: str
    what: str
    place: Place | None


class AddressPlan(msgspec.Struct, frozen=True):
    """A block or a subnet: what it is used for, how many addresses are left, the next one, and the next run of them."""

    name: str
    prefix: Prefix
    left: int
    next: str | None
    run: str | None
    uses: tuple[Used, ...]


DOCUMENTS = {"": list[AddressPlan]}


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument("--only", metavar="WHICH", help="a block, a zone, or the subnets in a prefix")
    command.add_argument("--run", metavar="N", type=count, default=1, help="find N spare addresses in a row")
    command.add_argument("--picture", metavar="FILE", help="draw it, as .png or .svg")


def run(arguments: Namespace) -> int:
    """Show the plan; 0, or 1 if a run of addresses was asked for and no plan has one."""
    chosen = _chosen(plans(load(arguments.intent)), arguments.only)
    if arguments.picture:
        _write_picture(chosen, Path(arguments.picture))
    if arguments.format == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(COLUMNS)
        writer.writerows([_as_cell(each) for each in row] for row in table(chosen))
    elif arguments.format == "json":
        print_json([_document(plan, arguments.run) for plan in chosen])
    else:
        from agile_lattice.show.addresses import show_plan

        out = console()
        for plan in chosen:
            show_plan(out, plan, arguments.run)
    return 0 if arguments.run == 1 or any(plan.next_free(arguments.run) for plan in chosen) else 1


def _as_cell(value: object) -> object:
    """Return a value of a table so that no spreadsheet takes it for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in FORMULA else value


def _chosen(found: list[Plan], wanted: str | None) -> list[Plan]:
    if not found:
        raise fail(Place(), "the intent has no blocks and no subnets", "Describe one under `blocks`, or an interface.")
    if wanted is None:
        return found
    try:
        inside: Prefix | None = Prefix.parse(wanted)
    except ValueError:
        inside = None
    chosen = [plan for plan in found if wanted == plan.name or (inside and inside.contains(plan.prefix))]
    if not chosen:
        known = ", ".join(f"{plan.prefix} ({plan.name})" if plan.name else str(plan.prefix) for plan in found)
        raise fail(Place(), f"there is no block, zone or subnet {wanted}", f"Known: {known}.")
    return chosen


def _document(plan: Plan, count: int) -> AddressPlan:
    free = plan.next_free(count)
    uses = tuple(Used(use.addresses, use.kind, use.holder, use.what, use.place) for use in plan.uses)
    following = str(plan.next_free()) if plan.left else None
    return AddressPlan(plan.name, plan.prefix, plan.left, following, str(free) if free else None, uses)


def _write_picture(chosen: list[Plan], path: Path) -> None:
    from agile_lattice.show.address_map import strip_figure

    write_picture(strip_figure(chosen), path)
