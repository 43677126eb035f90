"""Whatever comes in: an answer or an error of ours, never anything else; and views that fit where they are shown."""

from __future__ import annotations

import os
import pty
import re
import resource
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.dialects import as_intent
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.intent.model import Network
from agile_lattice.intent.normal import normal
from agile_lattice.notation.errors import NotationError
from fuzzing import fuzz
from where import DEMO, examples

LATTICE = str(Path(sys.executable).with_name("lattice"))
CAPTURES = {
    path.name: (path.read_text(), speaks)
    for folder, speaks in (("quay-edge", ["iproute2", "nftables"]), ("pier-gate", ["frr", "nftables"]))
    for path in sorted((DEMO / "a-year-later" / folder).iterdir())
}
FUZZ = settings(max_examples=examples(150), deadline=None, suppress_health_check=list(HealthCheck))
SCRAPS = st.sampled_from(
    ["", "{", "}", "[", '"', "\n", " ", ";", "#", "!", "0", "-", "/33", "::", "\t", "é", "999999999999"]
)


@st.composite
def spoilt(draw: st.DrawFn, text: str) -> str:
    """A text with a few pieces cut out, doubled or replaced."""
    for _ in range(draw(st.integers(1, 4))):
        start = draw(st.integers(0, len(text)))
        end = min(len(text), start + draw(st.sampled_from([0, 1, 2, 7, 40])))
        text = text[:start] + draw(SCRAPS | st.just(text[start:end] * 2)) + text[end:]
    return text


@pytest.mark.parametrize("name", CAPTURES)
@FUZZ
@given(data=st.data())
def test_a_spoilt_capture_is_read_or_refused(name: str, data: st.DataObject) -> None:
    text, speaks = CAPTURES[name]
    spoiled = data.draw(spoilt(text))
    try:
        capture = al.read("device", speaks, {name: spoiled})
    except CaptureError as error:
        assert str(error).startswith(name)
        return
    count = len(spoiled.splitlines())
    assert all(1 <= leftover.place.line <= count for leftover in capture.leftovers)
    device, _ = as_intent(capture)
    again = al.loads(al.write(Network("", (device,)))).devices[0]
    assert normal(again) == normal(device)
    al.check(al.loads(al.write(Network("", (device,)))))
    al.diff(again, capture)


@FUZZ
@given(data=st.data())
def test_a_spoilt_intent_loads_or_is_refused(data: st.DataObject) -> None:
    spoiled = data.draw(spoilt((DEMO / "saltmarsh.yaml").read_text()))
    try:
        network = al.loads(spoiled)
    except NotationError as error:
        assert error.faults and all(fault.what for fault in error.faults)
        return
    al.check(network)


@pytest.mark.parametrize("seed", range(examples(4)))
def test_whatever_is_spoilt_is_answered_or_refused_in_words(seed: int) -> None:
    counts, wrong = fuzz(2500, seed)
    assert wrong == []
    assert min(counts[f"configuration {end}"] for end in ("answered", "refused")) > 50


def in_a_terminal(columns: int, *argv: str, **environment: str) -> str:
    """Run a command in a terminal of some width; return what it draws."""
    main, far = pty.openpty()
    env = {**os.environ, "COLUMNS": str(columns), "TERM": "xterm-256color", **environment}
    process = subprocess.Popen([LATTICE, *argv], cwd=DEMO, stdout=far, stderr=far, env=env)
    os.close(far)
    drawn = b""
    while True:
        try:
            more = os.read(main, 65536)
        except OSError:
            break
        if not more:
            break
        drawn += more
    process.wait(timeout=30)
    os.close(main)
    return drawn.decode().replace("\r\n", "\n")


