"""The same work for many devices, on all cores; what comes back is in the order of the devices, as on one core."""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable, Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar

import msgspec

from agile_lattice.cli.options import count
from agile_lattice.dialects.registry import Catalogue, catalogue_beside
from agile_lattice.fleet.intents import Fleet, is_large, load_large
from agile_lattice.fleet.packed import Packed
from agile_lattice.fleet.sharing import for_each as shared
from agile_lattice.fleet.store import usual_store
from agile_lattice.fleet.tasks import Captured, Failed, Texts
from agile_lattice.intent.model import Device, Network
from agile_lattice.notation.loading import load
from agile_lattice.show.terminal import with_progress

if TYPE_CHECKING:
    from agile_lattice.checks.registry import Finding

R = TypeVar("R")
MANY = 24  # devices, below which it takes longer to start other processes than to do the work


class Done(msgspec.Struct, Generic[R], frozen=True):
    """What came back of all devices of which something did, and the others."""

    results: tuple[R, ...]
    failed: tuple[Failed, ...]

    def told(self, code: int) -> int:
        """Print why devices failed; return the exit code, that of an error if some did."""
        for each in self.failed:
            print(f"lattice: {each.device}: {each.reason}", file=sys.stderr)
        return 2 if self.failed else code


def add_jobs(command: ArgumentParser, cluster: bool = True) -> None:
    """Add who shares the work, and whether results are kept.

    Args:
        command: The command.
        cluster: Whether a cluster can share it: whether it is done device by device.
    """
    command.add_argument(
        "--jobs",
        metavar="N",
        type=count,
        help="how many processes share the work (default: all cores, for many devices)",
    )
    command.set_defaults(cluster="", cache=True)
    if cluster:
        command.add_argument(
            "--cluster", metavar="ADDRESS", default="",
            help="let the workers of this Dask scheduler share it; `local` begins some on this machine",
        )  # fmt: skip
    command.add_argument(
        "--no-cache", dest="cache", action="store_false",
        help="work everything out again, also what is kept of many devices",
    )  # fmt: skip


def jobs_for(arguments: Namespace, devices: int) -> int:
    """Return how many processes share the work for so many devices."""
    return arguments.jobs or (cores() if devices >= MANY or arguments.cluster else 1)


def cores() -> int:
    """Return how many cores this process may use."""
    return len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1


def loaded(arguments: Namespace) -> Network:
    """Load the intent of a command; one that is large on all cores, and it is kept as it was understood."""
    return whole(loaded_fleet(arguments))


def loaded_fleet(arguments: Namespace) -> Network | Fleet:
    """Load the intent of a command; the devices of one that is large stay packed until somebody looks at them."""
    if not is_large(arguments.intent):
        return load(arguments.intent)
    with (usual_store() if arguments.cache else None) or nullcontext() as store:
        return load_large(arguments.intent, store, arguments.jobs or cores())


def devices_of(fleet: Network | Fleet) -> Sequence[Device | Packed]:
    """Return the devices of an intent, packed or not."""
    return fleet.devices


def whole(fleet: Network | Fleet) -> Network:
    """Return an intent with all of its devices unpacked."""
    return fleet.network if isinstance(fleet, Fleet) else fleet


def checked_by_all(fleet: Network | Fleet, arguments: Namespace) -> list[Finding]:
    """Check an intent against the design rules."""
    from agile_lattice.fleet.checking import checked

    many = len(fleet.devices) >= MANY
    with (usual_store() if many and arguments.cache else None) or nullcontext() as store:
        return checked(fleet, jobs_for(arguments, len(fleet.devices)), store, with_progress)


def for_each(
    work: Callable[[Device, Texts, Catalogue], R], captured: Sequence[Captured], arguments: Namespace, what: str,
    tell: Callable[[R], None] | None = None,
) -> Done[R]:  # fmt: skip
    """Do the same work for each device; one that fails does not stop the others, unless it is alone.

    Args:
        work: What is done: a function of a module, since other processes have to find it.
        captured: The devices with their texts.
        arguments: Of the command: `intent` and `jobs`.
        what: What is done, in a word for the bar that tells how far it is.
        tell: What prints a result as soon as it is there, if that is wanted.
    """
    many = len(captured) >= MANY
    jobs = jobs_for(arguments, len(captured))
    catalogue = catalogue_beside(Path(arguments.intent))
    with (usual_store() if many and arguments.cache else None) or nullcontext() as store:
        answers = shared(work, captured, catalogue, jobs=jobs, cluster=arguments.cluster, store=store)
        found = []
        for each in with_progress(answers, what, len(captured)):
            found.append(each)
            if tell is not None and not isinstance(each, Failed):
                tell(each)
    failed = tuple(each for each in found if isinstance(each, Failed))
    return Done(tuple(each for each in found if not isinstance(each, Failed)), failed)
