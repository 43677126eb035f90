"""Trying a dialect: on a sample text for somebody who writes one, and on small devices to see what it can carry."""

from __future__ import annotations

import difflib
import textwrap
from collections.abc import Iterator, Sequence
from importlib.resources import files

import msgspec
import yaml

from agile_lattice.dialects.assembly import Capture, as_intent, assemble
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import CaptureError, Refusal, Refusals
from agile_lattice.dialects.lowering import facts_in
from agile_lattice.dialects.names import named_as_there
from agile_lattice.dialects.passes.families import of_family
from agile_lattice.dialects.reaching import Reached, reached
from agile_lattice.dialects.reading.texts import Reading, best_reading, read_form, read_statements
from agile_lattice.dialects.reading.understanding import Trace, Value
from agile_lattice.dialects.rendering import render_facts
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.model import Device, Section
from agile_lattice.intent.normal import normal
from agile_lattice.notation.loading import loads

SAME, OTHER, REFUSED = "the same", "something else", "refused"
NOT_ITS_SECTION = "not its section"


class Taken(msgspec.Struct, frozen=True):
    """A statement that was understood.

    Attributes:
        line: Its line, from 1.
        text: The statement.
        definition: The statement that it is, as it stands in the dialect file.
        definition_line: The line of that there.
    """

    line: int
    text: str
    definition: str
    definition_line: int


class Trial(msgspec.Struct, frozen=True):
    """What became of a sample.

    Attributes:
        form: The form of the dialect that it was read as.
        taken: Every statement that was understood, with what it is in the dialect, in order of lines.
        capture: What was read, and what was left over.
        rendered: What was read, written again: name and text of each file.
        refusals: Why it could not be written, if it could not.
        reached: Which field of the intent each value reaches.
        changes: What changes when it is written again, but for blanks: lines that begin with `-`, `+` or a blank.
        again: `SAME` if what was written reads as the same, `OTHER` if it does not, `REFUSED` if nothing was written.
    """

    form: str
    taken: tuple[Taken, ...]
    capture: Capture
    rendered: tuple[tuple[str, str], ...]
    refusals: tuple[Refusal, ...]
    again: str
    changes: tuple[str, ...] = ()
    reached: tuple[Reached, ...] = ()


def try_sample(dialect: Dialect, text: str, file: str) -> Trial:
    """Read a sample, and write and read it again.

    Raises:
        CaptureError: If nothing in it can be understood.
    """
    reading = best_reading([dialect], text, file)
    form = next(each for each in dialect.forms if each.name == reading.form)
    statements = form.surface.parse(text, file)
    trace: Trace = {}
    read_statements(dialect, form, statements, file, trace)
    taken = _taken(statements, trace)

    def read(unread: Value | None) -> Device:
        rest = read_statements(dialect, form, statements, file, {}, unread)
        return as_intent(assemble("", [dialect], [rest]))[0]

    values = reached(trace, read)
    # What is told of its program is in `taken`.
    capture = msgspec.structs.replace(assemble("", [dialect], [reading]), programs=())
    try:
        facts = named_as_there(facts_in(capture.device, dialect.carries), [reading.facts])
        rendered = render_facts(dialect, facts)
    except Refusals as refused:
        return Trial(form.name, taken, capture, (), refused.refusals, REFUSED, (), values)
    again = _read_all(dialect, rendered)
    same = again is not None and not again.leftovers and _alike(again.device, capture.device)
    changes = _changes(text, "".join(each for _, each in rendered)) if form is dialect.forms[0] else ()
    return Trial(form.name, taken, capture, tuple(rendered), (), SAME if same else OTHER, tuple(changes), values)


def _changes(before: str, after: str) -> Iterator[str]:
    """Yield the lines that differ between two texts, but for blanks, with a line around each."""
    old, new = ([" ".join(each.split()) for each in text.split("\n")] for text in (before, after))
    for line in list(difflib.unified_diff(old, new, n=1, lineterm=""))[2:]:
        if not line.startswith("@@") and line[1:]:
            yield line


def _taken(statements: Sequence[Statement], trace: Trace) -> tuple[Taken, ...]:
    found: list[Taken] = []
    for each in statements:
        if id(each) in trace:
            phrase = trace[id(each)].phrase
            found.append(Taken(each.line, each.text, phrase.text, phrase.line))
        found += _taken(each.children or (), trace)
    return tuple(found)


def _read_all(dialect: Dialect, files: list[tuple[str, str]]) -> Capture | None:
    readings: list[Reading] = []
    try:
        for name, text in files:
            if text.strip():
                readings.append(read_form(dialect, dialect.forms[0], text, name))
    except CaptureError:
        return None
    return assemble("", [dialect], readings)


def _alike(one: Device, other: Device) -> bool:
    left, right = (msgspec.structs.replace(normal(each), name="") for each in (one, other))
    return left == right


def probes() -> dict[Section, dict[str, str]]:
    """Return what an intent can hold: by section and name, each as the body of a device."""
    text = files("agile_lattice.dialects").joinpath("probes.yaml").read_text(encoding="utf-8")
    return msgspec.convert(yaml.load(text, yaml.CSafeLoader), dict[Section, dict[str, str]])


def probe(body: str, name: str) -> Device:
    """Return the device of a probe, which speaks one dialect only."""
    text = f"lattice: 1\ndevices:\n  quay:\n    speaks: {name}\n" + textwrap.indent(body, "    ")
    return loads(text).devices[0]


def carries(dialect: Dialect, section: Section, device: Device) -> str:
    """Try to carry what a device has in one section: write it, read it back.

    Returns:
        An empty text if it comes back as the same; otherwise the reason.
    """
    if section not in dialect.carries:
        return NOT_ITS_SECTION
    family = dialect.semantics.family
    if family is not None:
        device = of_family(device, family)
        if not _said(device, section):
            return NOT_ITS_SECTION  # another program is for the other family
    try:
        rendered = render_facts(dialect, facts_in(device, dialect.carries))
    except Refusals as refused:
        return refused.refusals[0].reason
    again = _read_all(dialect, rendered)
    if again is None or again.leftovers:
        return "it does not come back"
    there = again.device
    if "translations" not in dialect.carries:
        # What an address is there for, only the translations tell.
        there = msgspec.structs.replace(there, translations=device.translations)
    if "interfaces" not in dialect.carries and section not in ("bridging", "dial-up"):
        there = msgspec.structs.replace(there, interfaces=device.interfaces)
    same = _said(normal(device), section) == _said(normal(there), section)
    return "" if same else "it comes back as something else"


def _said(device: Device, section: Section) -> object:
    """Return what a device has in one section."""
    if section == "bridging":
        carried = {(one.name, one.tagged, one.untagged, one.bridge and one.bridge.vlans) for one in device.interfaces}
        return {each for each in carried if any(each[1:])}
    if section == "dial-up":
        return {(one.name, one.dial, one.mtu) for one in device.interfaces if one.dial}
    if section in ("resolvers", "lookups", "hosts", "helpers"):
        return device.settings
    return getattr(device, "interfaces" if section == "descriptions" else section)
