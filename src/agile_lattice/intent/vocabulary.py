"""What an intent has names for, looked up by what the names stand for."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from functools import cached_property
from hashlib import blake2b

import msgspec

from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.services import Service


class Named(msgspec.Struct, frozen=True):
    """A name that an intent has for addresses or for a service; packets know nothing of it."""

    name: str
    addresses: AddressSet | None = None
    service: Service | None = None
    place: Place = NOWHERE


class Vocabulary(tuple[Named, ...]):
    """All that an intent has names for; one for all of its devices, which use few of them each."""

    @staticmethod
    def of(names: tuple[Named, ...]) -> Vocabulary:
        """Return names as a vocabulary, which they may be already."""
        return names if isinstance(names, Vocabulary) else Vocabulary(names)

    def __reduce__(self) -> tuple[type[Vocabulary], tuple[tuple[Named, ...]]]:
        """Give the names to another process, and not what was looked up."""
        return Vocabulary, (tuple(self),)

    @cached_property
    def digest(self) -> bytes:
        """What tells these names from any others."""
        return blake2b(msgspec.json.encode(tuple(self)), digest_size=32).digest()

    @cached_property
    def _positions(self) -> dict[AddressSet | Service | None, list[int]]:
        found: dict[AddressSet | Service | None, list[int]] = defaultdict(list)
        for at, each in enumerate(self):
            found[each.addresses if each.addresses is not None else each.service].append(at)
        return dict(found)

    def standing_for(self, meanings: Iterable[AddressSet | Service]) -> list[Named]:
        """Return the names of sets of addresses, and of services, in their order here."""
        return [self[at] for at in sorted(at for each in set(meanings) for at in self._positions.get(each, ()))]
