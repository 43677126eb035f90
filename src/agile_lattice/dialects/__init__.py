"""Dialects: one definition of a configuration syntax gives its renderer and its reader.

In comes a device, out come its texts, or what a dialect cannot express; in come texts, out comes what they say as a
device, and the lines that were not understood.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from agile_lattice.dialects.assembly import Capture, as_intent, assemble
from agile_lattice.dialects.causes import render_with_causes
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.fact_types import FACTS, says_nothing
from agile_lattice.dialects.lasting import unit
from agile_lattice.dialects.lowering import facts_of
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.passes.families import FAMILIES
from agile_lattice.dialects.reading.including import with_included
from agile_lattice.dialects.reading.parting import readings
from agile_lattice.dialects.registry import BUILT_IN, Catalogue
from agile_lattice.dialects.rendering import render_facts
from agile_lattice.intent.model import SECTIONS, Device, Section
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import Rule, family_of

__all__ = ["Capture", "Cause", "Rendered", "as_intent", "read_device", "render_device"]


class Cause(msgspec.Struct, frozen=True):
    """A line of a text, from 1, and where in the intent what it says stands."""

    line: int
    place: Place


class Rendered(msgspec.Struct, frozen=True):
    """The configuration of a device in one of its dialects.

    Attributes:
        device: The device's name.
        dialect: The dialect's name.
        file: What the text is called in a folder.
        sections: What it carries.
        text: The whole text, ending in a line break.
        causes: For lines of it, where in the intent what they say stands; only if that was asked for.
        unit: A unit of systemd that loads the text as the system starts; empty if the text is itself what is saved.
    """

    device: str
    dialect: str
    file: str
    sections: tuple[Section, ...]
    text: str
    causes: tuple[Cause, ...] = ()
    unit: str = ""

    @property
    def lasts(self) -> bool:
        """Whether the device has it after its next start, once it is in its place."""
        return not self.unit


def render_device(device: Device, catalogue: Catalogue = BUILT_IN, causes: bool = False) -> list[Rendered]:
    """Render a device in the dialects that it speaks; each section goes to the first that carries it.

    Args:
        device: The device.
        catalogue: Where dialects are looked up.
        causes: Whether to say of every line where in the intent it comes from.

    Raises:
        Refusals: With everything that cannot be expressed, if anything cannot.
        UnknownDialect: If it speaks a dialect that there is not.
    """
    if unfilled := list(_unfilled(device)):
        raise Refusals(unfilled)
    facts = facts_of(device)
    carried: set[tuple[Section, int]] = set()
    rendered = []
    refusals: list[Refusal] = []
    for name in device.speaks:
        speaker = catalogue.dialect(name)
        sections = tuple(each for each in speaker.carries if carried.isdisjoint(speaker.covered(each)))
        for section in sections:
            carried.update(speaker.covered(section))
        wanted = {kind: facts[kind] for kind in facts if FACTS[kind].section in (*sections, None)}
        if not sections:
            continue
        try:
            if causes:
                for file, text, lines in render_with_causes(speaker, wanted):
                    found = tuple(Cause(line, place) for line, place in sorted(lines.items()))
                    rendered.append(Rendered(device.name, name, file, sections, text, found, unit_of(speaker, file)))
            else:
                for file, text in render_facts(speaker, wanted):
                    rendered.append(Rendered(device.name, name, file, sections, text, unit=unit_of(speaker, file)))
        except Refusals as error:
            refusals += error.refusals
    refusals += _uncarried(device, facts, carried)
    refusals += _unnamed(device, catalogue)
    if refusals:
        raise Refusals(refusals)
    return rendered


def unit_of(dialect: Dialect, file: str) -> str:
    """Return what loads a text as the system starts; empty if that is not needed."""
    loading = dialect.forms[0].loading
    return unit(dialect.title.partition(":")[0].partition(",")[0], file, loading) if loading.command else ""


def _unnamed(device: Device, catalogue: Catalogue) -> Iterator[Refusal]:
    """Refuse a host name if none of a device's dialects says it."""
    if device.settings.host_name and not any(catalogue.dialect(each).says("device") for each in device.speaks):
        reason = "none of the dialects that the device speaks says a host name"
        place = device.settings.place.at("host-name")
        yield Refusal(" and ".join(device.speaks), f"device {device.name}", "host-name", place, reason)


def _unfilled(device: Device) -> Iterator[Refusal]:
    """Refuse lists of sources that nobody has filled yet: no syntax writes a list without members."""
    for one in device.access:
        if one.source is not None and not one.source.spans:
            reason = "its list of sources has no members yet: fill it, or take the entry out until then"
            place = one.place.at("source")
            yield Refusal(" and ".join(device.speaks), f"management {one.name}".rstrip(), "source", place, reason)


def _uncarried(device: Device, facts: Facts, carried: set[tuple[Section, int]]) -> Iterator[Refusal]:
    """Refuse what none of a device's dialects carries."""
    speakers = " and ".join(device.speaks)
    for section in SECTIONS:
        missing = [each for each in FAMILIES if (section, each) not in carried]
        kinds = [kind for kind in facts if FACTS[kind].section == section]
        if not missing or all(says_nothing(each) for kind in kinds for each in facts[kind]):
            continue
        if section == "translations":
            families = {family_of(rule) for rule in facts["rule"] if isinstance(rule, Rule)}
            missing = [each for each in missing if each in families]
        if missing:
            key = "management" if section == "access" else section
            which = f" of IPv{missing[0]}" if len(missing) < len(FAMILIES) else ""
            reason = f"none of the dialects that the device speaks carries {key}{which}"
            yield Refusal(speakers, f"device {device.name}", key, device.place.at(key), reason)


def read_device(
    name: str,
    speaks: Sequence[str],
    texts: Mapping[str, str] | Iterable[tuple[str, str]],
    catalogue: Catalogue = BUILT_IN,
) -> Capture:
    """Read a device from its configuration texts.

    Args:
        name: The device's name; empty to take the one that a text gives.
        speaks: The dialects that the texts can be in; each is read in the one that understands most.
        texts: File name and text of each.
        catalogue: Where dialects are looked up.

    Raises:
        CaptureError: If a text is damaged, or nothing in it can be understood.
        UnknownDialect: If there is no such dialect.
    """
    dialects = [catalogue.dialect(each) for each in speaks]
    pairs = with_included(dialects, texts.items() if isinstance(texts, Mapping) else texts)
    return assemble(name, dialects, [one for file, text in pairs for one in readings(dialects, text, file)])
