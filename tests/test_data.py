"""What comes from others is data: no text of it becomes a statement, a path, a control sequence, or endless work."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from agile_lattice.cli.main import main
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal
from test_laws import SOME
from test_robust import LATTICE
from where import DEMO, examples

# A dialect of a user's, on every surface: it takes any description.
SURFACES = {
    "lines": ('{kind = "lines", comment = "#"}', "port <interface> <enabled> tag <description>  => interface"),
    "indent": ('{kind = "indent", comment = "#"}', "port <interface> <enabled> => interface\n  tag <description>"),
    "braces": ('{kind = "braces", comment = "#", end = ";"}',
               "port <interface> <enabled> => interface\n  tag <description>"),
    "parens": ('{kind = "parens", comment = ";"}', "port <interface> <enabled> => interface\n  tag <description>"),
    "json": ('{kind = "json"}',
             "- => interface\n  name <interface> => required\n  state <enabled>\n  tag <description>"),
    "yaml": ('{kind = "yaml"}', "ports\n  <interface> => interface\n    state <enabled>\n    tag <description>"),
}  # fmt: skip
DIALECT = """
dialect = "mine"
title = "one of a user's own"
[types]
interface = {{is = "word", pattern = '[a-z0-9]+'}}
description = {{is = "KIND"}}
enabled = {{words = {{up = true, down = false}}}}
[[forms]]
name = "f"
file = "mine.conf"
carries = ["interfaces", "descriptions"]
syntax = {}
statements = '''
{}
'''
"""
ODD = st.text(st.sampled_from(";{}#()\"' a0\\:,-|[]<>&*!%@`$=é"), min_size=1, max_size=9).map(str.strip).filter(bool)


@pytest.fixture(scope="module")
def catalogues(tmp_path_factory: pytest.TempPathFactory) -> dict[tuple[str, str], Catalogue]:
    found = {}
    for surface, (layout, phrases) in SURFACES.items():
        for kind in ("line", "quoted"):
            folder = tmp_path_factory.mktemp(f"{surface}-{kind}")
            (folder / "mine.toml").write_text(DIALECT.format(layout, phrases).replace("KIND", kind))
            found[surface, kind] = Catalogue(folder)
    return found


@settings(SOME, max_examples=examples(250))
@given(surface=st.sampled_from(list(SURFACES)), kind=st.sampled_from(["line", "quoted"]), words=ODD)
def test_no_value_becomes_a_statement(
    catalogues: dict[tuple[str, str], Catalogue], surface: str, kind: str, words: str
) -> None:
    catalogue = catalogues[surface, kind]
    device = Device("quay", ("mine",), (Interface("lan0", description=words), Interface("lan1", enabled=False)))
    try:
        [written] = render_device(device, catalogue)
    except Refusals:
        return
    there = read_device("quay", ("mine",), {written.file: written.text}, catalogue)
    assert there.leftovers == ()
    assert normal(there.device).interfaces == normal(device).interfaces


WRONG = {
    "a path": ("'mine.conf'", '"../../evil"', "is no plain name"),
    "no expression": ("pattern = '[a-z0-9]+'", "pattern = '[a-z'", "is not a regular expression"),
    "without end": ("pattern = '[a-z0-9]+'", "pattern = '(?:a+)+b'", "repeats what has choices or repetitions"),
    "a group": ("pattern = '[a-z0-9]+'", "pattern = '([a-z])+'", "has a group that captures"),
    "like itself": ('title = "', 'like = "mine"\ntitle = "', "there is no other dialect 'mine'"),
}


@pytest.mark.parametrize("case", WRONG)
def test_a_dialect_file_that_could_do_harm_is_refused(
    case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    old, new, says = WRONG[case]
    layout, phrases = SURFACES["lines"]
    text = DIALECT.format(layout, phrases).replace("KIND", "line").replace('"mine.conf"', "'mine.conf'")
    assert old in text
    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/mine.toml").write_text(text.replace(old, new, 1))
    (tmp_path / "quay.yaml").write_text("lattice: 1\ndevices: {quay: {speaks: mine, interfaces: {lan0: {}}}}\n")
    assert main(["render", str(tmp_path / "quay.yaml"), "--into", str(tmp_path / "out")]) == 2
    error = capsys.readouterr().err
    assert says in error and "mine.toml" in error and "Traceback" not in error
    assert not (tmp_path / "out").exists()


BOMB = "a0: &a0 [x, x, x, x, x, x, x, x, x]\n" + "".join(
    f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]\n" for n in range(1, 9)
)
ENDLESS = {
    "JSON": ("iproute2", "[" * 5000), "digits": ("iproute2", '{"a": ' + "9" * 5000 + "}"),
    "XML": ("ietf-yang", "<a>" * 5000 + "</a>" * 5000), "braces": ("nftables", "table x {\n" * 5000 + "}\n" * 5000),
    "parens": ("mooring", "(a " * 5000 + ")" * 5000), "YAML": ("netplan", BOMB),
    "one line": ("frr", "ip " + "x " * 500_000), "one word": ("nftables", "x" * 1_000_000),
    "many lines": ("iptables", "*nat\n" + "-A zz9 -j zz8\n" * 20_000 + "COMMIT\n"),
}  # fmt: skip


@pytest.mark.parametrize("case", ENDLESS)
def test_a_capture_asks_for_no_more_than_its_length(
    case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    speaks, text = ENDLESS[case]
    (tmp_path / "capture").write_text(text)
    start = time.process_time()
    code = main(["read", "--speaks", speaks, str(tmp_path / "capture")])
    took = time.process_time() - start
    printed = capsys.readouterr()
    assert code in (1, 2) and "Traceback" not in printed.err
    assert took < 20, "a bound for what would not end, not a measurement"


def test_nothing_that_was_captured_controls_a_terminal(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "quay.yaml").write_text("lattice: 1\ndevices: {quay: {speaks: frr, interfaces: {lan0: {}}}}\n")
    evil = "\x1b]0;evil\x07\x1b[31mzz9"
    (tmp_path / "frr.conf").write_text(f"interface lan0\n description {evil}\n{evil}\n")
    for argv in (["diff"], ["prove"], ["mend"]):
        main([*argv, str(tmp_path / "quay.yaml"), str(tmp_path / "frr.conf"), "--device", "quay"])
        printed = capsys.readouterr()
        assert not {"\x1b", "\x07"} & {*printed.err}
        if argv != ["mend"]:  # which is piped into a program as it is
            assert not {"\x1b", "\x07"} & {*printed.out}
            assert argv == ["prove"] or r"\x1b[31mzz9" in printed.out


def test_what_is_exported_is_no_formula_and_no_markup(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    intent = tmp_path / "quay.yaml"
    intent.write_text(
        "lattice: 1\nblocks: {b: {prefix: 203.0.113.0/28, reserved: {203.0.113.9: '=HYPERLINK(1)'}}}\n"
        "devices: {quay: {speaks: frr, interfaces: {lan0: {address: 10.0.0.1/24, description: x}}}}\n"
    )
    assert main(["addresses", str(intent), "--format", "csv"]) == 0
    assert ",'=HYPERLINK(1)," in capsys.readouterr().out
    (tmp_path / "frr.conf").write_text("interface lan0\n ip address 10.0.0.2/24\n[click](http://x) `code` |\n")
    (tmp_path / "quay").mkdir()
    (tmp_path / "frr.conf").rename(tmp_path / "quay/frr.conf")
    main(["report", str(intent), str(tmp_path / "out.md"), str(tmp_path)])
    text = (tmp_path / "out.md").read_text()
    assert "`` [click](http://x) `code` \\| ``" in text


def test_files_follow_the_mask_and_what_a_killed_run_left_is_removed(tmp_path: Path) -> None:
    (tmp_path / "quay.yaml").write_text("lattice: 1\ndevices: {quay: {speaks: frr, interfaces: {lan0: {}}}}\n")
    out = tmp_path / "out/quay"
    out.mkdir(parents=True)
    (out / ".frr.conf.lattice-999999999-x").write_text("half")
    before = os.umask(0o077)
    try:
        assert main(["render", str(tmp_path / "quay.yaml"), "--into", str(tmp_path / "out")]) == 0
    finally:
        os.umask(before)
    assert [(each.name, oct(each.stat().st_mode & 0o777)) for each in out.iterdir()] == [("frr.conf", "0o600")]


def test_a_picture_is_the_same_bytes_again(tmp_path: Path) -> None:
    demo = DEMO / "saltmarsh.yaml"
    for name in ("one.svg", "two.svg", "one.png", "two.png"):
        subprocess.run([LATTICE, "draw", str(demo), str(tmp_path / name)], check=True, capture_output=True)
    for kind in ("svg", "png"):
        assert (tmp_path / f"one.{kind}").read_bytes() == (tmp_path / f"two.{kind}").read_bytes()


def test_streams_that_are_closed_or_narrow_are_no_failure(tmp_path: Path) -> None:
    argv = [LATTICE, "diff", str(DEMO / "saltmarsh.yaml"), str(DEMO / "a-year-later")]
    narrow = subprocess.run(argv, capture_output=True, env={**os.environ, "PYTHONIOENCODING": "ascii"}, check=False)
    assert narrow.returncode == 1 and b"Traceback" not in narrow.stderr and b"6 differences" in narrow.stdout
    closed = subprocess.run(["bash", "-c", f"{sys.executable} -m agile_lattice.cli.main; {LATTICE} --help >&-"],
                            capture_output=True, check=False)  # fmt: skip
    assert b"Traceback" not in closed.stderr
    odd = tmp_path / "quay"
    odd.mkdir()
    Path(os.fsdecode(os.fsencode(odd) + b"/x\xff.conf")).write_text("interface lan0\nzz9\n")
    (tmp_path / "quay.yaml").write_text("lattice: 1\ndevices: {quay: {speaks: frr, interfaces: {lan0: {}}}}\n")
    for kind in ("text", "json"):
        named = subprocess.run([LATTICE, "diff", str(tmp_path / "quay.yaml"), str(tmp_path), "--format", kind],
                               capture_output=True, check=False)  # fmt: skip
        assert named.returncode == 1 and b"Traceback" not in named.stderr


def test_a_prefix_that_is_moved_under_a_condition_is_not_read_as_one_that_always_is() -> None:
    for extra in ("", "-p tcp ", "-s 192.0.2.0/24 "):
        text = f"*nat\n-A PREROUTING {extra}-d 203.0.113.0/28 -j NETMAP --to 10.40.10.0/28\nCOMMIT\n"
        read = read_device("quay", ("iptables",), {"saved": text})
        assert bool(read.leftovers) == bool(extra)
        assert len(read.device.translations) == (0 if extra else 1)
    bare = "*nat\n-A PREROUTING -j NETMAP --to 10.0.0.0/24\nCOMMIT\n"
    assert read_device("quay", ("iptables",), {"saved": bare}).leftovers
