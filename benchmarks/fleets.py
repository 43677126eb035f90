"""Many devices: two processes against one, a cluster of two workers, and a second run of which ten devices changed.

    .venv/bin/python benchmarks/fleets.py [landings ...]

The devices and their captures are those that `lattice demo --landings` writes, of 60 objects each. Each row is one run of
`lattice diff --by-difference` in a process of its own; the peer is the same command on one core. What two processes can
gain on the machine at all is told by a plain loop in each.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from figures import keep

LATTICE = str(Path(sys.executable).parent / "lattice")
CHANGED = 10


def took(folder: Path, *options: str) -> float:
    """Compare all devices; return how many seconds that took."""
    began = time.monotonic()
    command = [LATTICE, "diff", str(folder / "intent"), str(folder / "captures"), "--by-difference", *options]
    # An installed package has its modules compiled.
    environment = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache"), "PYTHONDONTWRITEBYTECODE": ""}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if done.returncode == 2:
        sys.exit(done.stderr)
    return time.monotonic() - began


def change(folder: Path) -> None:
    """Take a line out of the captures of ten devices."""
    for capture in sorted(folder.glob("captures/landing-*/nftables.nft"))[:CHANGED]:
        lines = capture.read_text().splitlines(keepends=True)
        last = max(number for number, line in enumerate(lines) if "dport" in line)
        capture.write_text("".join(lines[:last] + lines[last + 1 :]))


def measured(devices: int) -> dict[str, float]:
    """Measure one size."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        subprocess.run([LATTICE, "demo", "--landings", str(devices), "--into", name], check=True, capture_output=True)
        found = {
            "one": took(folder, "--jobs", "1", "--no-cache"),
            "two": took(folder, "--jobs", "2", "--no-cache"),
            "cluster": took(folder, "--jobs", "2", "--cluster", "local", "--no-cache"),
            "first": took(folder, "--jobs", "2"),
        }
        change(folder)
        return found | {"second": took(folder, "--jobs", "2")}


def looped(_: int) -> int:
    """Count up: work that needs nothing but a core."""
    return sum(number % 7 for number in range(20_000_000))


def gained() -> float:
    """Return how many times as quickly two processes do two plain loops as one does."""
    began = time.monotonic()
    looped(0), looped(1)
    alone = time.monotonic() - began
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(len, [[], []]))  # so that both have begun
        began = time.monotonic()
        list(pool.map(looped, range(2)))
        return alone / (time.monotonic() - began)


def main() -> None:
    """Measure every size."""
    print(f"plain loops in two processes: {gained():.2f}x")
    for devices in [int(each) for each in sys.argv[1:]] or [500, 1000]:
        one = measured(devices)
        row = {"landings": f"{devices:,}", "one core, s": f"{one['one']:.1f}",
               "two cores": f"{one['one'] / one['two']:.2f}x", "cluster of two": f"{one['one'] / one['cluster']:.2f}x",
               "first run, kept, s": f"{one['first']:.1f}", "ten changed": f"{one['second'] / one['first']:.0%}"}  # fmt: skip
        keep("fleets", row, ())


if __name__ == "__main__":
    main()
