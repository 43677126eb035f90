"""What a verdict takes for granted of a device as a whole, and where it is from: read, the intent, or nowhere."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import msgspec

from agile_lattice.behaviour.links import takes_part
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.usual import assumed_in_words
from agile_lattice.intent.learned import families_learned
from agile_lattice.intent.model import Device

Source = Literal["read", "intent", "unknown", "assumed"]


class Granted(msgspec.Struct, frozen=True):
    """Something that decides about every packet, and is no rule or route.

    Attributes:
        what: What is taken for granted, in words: that it forwards IPv4, say.
        source: Where that is from: it was `read`, the `intent` has it so, it is `unknown`; or it was `assumed` since
            somebody asked for that.
    """

    what: str
    source: Source


def granted(intent: Device, capture: Capture, catalogue: Catalogue) -> tuple[Granted, ...]:
    """Return what is taken for granted of a device.

    Args:
        intent: The device as it should be.
        capture: The device as it is.
        catalogue: Where dialects are looked up: some systems forward packets only if they are told to.
    """
    return (
        *_all(intent, capture, catalogue),
        *(Granted(each, "assumed") for each in assumed_in_words(capture.assumed)),
    )


def _all(intent: Device, capture: Capture, catalogue: Catalogue) -> Iterator[Granted]:
    there = capture.device
    told = any(catalogue.dialect(each).semantics.forwards == "said" for each in intent.speaks)
    families = {each.family for one in (*intent.interfaces, *there.interfaces) for each in one.addresses}
    families |= {family for one in intent.interfaces for family in families_learned(one)}
    routes = sum(takes_part(one, intent) for one in intent.interfaces) > 1
    for family in sorted(families) if routes else ():
        does = "forwards" if intent.forwards(family) else "does not forward"
        mine, its = ((each.settings.forwarding4, each.settings.forwarding6)[family == 6] for each in (intent, there))
        yield Granted(f"it {does} IPv{family}", _source(mine, its, told))
    if 4 in families:
        mode = intent.filters_by
        does = f"filters by the reverse path, {mode}" if mode else "does not filter by the reverse path"
        # What no kernel does by itself is as the intent has it: of forwarding it is the other way round.
        yield Granted(f"it {does}", _source(intent.settings.reverse_path, there.settings.reverse_path, told=False))
    if told and 6 in families and not intent.forwards(6):
        listens = ", ".join(each.name for each in intent.interfaces if "slaac" in each.learns) or "no interface"
        yield Granted(f"router advertisements are accepted on: {listens}", "intent")
    yield Granted("no program that was not captured has rules of its own", "intent")
    answers: Source = "read" if "answers" in capture.sections else "intent"
    yield Granted("what answers ARP and ND follows from addresses and translations", answers)
    helpers = ", ".join(each.name for each in there.settings.helpers) or "none"
    yield Granted(f"helpers look into packets of: {helpers}", "read" if "helpers" in capture.sections else "intent")


def _source(intent: object | None, device: object | None, told: bool) -> Source:
    """Tell where a setting is from; a system that has to be told and of which nobody says it may do either."""
    if device is not None:
        return "read"
    return "intent" if intent is not None or not told else "unknown"
