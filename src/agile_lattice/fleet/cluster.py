"""Work on a cluster that runs already: the workers of a Dask scheduler, or a few that are begun for this."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from importlib.metadata import version
from typing import TYPE_CHECKING, Any, TypeVar

from msgspec.structs import replace

from agile_lattice.dialects.registry import Catalogue
from agile_lattice.errors import LatticeError
from agile_lattice.fleet.packed import Packed, packed
from agile_lattice.fleet.tasks import Captured, Failed, Texts, Work, done
from agile_lattice.intent.vocabulary import Named, Vocabulary

if TYPE_CHECKING:
    from distributed import Client, Future

R = TypeVar("R")
Common = tuple[Work[R], Catalogue, Vocabulary]
PACKAGE = "agile-lattice"
MOST = 40  # devices that go to a worker at once
AHEAD = 8  # batches for each thread of a worker that are sent before the results of earlier ones are there
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
        threads = max(sum(client.nthreads().values()), 1)
        size = max(1, min(MOST, len(captured) // (SHARES * threads)))
        names = packed(captured[0][0]).named
        # What most devices have in common is sent once; if who has it dies, it is sent to another one.
        common = client.submit(told, work, catalogue, names, pure=False)
        waiting: deque[Future[Any]] = deque()
        try:
            for at in range(0, len(captured), size):
                batch = [(*_bare(packed(each), names), texts) for each, texts in captured[at : at + size]]
                waiting.append(client.submit(batch_done, common, batch, pure=False))
                if len(waiting) > AHEAD * threads:
                    yield from waiting.popleft().result()
            while waiting:
                yield from waiting.popleft().result()
        except KilledWorker as error:
            raise ClusterError(f"workers died of the same devices again and again: {error}") from None
        finally:
            client.cancel([common, *waiting])


def _bare(device: Packed, names: tuple[Named, ...]) -> tuple[Packed, bool]:
    """Return a device without these names, and whether it has them."""
    return (replace(device, named=()), True) if device.named is names else (device, False)


def told(work: Work[R], catalogue: Catalogue, names: tuple[Named, ...]) -> Common[R]:
    """Keep what all batches have in common, on a worker."""
    return work, catalogue, Vocabulary.of(names)


def batch_done(common: Common[R], batch: Sequence[tuple[Packed, bool, Texts]]) -> list[R | Failed]:
    """Do work for some devices, on a worker."""
    work, catalogue, names = common
    return [
        done(work, replace(one, named=names) if with_names else one, texts, catalogue)
        for one, with_names, texts in batch
    ]


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
