"""The jobs of a practitioner, each played from the first line of its intent to the proof: the stories in `jobs/`.

A story is a page: a fenced block with a title is a file, a `console` block has commands behind `$ ` with what they have
to print. What they print may have more lines; of each line that is written here all words have to come, in this order.
`exit N` is the exit code, 0 if it is not written, and a line that begins with `never ` is one that must not come.
"""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from pages import FENCE, TYPED, done
from where import ROOT

JOBS = sorted((ROOT / "tests" / "jobs").glob("*.md"))


def missing(expected: list[str], output: str) -> str:
    """Return the first line that does not come where it should; empty if all do."""
    rest = " ".join(output.split())
    for line in expected:
        words = " ".join(line.split())
        if line.startswith("never "):
            if words.removeprefix("never ") in " ".join(output.split()):
                return line
            continue
        _, found, rest = rest.partition(words)
        if not found:
            return line
    return ""


@pytest.mark.parametrize("job", JOBS, ids=lambda job: job.stem)
def test_a_job_is_done(job: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", "240")
    for kind, title, body in FENCE.findall(job.read_text()):
        if title:
            Path(title).write_text(body)
        for typed, said in TYPED.findall(body) if kind == "console" else ():
            lines = said.splitlines()
            wanted = next((int(line[5:]) for line in lines if re.fullmatch(r"exit \d", line)), 0)
            code, output = done(typed.replace("\\\n", " "))
            lacking = missing([line for line in lines if not re.fullmatch(r"exit \d", line)], output)
            assert (code, lacking) == (wanted, ""), f"$ {typed}\n{output}"


def test_there_is_a_story_for_every_job() -> None:
    assert [int(job.name[:2]) for job in JOBS] == list(range(1, 22))
