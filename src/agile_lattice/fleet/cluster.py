"""Work on a cluster that runs already: the workers of a Dask scheduler, or a few that are begun for this."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from importlib.metadata import version
from typing import TYPE_CHECKING, Any, TypeVar

from agile_lattice.dialects.registry import Catalogue
from agile_lattice.errors import LatticeError
from agile_lattice.fleet.tasks import Captured, Failed, Work, done

if TYPE_CHECKING:
    from distributed import Client

R = TypeVar("R")
PACKAGE = "agile-lattice"
MOST = 40  # devices that go to a worker at once
SHARES = 4  # of the devices for each thread of a worker, at least, so that none waits long for the last one
PATIENCE = 10  # seconds in which a scheduler has to answer
EXTRA = "`--cluster` needs the extra: pip install 'agile-lattice[fleet]'"


class ClusterError(LatticeError):
    """A cluster cannot be used; the message says why, and what to do."""


def on_cluster(
    work: Work[R], captured: Sequence[Captured], catalogue: Catalogue, address: str, jobs: int
) -> Iterator[R | Failed]:
    """Share work among the workers of a cluster; of one that dies, others take over what it had.

    Args:
        work: What is done for each device.
        captured: The devices with their texts.
        catalogue: The dialects.
        address: Of a scheduler, or `local`.
        jobs: How many workers a local one has.

    Raises:
        ClusterError: If there is none, if its workers have another version, or if devices make them die.
    """
    try:
        from distributed import KilledWorker
    except ImportError as error:
        raise ClusterError(EXTRA) from error
    with _connected(address, jobs) as client:
        _same_versions(client)
        threads = sum(client.nthreads().values())
        size = max(1, min(MOST, len(captured) // (SHARES * max(threads, 1))))
        batches = [list(captured[at : at + size]) for at in range(0, len(captured), size)]
        futures = [client.submit(batch_done, work, batch, catalogue, pure=False) for batch in batches]
        try:
            for future in futures:
                yield from future.result()
        except KilledWorker as error:
            raise ClusterError(f"workers died of the same devices again and again: {error}") from None
        finally:
            client.cancel(futures)


def batch_done(work: Work[R], batch: Sequence[Captured], catalogue: Catalogue) -> list[R | Failed]:
    """Do work for some devices, on a worker."""
    return [done(work, device, texts, catalogue) for device, texts in batch]


def _connected(address: str, jobs: int) -> Client:
    from dask import config
    from distributed import Client

    try:
        if address == "local":
            with config.set({"distributed.worker.profile.enabled": False}):  # it takes a tenth of the time
                return Client(n_workers=max(jobs, 1), threads_per_worker=1, dashboard_address=None)
        return Client(address, timeout=PATIENCE)
    except (OSError, ValueError) as error:
        raise ClusterError(f"no scheduler answers at {address}: {error}") from None


def _same_versions(client: Client) -> None:
    """Make sure that workers understand what they get: that is told before any work is sent.

    Raises:
        ClusterError: If there is no worker, or one has another version or none.
    """
    here = version(PACKAGE)
    found: dict[str, Any] = client.run(version_here, on_error="return")
    if not found:
        raise ClusterError("the cluster has no workers: begin some with `dask worker ADDRESS`")
    for worker, there in sorted(found.items()):
        if isinstance(there, OSError):
            continue  # it died meanwhile, which costs nothing
        if there != here:
            has = f"{PACKAGE} {there}" if isinstance(there, str) else f"no {PACKAGE} that works"
            raise ClusterError(f"the worker {worker} has {has}, and this is {here}: install the same there")


def version_here() -> str:
    """Return the version of this package where it is called."""
    return version(PACKAGE)
