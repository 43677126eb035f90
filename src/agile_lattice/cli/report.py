"""`lattice report`: pages of HTML or Markdown about a network, how its devices differ from it, or a change of it."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from msgspec.structs import replace

from agile_lattice.cli.captures import texts_of
from agile_lattice.cli.options import add_intent
from agile_lattice.cli.output import exit_code, write_files
from agile_lattice.cli.parallel import (
    Done,
    add_jobs,
    checked_by_all,
    devices_of,
    for_each,
    jobs_for,
    loaded_fleet,
    whole,
)
from agile_lattice.cli.revisions import intent_of_revision
from agile_lattice.compare.changes import change
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.fleet.intents import Fleet
from agile_lattice.fleet.work import compared, proven, rendered
from agile_lattice.intent.model import Network
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.lookup import chosen_devices
from agile_lattice.show.terminal import with_progress

if TYPE_CHECKING:
    from agile_lattice.observe.observing import Observed
    from agile_lattice.show.report import Configured, Facts


EXAMPLE = "lattice report intent.yaml report.html captures"
FORMATS: tuple[str, ...] = ()
R = TypeVar("R")


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    add_intent(command)
    command.add_argument(
        "into", metavar="FILE",
        help="the page: .html, or .md for the comment of a merge request; or a folder, for a page of each device",
    )  # fmt: skip
    command.add_argument(
        "captures", metavar="CAPTURE", nargs="*",
        help="a folder with a folder for each device, to be compared; or @REVISION, for what has changed since",
    )  # fmt: skip
    command.add_argument(
        "--observe", action="store_true", help="ask the devices what they are doing, and tell that, too"
    )  # fmt: skip
    add_jobs(command)
    command.set_defaults(device=None)


def run(arguments: Namespace) -> int:
    """Write the page; 1 if it has findings or differences, or a packet feels the change; 2 if a device failed."""
    into = Path(arguments.into)
    if into.suffix not in (".html", ".md", ""):
        raise fail(Place(arguments.into), "a report is an .html or an .md file, or a folder", "Name it so.")
    fleet = loaded_fleet(arguments)
    network = whole(fleet)
    catalogue = catalogue_beside(Path(arguments.intent))
    facts = _facts(fleet, arguments, catalogue)
    if arguments.observe:
        facts = replace(facts, observed=_observed(network, Path(arguments.intent), catalogue))
    from agile_lattice.show.fleet_report import INDEX, pages
    from agile_lattice.show.markdown import comment
    from agile_lattice.show.report import page

    if into.suffix:
        write_files({into: page(facts) if into.suffix == ".html" else comment(facts)})
    else:
        if facts.change is not None:
            raise fail(Place(arguments.into), "a change is told on one page", "Name an .html or an .md file.")
        into = into / INDEX
        written = pages(facts, jobs_for(arguments, len(facts.rendered)))
        files = with_progress(written, "writing", len(facts.rendered) + 1)
        write_files(((into.parent / name, text) for name, text in files), [into.parent])
    print(into)
    differs = exit_code([*(facts.compared or ()), *facts.verdicts])
    felt = facts.change is not None and facts.change.felt
    unasked = any(each.cause for each in facts.observed or ())
    return 2 if facts.failed or unasked else 1 if facts.open_findings or differs or felt else 0


def _observed(network: Network, path: Path, catalogue: Catalogue) -> list[Observed]:
    from agile_lattice.observe.observing import observed_round
    from agile_lattice.transport.sealing import seal_key

    devices = [each for each in network.devices if each.connection is not None]
    if not devices:
        raise fail(Place(str(path)), "no device says how it is reached", "Say `connection` of a device.")
    answers = observed_round(network, devices, catalogue, path if path.is_dir() else path.parent, seal_key())
    found = {each.device: each for each in with_progress(answers, "asking", len(devices))}
    return [found[each.name] for each in devices]


def _rendered(fleet: Network | Fleet, arguments: Namespace) -> list[Configured]:
    from agile_lattice.show.report import Configured

    devices = [(each, list[tuple[str, str]]()) for each in devices_of(fleet)]
    done = for_each(partial(rendered, causes=True), devices, arguments, "rendering")
    # A design is worth a report before all of it can be rendered.
    return [Configured(one, *found) for one, found in zip(whole(fleet).devices, _whole(done), strict=True)]


def _whole(done: Done[R]) -> Sequence[R]:
    """Return what came back of all devices; a page without some of them would look complete."""
    if done.failed:
        raise fail(Place(), f"{done.failed[0].device}: {done.failed[0].reason}", "Leave it out, or mend it.")
    return done.results


def _facts(fleet: Network | Fleet, arguments: Namespace, catalogue: Catalogue) -> Facts:
    from agile_lattice.show.report import Facts

    network = whole(fleet)
    chosen_devices(network.devices, None)  # there are some
    found = checked_by_all(fleet, arguments)
    configured = _rendered(fleet, arguments)
    if not arguments.captures:
        return Facts(network, found, configured)
    first = arguments.captures[0]
    if first.startswith("@") and not Path(first).exists():
        before = intent_of_revision(Path(arguments.intent), first[1:] or "HEAD")
        return Facts(network, found, configured, change=change(before, network, catalogue))
    captured = texts_of(devices_of(fleet), arguments)
    comparisons = for_each(compared, captured, arguments, "comparing")
    verdicts = for_each(proven, captured, arguments, "proving")
    if Path(arguments.into).suffix:
        return Facts(network, found, configured, _whole(comparisons), _whole(verdicts))
    failed = {each.device: each.reason for each in (*comparisons.failed, *verdicts.failed)}
    return Facts(network, found, configured, comparisons.results, verdicts.results, failed=failed)
