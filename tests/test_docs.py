"""The documentation: its examples run, and print what it says that they print."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.dialects.assembly import assemble, facts_of
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import DefinitionError, Refusals
from agile_lattice.dialects.reading import best_reading
from agile_lattice.dialects.rendering import render_facts
from agile_lattice.intent.normal import normal
from write_checks import checks_page

ROOT = Path(__file__).parent.parent
PARTS = re.compile(r"^```yaml(?: continues ([\w-]+))?\n(.*?)^```$", re.MULTILINE | re.DOTALL)
BLOCK = re.compile(r"^```(\w+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def blocks(file: str, kind: str) -> list[str]:
    """Return the fenced blocks of one kind in a document."""
    return [text for found, text in BLOCK.findall((ROOT / file).read_text()) if found == kind]


def test_the_readme_is_true(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("quay.yaml").write_text(blocks("README.md", "yaml")[0])
    Path("rules.nft").write_text(blocks("README.md", "nft")[0])
    for block in blocks("README.md", "console"):
        for typed, expected in re.findall(r"^\$ (.*)\n((?:(?!\$ ).*\n)*)", block, re.MULTILINE):
            program, *argv = shlex.split(typed)
            assert program == "lattice"
            main(argv)
            assert capsys.readouterr().out == expected, typed
    exec(blocks("README.md", "python")[0], {})


def whole_notation() -> str:
    """Put the parts of an intent in the documentation together; one that continues a device goes behind it."""
    whole = ""
    for device, body in PARTS.findall((ROOT / "docs/intent.md").read_text()):
        found = re.search(rf"^  {device}:\n(?:    .*\n)+", whole, re.MULTILINE) if device else None
        end = found.end() if found else len(whole)
        whole = whole[:end] + body + whole[end:]
    return whole


def test_the_notation_is_documented_by_an_intent_that_is_right() -> None:
    network = al.loads(whole_notation())
    assert [(each.slug, bool(each.accepted)) for each in al.check(network)] == [("clear-text", True)]
    again = al.loads(al.write(network))
    assert [replace(each, permits=()) for each in again.devices] == [
        replace(each, permits=()) for each in network.devices
    ]
    for one, other in zip(again.devices, network.devices, strict=True):
        assert one.permits == tuple(replace(each, origin="") for each in other.permits)
    assert (again.blocks, again.zones, again.hosts, again.accepted) == (
        network.blocks, network.zones, network.hosts, network.accepted
    )  # fmt: skip
    quay = network.device("quay-edge")
    assert quay is not None
    kinds = {type(each).__name__ for each in quay.translations}
    assert kinds == {"Exempt", "Publish", "Static", "Twice", "Dynamic"}
    with pytest.raises(Refusals) as caught:
        al.render(quay)
    # Until a dialect carries them, these are refused by name: nothing is left out silently.
    refused = " ".join(str(each) for each in caught.value.refusals)
    for field in ("resolvers", "parent", "dns-answers", "source-becomes.ports"):
        assert f"`{field}`" in refused


def test_the_list_of_checks_is_the_rulebook() -> None:
    assert (ROOT / "docs/checks.md").read_text() == checks_page(), "run scripts/write_checks.py"


LAMPS = """\
keeper of the light: Ada
lamp bay lit
  beam 10.60.10.1 over 255.255.255.0
lamp cape dark
beam to 10.61.0.0/16 by 10.60.10.2 after 7
beam to 10.62.0.0/16 by 10.60.10.3
  * a remark
fog
"""


def test_a_syntax_from_the_documentation_reads_and_renders() -> None:
    dialect = parse_dialect(blocks("docs/dialects.md", "toml")[0], "lighthouse.toml")
    reading = best_reading([dialect], LAMPS, "bay.log")
    assert [(left.place.line, left.text) for left in reading.leftovers] == [(8, "fog")]
    device = assemble("bay", ["lighthouse"], [reading]).device
    [(_, text)] = render_facts(dialect, facts_of(device))
    kept = [line for line in LAMPS.splitlines() if not re.search(r"keeper|remark|fog", line)]
    assert [line.strip() for line in text.splitlines()] == [line.strip() for line in kept]
    again = assemble("bay", ["lighthouse"], [best_reading([dialect], text, "again")]).device
    assert normal(again) == normal(device)


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("<enabled>", "<lit>", "<lit> is no field of interface"),
        ("<to:prefix4>", "<to:prefix5>", "there is no kind 'prefix5'"),
        ("=> route", "=> rout", "`=>` wants"),
        ("[after", "(after", "is missing"),
        ('is = "word"', 'is = "wort"', "there is no kind 'wort'"),
        ('kind = "indent"', 'kind = "indent", depth = 2', "depth"),
        ("<address.ip:address4>", "<address.host:address4>", "parts are ip, length"),
        ("lamp <interface>", "lamp @name", "there is no part @name"),
    ],
)
def test_a_wrong_dialect_file_is_refused_with_its_line(old: str, new: str, says: str) -> None:
    good = blocks("docs/dialects.md", "toml")[0]
    assert old in good
    with pytest.raises(DefinitionError) as caught:
        parse_dialect(good.replace(old, new, 1), "lighthouse.toml")
    assert says in str(caught.value)
    line = next(number for number, text in enumerate(good.splitlines(), 1) if old in text)
    assert caught.value.line in (line, 0)
