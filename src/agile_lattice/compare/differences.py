"""What a difference is: frozen values, and how two lists of objects are paired."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal, TypeVar

import msgspec

from agile_lattice.behaviour.flows import Header
from agile_lattice.compare.counterparts import Counterparts
from agile_lattice.dialects.reading.understanding import Leftover
from agile_lattice.dialects.usual import Assumed
from agile_lattice.intent.model import Section
from agile_lattice.intent.places import NOWHERE, Place

T = TypeVar("T")
Change = Literal["missing", "extra", "differs", "moved"]
Effect = Literal["no-effect", "description-only", "changes-traffic", "may-change-traffic"]
REMARKS = frozenset({"description", "name"})


class Witness(msgspec.Struct, frozen=True):
    """A packet that two configurations treat differently.

    Attributes:
        arrives, header: Its ingress interface, and its header.
        intent, device: What becomes of it by the intent, and on the device.
    """

    arrives: str
    header: Header
    intent: str
    device: str

    def __str__(self) -> str:
        return f"{self.header}, in {self.arrives}; intent: {self.intent}; device: {self.device}"


class Field(msgspec.Struct, frozen=True):
    """One field that differs, with both values in the words of the notation; `""` for none."""

    name: str
    intent: str
    device: str


class Difference(msgspec.Struct, frozen=True):
    """One object that differs.

    Attributes:
        change: `missing` on the device, `extra` on the device, `differs`, or `moved` in an ordered list.
        section: The section of the device that it belongs to.
        subject: The object, in words.
        fields: What differs, if the object is on both sides.
        effect: `no-effect` if no packet is treated differently, `description-only` if it is a name or description,
            `changes-traffic` if it changes what happens to some packet, and `may-change-traffic` if it may.
        note: What else there is to say.
        witness: A packet that is treated differently, if one was found.
        intent, device: Where it is written; a place without a line is a side that does not have it.
        identity: Which object of which device it is about, whatever the words: see `compare.identity`.
    """

    change: Change
    section: Section
    subject: str
    effect: Effect
    fields: tuple[Field, ...] = ()
    note: str = ""
    intent: Place = NOWHERE
    device: Place = NOWHERE
    witness: Witness | None = None
    identity: str = ""


class Gap(msgspec.Struct, frozen=True):
    """A difference, and the objects that differ.

    Attributes:
        wanted, found: That of the intent and that of the device, in normal form; `None` if there is none.
        implied: Whether the intent does not say it: then it is only a difference if some packet feels it.
    """

    difference: Difference
    wanted: Any = None
    found: Any = None
    implied: bool = False


class Comparison(msgspec.Struct, frozen=True):
    """A device held against its intent.

    Attributes:
        device: The device's name.
        differences: What differs, in the order of the sections.
        leftovers: Lines of the configuration that were not understood.
        unseen: Sections of which the configuration texts do not speak; nothing is known of them.
        unseen_families: Address families of whose rules they do not speak, though of those of the other.
        left_out: How many differences were found besides, and are not told.
        rules: Its rules by what they do, where somebody wrote them by hand; the sections that they are of.
        captured: Whether anything was captured of it; else nothing is known.
        assumed: The conditions of its rules that were taken for granted since somebody asked for that.
    """

    device: str
    differences: tuple[Difference, ...] = ()
    leftovers: tuple[Leftover, ...] = ()
    unseen: tuple[Section, ...] = ()
    unseen_families: tuple[int, ...] = ()
    left_out: int = 0
    rules: Counterparts | None = None
    captured: bool = True
    assumed: tuple[Assumed, ...] = ()

    @property
    def complete(self) -> bool:
        """Whether all was compared, and all that was found is told."""
        undecided = self.rules is not None and self.rules.undecided
        left = self.leftovers or self.unseen or self.unseen_families or self.left_out
        return self.captured and not (undecided or left)

    @property
    def same(self) -> bool:
        """Whether all was compared, and nothing differs."""
        return not self.differences and self.complete

    @property
    def settled(self) -> bool:
        """Whether all of it was looked at, and nothing is left to say."""
        return self.same and not self.assumed


NO_CAPTURE = "no capture"  # of a device, or none that is known to be good


def text_of(value: Any) -> str:
    """Write plain data of the notation as one short text."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(text_of(each) for each in value)
    if isinstance(value, dict):
        return ", ".join(f"{key} {text_of(each)}" for key, each in value.items())
    return "" if value is None else str(value)


def field_differences(intent: Mapping[str, Any], device: Mapping[str, Any]) -> tuple[Field, ...]:
    """Return the fields in which two objects differ, in the order in which the notation has them."""
    names = dict.fromkeys([*intent, *device])
    return tuple(
        Field(name, text_of(intent.get(name)), text_of(device.get(name)))
        for name in names
        if intent.get(name) != device.get(name)
    )


def effect_of(fields: Iterable[Field]) -> Effect:
    """Tell whether fields are descriptions only."""
    return "description-only" if all(field.name in REMARKS for field in fields) else "may-change-traffic"


def change_of(intent: object | None, device: object | None) -> Change:
    """Tell what it means that an object is on one side, or on both."""
    if intent is not None and device is not None:
        return "differs"
    return "missing" if intent is not None else "extra"


def paired(left: list[T], right: list[T], key: Callable[[T], object], alone: bool = False) -> list[tuple[T, T]]:
    """Take out of two lists the objects that answer to the same key, in pairs.

    Args:
        left: Objects of the intent; those that are paired are removed.
        right: Objects of the device; likewise.
        key: What two objects have in common if they are the same one.
        alone: Pair only what is the only one of its key on both sides.
    """
    waiting: dict[object, list[T]] = defaultdict(list)
    asking: dict[object, int] = defaultdict(int)
    for each in right:
        waiting[key(each)].append(each)
    for each in left:
        asking[key(each)] += 1
    pairs = []
    for each in list(left):
        others = waiting[key(each)]
        if others and not (alone and (len(others) > 1 or asking[key(each)] > 1)):
            pairs.append((each, others.pop(0)))
    used = {id(one) for one, _ in pairs}, {id(other) for _, other in pairs}
    left[:] = [each for each in left if id(each) not in used[0]]
    right[:] = [each for each in right if id(each) not in used[1]]
    return pairs
