"""Archives of many devices: size, and the time of a round and of reading a state again.

    .venv/bin/python benchmarks/archive.py [DEVICES] [ROUNDS]

Every device has two texts of 2 KB; in each round one in a hundred has changed. The peer is git itself, which adds and
commits the same files in a folder. Wall time, since most of it is git's.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

from agile_lattice.archive.repository import Archive
from figures import keep

BEGIN = datetime(2026, 11, 1, tzinfo=UTC)


def text(device: int, turn: int, part: str) -> str:
    lines = (
        f"route add 10.{device // 256 % 256}.{n}.0/24 via 192.0.2.{device % 200 + 1} dev {part}{turn}"
        for n in range(35)
    )
    return "\n".join(lines) + "\n"


def devices(count: int, turn: int) -> dict[str, dict[str, str]]:
    """Return the texts of all devices in a round."""
    return {
        f"quay-{n}": {f"{part}.txt": text(n, turn if n % 100 == turn % 100 else 0, part) for part in ("lan", "wan")}
        for n in range(count)
    }


def timed(what: Callable[[], object]) -> float:
    start = time.perf_counter()
    what()
    return time.perf_counter() - start


def by_git(folder: Path, texts: dict[str, dict[str, str]]) -> None:
    """Write the same files, and commit them."""
    for name, files in texts.items():
        (folder / name).mkdir(exist_ok=True)
        for file, content in files.items():
            (folder / name / file).write_text(content)
    git = ["git", "-C", str(folder), "-c", "user.name=a", "-c", "user.email=a@localhost"]
    subprocess.run([*git, "add", "--all"], check=True)
    subprocess.run([*git, "commit", "--quiet", "--message", "round"], check=True)


def main(count: int = 10_000, rounds: int = 10) -> None:
    with tempfile.TemporaryDirectory() as place:
        archive, plain = Archive.made(Path(place, "archive")), Path(place, "plain")
        subprocess.run(["git", "init", "--quiet", str(plain)], check=True)
        ours, gits = [], []
        for turn in range(rounds):
            texts = devices(count, turn)
            when = BEGIN + timedelta(hours=turn)
            ours.append(timed(lambda texts=texts, when=when: archive.write(texts, {}, "bench", when)))
            gits.append(timed(lambda texts=texts: by_git(plain, texts)))
        size = sum(each.stat().st_size for each in archive.path.rglob("*") if each.is_file()) / 2**20
        revision = archive.revision()
        assert archive.all_texts(revision) == devices(count, rounds - 1)
        reading = timed(lambda: archive.all_texts(revision))
        checkout = timed(
            lambda: subprocess.run(["git", "-C", str(plain), "archive", "-o", "/dev/null", "HEAD"], check=True)
        )
        print(f"{count} devices, {rounds} rounds: {size:.0f} MB on disk")
        for what, mine, theirs in (
            ("a round", sum(ours) / rounds, sum(gits) / rounds),
            ("all texts of one round again", reading, checkout),
        ):
            row = {"what": what, "ours, s": f"{mine:.2f}", "git itself, s": f"{theirs:.2f}"}
            keep("archive", {**row, "ratio": f"{mine / theirs:.2f}"})


if __name__ == "__main__":
    main(*(int(each) for each in sys.argv[1:]))
