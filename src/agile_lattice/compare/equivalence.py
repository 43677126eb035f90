"""Whether a device treats every packet as its intent says: proven, or shown by packets that it does not."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import islice

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.proving import Part, Parting, Proof, prove
from agile_lattice.behaviour.stage_lists import LISTED
from agile_lattice.behaviour.unknown import NOTHING_UNKNOWN, Unknown
from agile_lattice.behaviour.walking import Walk
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.by_program import found_apart
from agile_lattice.compare.comparing import declares
from agile_lattice.compare.differences import Witness
from agile_lattice.compare.doubts import beyond_program, unknown_of
from agile_lattice.compare.granted import Granted, granted
from agile_lattice.compare.replies import matters, reply_dropped
from agile_lattice.compare.search_space import question_about
from agile_lattice.compare.strangers import strangers
from agile_lattice.compare.witnesses import Sides, Walks
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.reading.absent import LET
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.intent.model import Device, Section
from agile_lattice.packets.boxes import Undecided

MOST_SHOWN = 50
UNSAID = {
    "forwarding4": "whether it forwards IPv4",
    "forwarding6": "whether it forwards IPv6",
    "reverse_path": "whether it filters by the reverse path",
}
WHAT_PACKETS_FEEL: tuple[Section, ...] = (
    "interfaces",
    "answers",
    "routes",
    "translations",
    "permits",
    "access",
    "settings",
    "helpers",
)


class Shown(msgspec.Struct, frozen=True):
    """Packets that a stage treats differently, with one that is treated differently from end to end.

    Attributes:
        witness: The packet; `None` if it is not known whether there is one.
        walks: What each side does with it, stage by stage; `None` where it does not come in.
        unknown: Why that is not known.
    """

    parting: Parting
    witness: Witness | None
    walks: Walks = (None, None)
    unknown: str = ""


class Verdict(msgspec.Struct, frozen=True):
    """What was found out about a device and its intent.

    Attributes:
        device: The device's name.
        proof: The comparison, stage by stage.
        shown: Where stages differ and some packet is treated differently, or may be: the first few.
        hidden: Where stages differ besides, and nobody has looked for a packet.
        incomplete: Why the device's configuration is not all known.
        granted: What is taken for granted of the device as a whole, each with where that is from.
    """

    device: str
    proof: Proof
    shown: tuple[Shown, ...]
    incomplete: tuple[str, ...] = ()
    hidden: int = 0
    granted: tuple[Granted, ...] = ()

    @property
    def same(self) -> bool:
        """Whether every packet that somebody could send is proven to be treated as the intent says."""
        return self.same_if_so and not any(each.source == "assumed" for each in self.granted)

    @property
    def same_if_so(self) -> bool:
        """Whether every packet is treated as the intent says, as long as what was assumed is so."""
        return not (self.shown or self.hidden or self.proof.undecided or self.incomplete)

    @property
    def settled(self) -> bool:
        """Whether all of it was looked at, and nothing is left to say."""
        return self.same

    @property
    def different(self) -> bool:
        """Whether some packet is treated otherwise, and here it is."""
        return any(each.witness is not None for each in self.shown)


def verdict(intent: Device, capture: Capture, catalogue: Catalogue = BUILT_IN, running: bool = True) -> Verdict:
    """Compare a device with its intent for every packet.

    Args:
        intent: The device as it should be.
        capture: The device as it is; of sections that its texts do not speak of nothing is claimed.
        catalogue: Where dialects are looked up: of what none of them carries, and the intent does not declare, a
            device has nothing.
        running: Whether the texts are those of a device; of texts that were only rendered it is not asked what else a
            device does.
    """
    carried = {section for name in intent.speaks for section in catalogue.dialect(name).carries}
    unseen = [each for each in WHAT_PACKETS_FEEL if each not in capture.sections]
    parts: tuple[Section, ...] = ("dial-up", "bridging")
    unseen += [each for each in parts if each not in capture.sections and declares(intent, each)]
    there = as_it_is(intent, capture)
    incomplete = [f"no input covers {each}" for each in unseen if each in carried or declares(intent, each)]
    incomplete += [f"no input covers the IPv{family} rules" for family in capture.unseen_families]
    taken = granted(intent, capture, catalogue) if running else ()
    incomplete += _unsaid(intent, there)
    incomplete += [f"nothing says whether {each.what}" for each in taken if each.source == "unknown"]
    incomplete += [f"{left.place}: {left.reason}" for left in strangers(intent, there)]
    found, known = _found(intent, there, capture)
    if known.leftovers:
        first, count = known.leftovers[0], len(known.leftovers)
        lines = "1 line" if count == 1 else f"{count} lines"
        incomplete.append(f"{lines} not understood, the first is {first.place}: {first.text}")
    sides = Sides(intent, there, unknown_of(capture), capture.unseen_families)
    shown = list(found.shown)
    for each in capture.absent:
        if not matters(each, intent, there):
            continue
        witness = reply_dropped(sides, each)
        if witness is not None:
            shown.append(Shown(Parting("replies", "permitted", "checked like any other packet"), witness))
        else:
            where = "management" if each.section == "access" else "permits"
            incomplete.append(f"in {where} {LET[each.lets]} may be dropped ({each.place})")
    return replace(found, shown=tuple(shown), incomplete=tuple(incomplete), granted=taken)


def _comes_to(part: Part, walks: Walks) -> bool:
    """Tell whether a packet comes to a list of rules on both sides, as the same; to what is no list every packet does.

    Of packets that are treated differently each comes on both sides as the same to where they part first.
    """
    if part not in LISTED or part == "arrival":
        return True
    seen = [_seen_at(part, each) for each in walks]
    return None not in seen and seen[0] == seen[1]


def _seen_at(part: Part, walk: Walk | None) -> tuple[Header, str] | None:
    """Return a packet as it comes to a list of rules, and where it is going out then; `None` if it does not."""
    visit = walk.visits[-1] if walk is not None else None
    if walk is None or visit is None:
        return None
    if part == "access":
        here = walk.end == "local" or any(each.stage == "access" for each in visit.stages)
    else:
        here = any(each.stage in ("departure", part) for each in visit.stages)
    behind = next((each.after for each in visit.stages if each.stage == "way"), None)
    return (behind, visit.leaves) if here and behind is not None else None


def _unsaid(intent: Device, there: Device) -> Iterator[str]:
    """Name what the intent says of the device as a whole, and its configuration does not."""
    for field, words in UNSAID.items():
        if getattr(intent.settings, field) is not None and getattr(there.settings, field) is None:
            yield f"no input says {words}"


def between(one: Device, other: Device, unknown: Unknown = NOTHING_UNKNOWN) -> Verdict:
    """Compare two descriptions of a device for every packet.

    Args:
        one: The one; what it does not say is as the order of evaluation has it.
        other: The other, likewise.
        unknown: What of the other is not known.
    """
    return _verdict(Sides(one, other, unknown))


def _found(intent: Device, there: Device, capture: Capture) -> tuple[Verdict, Capture]:
    """Compare with a captured device; return besides the capture, with what of it was not understood then.

    What rules do that somebody wrote is told by their program. Where that takes too much, their lists tell it, as far
    as they can be said so.
    """
    known = beyond_program(capture)
    if capture.programs:
        try:
            sides = Sides(intent, there, unknown_of(known), capture.unseen_families, capture.programs)
            return _of_program(sides), known
        except Undecided:
            pass
    return _verdict(Sides(intent, there, unknown_of(capture), capture.unseen_families)), capture


def _of_program(sides: Sides) -> Verdict:
    """Compare with a device whose rules are a program.

    Raises:
        Undecided: If that takes too much.
    """
    proof = prove(*sides.devices, lists=())
    every = [Shown(*each) for each in islice(found_apart(sides, proof), MOST_SHOWN + 1)]
    found = tuple(every[:MOST_SHOWN])
    rest = _verdict(sides, proof)
    if not found:
        return rest
    # What differs elsewhere shows in the packets above already.
    proof = replace(proof, partings=(*(each.parting for each in found), *proof.partings))
    return replace(rest, proof=proof, shown=found, hidden=rest.hidden + len(every) - len(found))


def _verdict(sides: Sides, proof: Proof | None = None) -> Verdict:
    proof = proof if proof is not None else prove(*sides.devices)
    shown: list[Shown] = []
    beside: list[Shown] = []
    for at, each in enumerate(proof.partings):
        if len(shown) == MOST_SHOWN:
            return Verdict(sides.name, proof, tuple(shown), hidden=len(proof.partings) - at)
        found = sides.ask(question_about(sides, each), partial(_comes_to, each.part))
        if found.witness is not None or found.unknown:
            shown.append(Shown(each, found.witness, found.walks, found.unknown))
        elif found.beside is not None:
            beside.append(Shown(each, found.beside))
    # Of a packet that is treated differently where it comes to another stage first, that stage tells; else this one.
    return Verdict(sides.name, proof, tuple(shown or beside))
