"""The design rules for many devices: what is found of one device alone is shared, and kept, device by device.

What is found across devices is one part of the work: those checks have most of what they look up in common.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from hashlib import blake2b

import msgspec
from msgspec.structs import replace

from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Finding, Found, findings, findings_of, found
from agile_lattice.fleet.intents import Fleet
from agile_lattice.fleet.packed import Packed, packed, unpacked
from agile_lattice.fleet.sharing import as_they_come
from agile_lattice.fleet.store import Store, installed
from agile_lattice.intent.model import Network
from agile_lattice.notation.collector import paused_collector

ACROSS = -1
BATCH = 40  # devices that are looked at together, as their lists of rules can be; what each gives is kept by itself
Seen = list[tuple[str, Found]]
Watch = Callable[[Iterable[Seen], str, int], Iterable[Seen]]


def _unwatched(parts: Iterable[Seen], _what: str, _count: int) -> Iterable[Seen]:
    return parts


def checked(
    fleet: Network | Fleet, jobs: int = 1, store: Store | None = None, watch: Watch = _unwatched
) -> list[Finding]:
    """Check an intent as `checks.findings` does.

    Args:
        fleet: The intent.
        jobs: How many processes share the work.
        store: What was found before, of devices that have not changed.
        watch: What hands the parts of the work through and tells somebody how far it is; it gets them, a word for what
            is done, and how many there are.
    """
    if isinstance(fleet, Network):
        if jobs == 1 and store is None:
            return findings(fleet)
        fleet = Fleet(replace(fleet, devices=()), tuple(map(packed, fleet.devices)))
    checking = _Checking(fleet, store)
    across = [one for seen in watch(checking.parts(jobs), "checking", len(checking.batches) + 1) for one in seen]
    alone = [one for device in fleet.devices for one in checking.known[device.name]]
    return findings_of(fleet.bare, [*alone, *across])


class _Checking:
    """The checks of one intent.

    Args:
        fleet: The intent.
        store: What was found before.

    Attributes:
        known: What is found of each device alone, by its name.
        batches: The devices of which that is not known from before.
    """

    def __init__(self, fleet: Fleet, store: Store | None) -> None:
        self.fleet, self.store = fleet, store
        said = fleet.bare.zones, fleet.bare.blocks, fleet.bare.hosts
        self.common = blake2b(installed() + b"checks" + msgspec.json.encode(said), digest_size=32).digest()
        known = {each.name: store.get(self._key(each)) for each in fleet.devices} if store is not None else {}
        self.known: dict[str, Seen] = {name: seen for name, seen in known.items() if seen is not None}
        left = [each for each in fleet.devices if each.name not in self.known]
        self.batches = [left[at : at + BATCH] for at in range(0, len(left), BATCH)]

    def _key(self, device: Packed) -> bytes:
        return blake2b(self.common + b"alone" + device.digest, digest_size=32).digest()

    def parts(self, jobs: int) -> Iterator[Seen]:
        """Yield what is found across devices, in as many parts as there is work; then all of `known` is there."""
        key = blake2b(self.common + b"across" + b"".join(each.digest for each in self.fleet.devices), digest_size=32)
        across = self.store.get(key.digest()) if self.store is not None and not self.batches else None
        if across is not None:
            yield across
            return
        numbers = [ACROSS, *range(len(self.batches))]  # what takes longest is begun first
        for number, seen in as_they_come(_Checking.part, self, numbers, jobs):
            keys = [key.digest()] if number == ACROSS else map(self._key, self.batches[number])
            for each, of_it in zip(keys, seen.values(), strict=True):
                if self.store is not None:
                    self.store.put(each, of_it)
            self.known |= seen
            yield seen.get("", [])

    def part(self, number: int) -> dict[str, Seen]:
        """Return what is found of each device of a batch; or across devices, which goes by no name."""
        with paused_collector():
            if number == ACROSS:
                return {"": list(found(Design(self.fleet.network), across=True))}
            devices = tuple(map(unpacked, self.batches[number]))
            seen: dict[str, Seen] = {each.name: [] for each in devices}
            for slug, one in found(Design(replace(self.fleet.bare, devices=devices)), across=False):
                seen[one.subject.partition(" ")[0]].append((slug, one))  # it is named first
            return seen
