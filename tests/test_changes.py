"""Changes to texts: what is typed or edited is what a person would, leaves no difference, and can be taken back."""

from __future__ import annotations

import json
import subprocess
import tempfile
import textwrap
from pathlib import Path

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.compare.comparing import compare
from agile_lattice.compare.mending import Mending, mend
from agile_lattice.compare.withholding import PLACE_ONLY
from agile_lattice.dialects import read_device
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.model import Device
from agile_lattice.notation.loading import loads
from changes import EDITED, TYPED
from strategies import devices
from test_laws import SOME, rendered
from where import examples


def lamp(speaks: str, intent: str) -> Device:
    """Return the device of a pair."""
    sections = textwrap.indent(clean(intent), "    ")
    [device] = loads(f"lattice: 1\ndevices:\n  lamp:\n    speaks: [{', '.join(speaks.split())}]\n{sections}").devices
    return device


def clean(text: str) -> str:
    return textwrap.dedent(text).strip("\n") + "\n"


@pytest.mark.parametrize(("speaks", "texts", "intent", "change", "undo"), TYPED, ids=[each[0] for each in TYPED])
def test_what_is_typed_is_what_a_person_would(
    speaks: str, texts: dict[str, str], intent: str, change: str, undo: str
) -> None:
    mending = mend(lamp(speaks, intent), [(file, clean(text)) for file, text in texts.items()])
    assert mending.held == ()
    assert "".join(each.change for each in mending.mends) == clean(change)
    assert "".join(each.undo for each in reversed(mending.mends)) == clean(undo)


@pytest.mark.parametrize(("speaks", "text", "intent", "after"), EDITED, ids=[each[0] for each in EDITED])
def test_a_text_is_edited_as_a_person_would(speaks: str, text: str, intent: str, after: str) -> None:
    device, file = lamp(speaks, intent), "20-lan.network" if speaks == "networkd" else "text"
    [change] = [each for one in mend(device, [(file, clean(text))]).mends for each in one.files]
    assert (change.before, change.after) == (clean(text), clean(after))
    strange = [each.text for each in read_device("lamp", device.speaks, {file: clean(text)}).leftovers]
    assert [each for each in felt(device, {file: change.after}) if getattr(each, "text", "") not in strange] == []


def test_what_was_not_understood_does_not_go_with_what_it_stands_in() -> None:
    text = "auto lan0\niface lan0 inet static\n    address 10.40.10.1/24\n    post-up touch /run/there\n"
    device = lamp("ifupdown", "interfaces: {lan0: {}}")
    mending = mend(device, [("text", text)])
    assert [each.subject for each in mending.comparison.differences] == ["address 10.40.10.1/24 on lan0"]
    assert [each.subject for each in mending.held] == ["address 10.40.10.1/24 on lan0"]
    assert mending.mends == ()


# What nobody understands, for each syntax whose texts are edited, and a remark.
STRANGE = {
    "bird": "zz9 plural {\n\tzz8;\n}\n# kept",
    "netplan": "zz9: {plural: zz8}\n# kept",
    "networkd": "[Zz9]\nPlural=zz8\n# kept",
    "ifupdown": "zz9 plural\n    zz8\n# kept",
    "iptables": "*zz9\n-A plural -j zz8\nCOMMIT\n# kept",
    "ietf-yang": "",
    "ietf-nat": "",
    "ietf-yang/xml": '<zz9 xmlns="urn:zz9">\n  <plural>zz8</plural>\n</zz9>\n<!-- kept -->',
    "bollard": "\nZz9: plural\nZz8: yes\n* kept",
    "mooring": "(zz9 (plural zz8)) ; kept",
    "tideway": "\ntable zz9\nplural\nzz8\n# kept",
}


def beside(text: str) -> str:
    """Put what a stanza of ifupdown sets into one with an address of the same interface, as people have it."""
    stanzas: list[list[str]] = []
    for line in text.splitlines():
        if line[:1] == " ":
            stanzas[-1].append(line)
        else:
            stanzas.append([line])
    for each in [each for each in stanzas if each[0].endswith("inet manual")]:
        name = each[0].split()[1]
        homes = [one for one in stanzas if one[0] == f"iface {name} inet static"]
        if homes:
            homes[0] += each[1:]
            stanzas.remove(each)
    return "".join(f"{line}\n" for each in stanzas for line in each)


# Systems with a program for each address family speak both.
WITH = {"iptables": ("ip6tables",)}


def only_what_is_carried(device: Device) -> Device:
    """Take out the sections that a device's dialect does not carry."""
    carried = BUILT_IN.dialect(device.speaks[0]).carries
    sections = ("translations", "permits", "access", "interfaces", "routes")
    kept = replace(device, **{each: () for each in sections if each not in carried})
    if "descriptions" not in carried:
        kept = replace(kept, interfaces=tuple(replace(one, description="") for one in kept.interfaces))
    return kept


