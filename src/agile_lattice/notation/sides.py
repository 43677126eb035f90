"""What `from`, `to` and `facing` may name on one device: zones and interfaces."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from difflib import get_close_matches

from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import NotationError, fail


def unknown(word: str, what: str, known: Iterable[str], place: Place, remedy: str = "") -> NotationError:
    """Return the error that a word names nothing, with the nearest right one."""
    near = get_close_matches(word, list(known := list(known)), 1)
    hint = f"Did you mean {near[0]!r}?" if near else remedy or f"Known: {', '.join(sorted(known))}."
    return fail(place, f"{word!r} is {what}", hint)


class Sides:
    """The sides of one device.

    Args:
        device: Its name.
        interfaces: Its interfaces.
        zones: The names of all zones.
        faulty: Interfaces that could not be made. What names them, or a zone that may be theirs, is no fault of its
            own: it raises an error without faults.
    """

    def __init__(
        self, device: str, interfaces: Iterable[Interface], zones: Iterable[str], faulty: Collection[str] = ()
    ) -> None:
        self.device, self.faulty = device, faulty
        self.zones: dict[str, tuple[str, ...]] = dict.fromkeys(zones, ())
        self.interfaces = set()
        for interface in interfaces:
            self.interfaces.add(interface.name)
            if interface.zone:
                self.zones[interface.zone] += (interface.name,)

    def interface(self, name: str, place: Place) -> str:
        """Return the name of an interface if there is one of it.

        Raises:
            NotationError: If not.
        """
        if name in self.faulty:
            raise NotationError([])
        if name not in self.interfaces:
            raise unknown(name, f"not an interface of {self.device}", self.interfaces, place)
        return name

    def named(self, words: list[str] | None, place: Place) -> tuple[str, ...] | None:
        """Return the interfaces that zones and interfaces name, sorted; None for no words.

        Raises:
            NotationError: If a word is neither, or a zone has no interface here.
        """
        if words is None:
            return None
        found: set[str] = set()
        for word in words:
            if word in self.interfaces:
                found.add(word)
            elif self.zones.get(word):
                found.update(self.zones[word])
            elif word in self.faulty or (self.faulty and word in self.zones):
                raise NotationError([])
            elif word in self.zones:
                raise fail(
                    place, f"{self.device} has no interface in the zone {word!r}, so nothing can match",
                    f"Put an interface of {self.device} into it, or name another side.",
                )  # fmt: skip
            else:
                raise unknown(
                    word, f"neither a zone nor an interface of {self.device}", [*self.zones, *self.interfaces], place
                )
        return tuple(sorted(found))