@pytest.mark.parametrize("columns", [60, 80, 160])
def test_views_fit_the_terminal(columns: int) -> None:
    for argv in (["diff", "saltmarsh.yaml", "a-year-later"], ["check", "draft.yaml"]):
        drawn = in_a_terminal(columns, *argv)
        plain = re.sub(r"\x1b\[[0-9;]*m", "", drawn)
        assert plain != drawn, "a terminal gets colours"
        assert max(len(line) for line in plain.splitlines()) <= columns
        uncoloured = in_a_terminal(columns, *argv, NO_COLOR="1")
        assert not re.search(r"\x1b\[[0-9;]*[34][0-9]", uncoloured), "NO_COLOR leaves effect, and no colour"


# Each name stands for two of the one before: forty of them would be a text of a thousand billion words.
GROWING = {
    "nftables": (
        "define a0 = 192.0.2.1", "define a{} = $a{}, $a{}",
        "table ip f {{ chain c {{ type filter hook forward priority 0; policy drop; ip saddr {{ $a{} }} accept; }} }}",
    ),
    "bird": (
        "function a0() {{ return true; }}", "function a{}() {{ return a{}() && a{}(); }}",
        "protocol static {{ ipv4 {{ import where a{}(); }}; route 10.0.0.0/8 blackhole; }}",
    ),
}  # fmt: skip


@pytest.mark.parametrize("dialect", GROWING)
def test_names_of_names_do_not_grow_without_end(dialect: str) -> None:
    first, names, use = GROWING[dialect]
    for count in (3, 40):
        defined = [names.format(at, at - 1, at - 1) for at in range(1, count)]
        text = "\n".join([first.format(), *defined, use.format(count - 1), ""])
        left = [each.text for each in al.read("quay", [dialect], {"text": text}).leftovers]
        # What there is no room for is not understood, with the name that is used there.
        assert any(f"a{count - 1}" in each for each in left) == (count == 40), left


def bomb() -> str:
    repeated = "".join(f"a{at}: &a{at} [{','.join([f'*a{at - 1}'] * 10)}]\n" for at in range(1, 9))
    return f"a0: &a0 [{','.join('x' * 10)}]\n{repeated}"


# Small texts that want much: a file, whether it is a capture, and what is said of it.
GREEDY = {
    "aliases of aliases": ("intent.yaml", bomb(), "far too often"),
    "a fault on every line": (
        "intent.yaml",
        "lattice: 1\ndevices:\n  quay:\n    routes:\n" + "      - {to: 10.0.0.1/33, vai: 1.2.3.4}\n" * 30_000,
        "very many more",
    ),
    "open brackets": ("intent.yaml", "lattice: 1\nnetwork: " + "[" * 500_000, "not well-formed"),
    "open objects": ("nftables.nft", '{"a":' * 120_000, "never closed"),
    "open blocks": ("nftables.nft", "table ip a {\n" + "chain a {\n" * 60_000, "never closed"),
    "closed objects": ("nftables.nft", '{"a": 1}, ' * 60_000, ""),
}


@pytest.mark.parametrize("case", GREEDY)
def test_a_text_that_wants_much_is_answered_in_bounds(case: str, tmp_path: Path) -> None:
    """A second for each megabyte, and a gigabyte: with what a busy machine takes on top."""
    name, text, said = GREEDY[case]
    intent, capture = tmp_path / "intent.yaml", tmp_path / "captured" / "quay"
    capture.mkdir(parents=True)
    intent.write_text("lattice: 1\ndevices: {quay: {speaks: nftables}}\n")
    (intent if name == "intent.yaml" else capture / name).write_text(text)
    command = ["check", str(intent)] if name == "intent.yaml" else ["diff", str(intent), str(capture.parent)]

    def bounded() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (12, 12))
        resource.setrlimit(resource.RLIMIT_AS, (2 * 2**30, 2 * 2**30))

    done = subprocess.run([LATTICE, *command], capture_output=True, text=True, preexec_fn=bounded, check=False)
    assert done.returncode in (1, 2) and said in done.stdout + done.stderr, (done.returncode, done.stderr[-500:])
    assert "Traceback" not in done.stderr