def mended(intent: Device, texts: dict[str, str]) -> Mending:
    """Mend, with whatever is held back asked for by name."""
    asked: list[str] = []
    mending = mend(intent, texts.items())
    # What is asked for can leave another change as the one that would cut the way.
    while found := [each.identity for each in mending.held if each.identity not in asked]:
        asked += found
        mending = mend(intent, texts.items(), consent=asked)
    assert {each.reason for each in mending.held} <= {PLACE_ONLY}  # which only what nobody understood decides
    return mending


class Folder:
    """The captured texts of a device, which patches change."""

    def __init__(self, path: Path, texts: dict[str, str]) -> None:
        self.path = path
        for name, text in texts.items():
            (path / name).write_text(text)

    def apply(self, patch: str) -> None:
        done = subprocess.run(["git", "apply", "-"], cwd=self.path, input=patch, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr + patch

    @property
    def texts(self) -> dict[str, str]:
        return {each.name: each.read_text() for each in sorted(self.path.iterdir())}


def felt(intent: Device, texts: dict[str, str]) -> list[object]:
    """Return the differences and leftovers that are more than another spelling."""
    capture = read_device(intent.name, intent.speaks, texts)
    left = compare(intent, capture).differences
    return [*capture.leftovers, *((each.subject, each.fields) for each in left if each.effect != "no-effect")]


def in_one(form: str, texts: dict[str, str]) -> dict[str, str]:
    """Put the parts of several dialects into one document."""
    if form == "xml":
        return {"all.xml": "".join(texts.values())}
    return {
        "all.json": json.dumps(
            {name: part for each in texts.values() for name, part in json.loads(each).items()}, indent=2
        )
    }


@pytest.mark.parametrize("form", ["json", "xml"])
@settings(SOME, max_examples=examples(8))
@given(data=st.data())
def test_a_document_with_parts_of_two_dialects_is_mended_as_one(form: str, data: st.DataObject) -> None:
    speaks = ("ietf-yang", "ietf-nat") if form == "json" else ("ietf-yang/xml", "ietf-nat/xml")
    drawn = (data.draw(devices(speaks)) for _ in range(2))
    (intent, _), (other, rendering) = (rendered(replace(each, permits=(), access=())) for each in drawn)
    texts = {each.file: each.text for each in rendering if each.text.strip()}
    assume(len(texts) == 2)
    one = in_one(form, texts)
    assert felt(other, one) == []
    mending = mended(intent, one)
    with tempfile.TemporaryDirectory() as place:
        folder = Folder(Path(place), one)
        for each in mending.mends:
            folder.apply(each.change)
        assert felt(intent, folder.texts) == []
        for each in mending.mends[::-1]:
            folder.apply(each.undo)
        assert folder.texts == one


@pytest.mark.parametrize("dialect", STRANGE)
@settings(SOME, max_examples=examples(8))
@given(data=st.data())
def test_an_edited_text_has_no_difference_and_undo_gives_it_back(dialect: str, data: st.DataObject) -> None:
    intent, _ = rendered(only_what_is_carried(data.draw(devices((dialect, *WITH.get(dialect, ()))))))
    _, rendering = rendered(only_what_is_carried(data.draw(devices((dialect, *WITH.get(dialect, ()))))))
    texts = {each.file: each.text for each in rendering if each.text.strip()}
    if dialect == "ifupdown" and data.draw(st.booleans()):
        texts = {file: beside(text) for file, text in texts.items()}
    assume(texts)
    last = max(texts)
    texts[last] += STRANGE[dialect] + "\n" * bool(STRANGE[dialect])
    strange = [each.text for each in read_device("quay", intent.speaks, texts).leftovers]
    assert strange or not STRANGE[dialect]
    mending = mended(intent, texts)
    with tempfile.TemporaryDirectory() as place:
        folder = Folder(Path(place), texts)
        for each in mending.mends:
            folder.apply(each.change)
        there = read_device(intent.name, intent.speaks, folder.texts)
        assert [each.text for each in there.leftovers] == strange
        # (With what nobody understands, nothing is certain to have no effect.)
        left = compare(intent, replace(there, leftovers=())).differences
        # Beside a line that nobody understands the order of addresses is not told, and so not mended.
        told = (each for each in left if not (STRANGE[dialect] and each.subject.startswith("addresses of")))
        assert [(each.subject, each.fields) for each in told if each.effect != "no-effect"] == []
        assert not STRANGE[dialect] or "kept" in folder.texts[last]
        for each in mending.mends:
            folder.apply(each.undo)
        assert folder.texts == texts
