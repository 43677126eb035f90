"""The documentation: its examples run, and print what it says that they print."""

from __future__ import annotations

import io
import json
import re
import shlex
import subprocess
import sys
from pathlib import Path

import nbformat
import pytest
from msgspec.structs import replace
from nbclient import NotebookClient
from rich.console import Console

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import DefinitionError, Refusals
from agile_lattice.dialects.semantics import Semantics
from agile_lattice.intent.translations import Publish
from agile_lattice.show.dialects import show_matrix
from agile_lattice.show.terminal import THEME
from pages import pages, run
from where import ROOT
from write_checks import checks_page
from write_reference import pages as reference_pages
from write_refusals import refusals_page

PARTS = re.compile(r'^```yaml(?: title="continues ([\w-]+)")?\n(.*?)^```$', re.MULTILINE | re.DOTALL)
BLOCK = re.compile(r'^```(\w+)(?: title="[^"]*")?\n(.*?)^```$', re.MULTILINE | re.DOTALL)


def blocks(file: str, kind: str) -> list[str]:
    """Return the fenced blocks of one kind in a document."""
    return [text for found, text in BLOCK.findall((ROOT / file).read_text()) if found == kind]


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
    assert [(each.slug, bool(each.accepted)) for each in al.check(network)] == [
        ("clear-text", True),
        ("everything-published", True),
    ]
    again = al.loads(al.write(network))
    assert [replace(each, permits=(), named=()) for each in again.devices] == [
        replace(each, permits=(), named=()) for each in network.devices
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
    assert "resolver 10.40.10.53 of lan0: iproute2 cannot express it: there is no statement for it" in refused
    for field in ("dns-answers", "source-becomes.ports"):
        assert f"`{field}`" in refused


def test_the_list_of_checks_is_the_rulebook() -> None:
    assert (ROOT / "docs/checks.md").read_text() == checks_page(), "run scripts/write_checks.py"


def test_the_list_of_refusals_is_what_dialects_refuse() -> None:
    assert (ROOT / "docs/refusals.md").read_text() == refusals_page(), "run scripts/write_refusals.py"


def named_blocks(file: str) -> dict[str, str]:
    """Return the fenced blocks of a document that have a name behind their kind."""
    return dict(re.findall(r'^```text title="(\S+)"\n(.*?)^```$', (ROOT / file).read_text(), re.MULTILINE | re.DOTALL))


def _statements(dialect: str) -> list[str]:
    """Return the statements of a dialect file that say a fact, blanks aside."""
    return [" ".join(line.split()) for line in dialect.splitlines() if "  => " in line and not line.startswith("#")]


def test_the_tutorial_leads_to_a_dialect(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    text = blocks("docs/dialects.md", "toml")[0]
    Path("lighthouse.toml").write_text(text)
    sample = named_blocks("docs/dialects.md")["sample.log"]
    Path("sample.log").write_text(sample)
    block, draft = blocks("docs/dialects.md", "console")
    typed, expected = block.split("\n", 1)
    assert main(shlex.split(typed)[2:]) == 1
    assert capsys.readouterr().out == expected
    # Drafted from an intent, it is as it was written by hand, but for what says nothing of the intent.
    Path("beams.yaml").write_text(blocks("docs/dialects.md", "yaml")[0])
    assert main(shlex.split(draft.split("\n", 1)[0])[2:]) == 1
    drafted = capsys.readouterr().out
    assert named_blocks("docs/dialects.md")["drafted"] in drafted and "from sample.log: 5 of 7 statements" in drafted
    assert _statements(drafted) == [each for each in _statements(text) if "<_:" not in each]
    # Beside an intent it is spoken like any other.
    Path("dialects").mkdir()
    Path("dialects/lighthouse.toml").write_text(text)
    assert main(["read", "--speaks", "lighthouse", "--device", "bay", "sample.log"]) == 1
    Path("intent.yaml").write_text(capsys.readouterr().out)
    assert main(["render", "intent.yaml"]) == 0
    kept = [line.strip() for line in sample.splitlines() if not re.search(r"keeper|remark|fog", line)]
    assert [line.strip() for line in capsys.readouterr().out.splitlines()] == kept
    assert main(["diff", "intent.yaml", "sample.log", "--device", "bay"]) == 1
    assert "bay: 0 differences, 1 line not understood" in capsys.readouterr().out


@pytest.mark.parametrize("name", ["bollard", "mooring", "tideway"])
def test_a_vendors_page_is_true(name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    sample = tmp_path / name
    sample.write_text(named_blocks(f"docs/vendors/{name}.md")[name])
    file = ROOT / "src/agile_lattice/dialects/catalogue" / f"{name}.toml"
    assert main(["dialects", "try", str(file), str(sample)]) == 0, capsys.readouterr().out
    out = capsys.readouterr().out
    assert "nothing left over; written and read again: the same" in out
    [device] = al.loads(out.partition("The intent that came out:\n")[2].partition("\n\n")[0]).devices
    [shop] = [each for each in device.translations if isinstance(each, Publish)]
    assert (str(shop.external), str(shop.internal)) == ("203.0.113.5", "10.70.1.20")


def test_the_matrix_is_tried(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["dialects", "matrix", "--format", "json"]) == 0
    matrix = json.loads(capsys.readouterr().out)
    assert matrix["VLAN"]["networkd"] == "" and matrix["VLAN"]["frr"] != ""
    assert matrix["permit"]["nftables"] == "" and matrix["permit"]["bird"] == "not its section"
    assert all(any(not reason for reason in row.values()) for what, row in matrix.items() if what not in NOT_YET)
    for width in (60, 100, 130, 158, 200):
        out = Console(width=width, file=io.StringIO(), theme=THEME, color_system=None)
        show_matrix(out, matrix, list(matrix["VLAN"]))
        text = out.file.getvalue()
        assert all(f" {name}" in text for name in matrix["VLAN"]), "no name is cut"
        assert max(map(len, text.splitlines())) <= width
    assert main(["dialects"]) == 0
    listed = capsys.readouterr().out
    assert all(name in listed for name in next(iter(matrix.values())))


# What no dialect carries yet.
NOT_YET = {"metric"}


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("<enabled>", "<lit>", "<lit> is no field of interface"),
        ("<to:prefix4>", "<to:prefix5>", "there is no type 'prefix5'"),
        ("=> route", "=> rout", "`=>` wants"),
        ("[after", "(after", "is missing"),
        ('is = "word"', 'is = "wort"', "there is no type 'wort'"),
        ('kind = "indent"', 'kind = "indent", depth = 2', "depth"),
        ("<address.ip:address4>", "<address.host:address4>", "parts are ip, length"),
        ("lamp <interface>", "lamp @name", "there is no fragment @name"),
        ("carries =", "cerries =", "did you mean carries?"),
        ('"routes"]', '"rautes"]', "did you mean routes?"),
        ('kind = "indent"', 'kind = "indint"', "did you mean indent?"),
        ("[types]", "[tipes]", "did you mean types?"),
        ("[types]", "[semantics]\nsides = 'zone'\n[types]", "known are rules, marks, zones"),
        ("[types]", "[cannot]\n'interface.mto' = 'no'\n[types]", "the fields of interface are"),
        ("=> ignored", "=> ignore", "`=>` wants"),
        ("=> address", "=> address, permit", "they have no field in common"),
        ("=> route", "=> route to=prefix4:0.0.0.0/0", "to is said twice, by <to> and by to="),
        ("=> interface", "=> interface loopback=perhaps", "interface.loopback holds true or false"),
    ],
)
def test_a_wrong_dialect_file_is_refused_with_its_line(old: str, new: str, says: str) -> None:
    good = blocks("docs/dialects.md", "toml")[0]
    assert old in good
    with pytest.raises(DefinitionError) as caught:
        parse_dialect(good.replace(old, new, 1), "lighthouse.toml")
    assert says in str(caught.value)
    line = next(number for number, text in enumerate(good.splitlines(), 1) if old in text)
    assert caught.value.line - line in range(new.count("\n") + 1)


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.stem)
def test_a_page_is_true(page: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever a page says that people type prints what the page says."""
    monkeypatch.chdir(tmp_path)
    for typed, said, output in run(page.read_text()):
        assert output == said, f"{typed}: run scripts/pages.py {page.name}, and read what has changed"


def test_reference_pages_are_written_from_the_code() -> None:
    for name, text in reference_pages().items():
        assert (ROOT / "docs" / name).read_text() == text, "run scripts/write_reference.py"


@pytest.mark.parametrize("page", sorted((ROOT / "docs").rglob("*.md")), ids=lambda page: page.stem)
def test_a_page_leads_nowhere_in_vain(page: Path) -> None:
    text = re.sub(r"^```.*?^```$", "", page.read_text(), flags=re.MULTILINE | re.DOTALL)
    for target in re.findall(r"\]\((?!https?:)([^)#]+)", text):
        assert (page.parent / target).exists(), target
    named = (ROOT / "mkdocs.yml").read_text()
    assert str(page.relative_to(ROOT / "docs")) in named, "every page is in the contents of the site"


def test_the_notebook_runs_and_values_show_themselves() -> None:
    notebook = nbformat.read(ROOT / "examples" / "notebook.ipynb", as_version=4)
    NotebookClient(notebook, timeout=120, kernel_name="python3").execute()
    shown = [
        output["data"]["text/html"]
        for cell in notebook.cells
        for output in cell.get("outputs", [])
        if "text/html" in output.get("data", {})
    ]
    drawing, translations, finding, walk, comparison, verdict = shown
    assert "<svg" in drawing and "publish-timetable" in translations
    assert "host-in-other-zone" in finding and "Correct the address or the zone." in finding
    assert "192.0.2.77 -&gt; 10.40.20.11 tcp/80" in walk and "delivered to 10.40.20.11" in walk
    assert "quay-edge: 6 differences" in comparison and "10.40.10.254/24" in comparison
    assert "different: 5 sets of packets" in verdict
    assert "route replace 10.41.0.0/16 via 10.40.20.2" in str(notebook.cells[-1].outputs)


def test_the_public_face_is_what_is_documented() -> None:
    for name in al.__all__:
        assert getattr(al, name) is not None
    assert re.fullmatch(r"\d+\.\d+\.\d+", al.__version__)
    errors = [getattr(al, name) for name in ("NotationError", "DialectError", "Refusals", "Undecided", "UnknownName")]
    assert all(issubclass(each, al.LatticeError) for each in errors)
    with pytest.raises(al.UnknownName, match="did you mean 'quay-edge'"):
        al.load(ROOT / "src/agile_lattice/demo/saltmarsh.yaml").device("quay-edeg")


def test_examples_in_python_run_and_have_the_types_that_they_need(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    for page in ("README.md", "docs/library.md"):
        for file in re.findall(
            r'^```yaml title="(\S+)"\n(.*?)^```$', (ROOT / page).read_text(), re.MULTILINE | re.DOTALL
        ):
            Path(file[0]).write_text(file[1])
        for at, text in enumerate(blocks(page, "python")):
            example = tmp_path / f"{Path(page).stem.lower()}_{at}.py"
            example.write_text(text)
            exec(compile(text, str(example), "exec"), {})
    done = subprocess.run(
        [sys.executable, "-m", "mypy", "--strict", "--cache-dir", str(ROOT / ".mypy_cache"), *tmp_path.glob("*.py")],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout


def test_every_key_of_the_semantics_is_explained() -> None:
    page = (ROOT / "docs" / "dialects.md").read_text()
    assert {each for each in Semantics.__struct_encode_fields__ if f"| `{each}` |" not in page} == set()
