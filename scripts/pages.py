"""Run what the documentation says that people type, and write down what it prints.

    .venv/bin/python scripts/pages.py [PAGE ...]

A page is a story in one folder: a fenced block with `title="FILE"` is a file, a `console` block has commands behind
`$ ` with what they print, first on the standard stream and then on the error stream, and `python` is run.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from agile_lattice.cli.main import main as lattice

ROOT = Path(__file__).parent.parent
FENCE = re.compile(r'^```(\w+)(?: title="([^"]+)")?\n(.*?)^```$', re.MULTILINE | re.DOTALL)
TYPED = re.compile(r"^\$ ((?:.*\\\n)*.*)\n((?:(?!\$ ).*\n)*)", re.MULTILINE)


def pages() -> list[Path]:
    """Return the pages that have something to run."""
    found = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
    return [page for page in found if "```console\n" in page.read_text(encoding="utf-8")]


def run(page: str) -> Iterator[tuple[str, str, str]]:
    """Run a page in the current folder; yield each command, what the page says, and what is printed."""
    for kind, title, body in FENCE.findall(page):
        if title and not title.startswith("continues"):
            Path(title).parent.mkdir(parents=True, exist_ok=True)
            Path(title).write_text(body, encoding="utf-8")
        elif kind == "python":
            exec(body, {})
        elif kind == "console":
            for typed, said in TYPED.findall(body):
                yield typed, said, printed(typed.replace("\\\n", " "))


def printed(typed: str) -> str:
    """Run a command; return what it prints."""
    return done(typed)[1]


def done(typed: str) -> tuple[int, str]:
    """Run a command; return its exit code, and what it prints."""
    program, *words = shlex.split(typed)
    if program == "cd":
        os.chdir(words[0])
        return 0, ""
    if program == "lattice" and not re.search(r"[|>*;]", typed):
        out, error = io.StringIO(), io.StringIO()
        code = 2
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(error), contextlib.suppress(SystemExit):
            code = lattice(words)
        return code, out.getvalue() + error.getvalue()
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    given = {**os.environ, "PATH": path, "GIT_CONFIG_GLOBAL": "/dev/null"}
    ran = subprocess.run(["bash", "-c", typed], capture_output=True, text=True, env=given, check=False)
    return ran.returncode, ran.stdout + ran.stderr


def written_anew(text: str) -> str:
    """Return a page with what its commands print now."""
    results = run(text)

    def block(found: re.Match[str]) -> str:
        if found.group(1) != "console":
            return found.group()
        lines = []
        for typed, _ in TYPED.findall(found.group(3)):
            ran, _, output = next(results)
            assert ran == typed
            lines.append(f"$ {typed}\n{output}")
        return f"```console\n{''.join(lines)}```"

    new = FENCE.sub(block, text)
    assert next(results, None) is None
    return new


def main() -> None:
    """Bring pages up to date."""
    for page in [Path(each).resolve() for each in sys.argv[1:]] or pages():
        text = page.read_text(encoding="utf-8")
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            new = written_anew(text)
        if new != text:
            page.write_text(new, encoding="utf-8")
            print(f"{page.relative_to(ROOT)}: brought up to date")


if __name__ == "__main__":
    main()
