"""Loading and checking a large network: time, memory and growth.

    .venv/bin/python benchmarks/checking.py [landings ...]

The network is the fleet that `lattice demo --landings` writes, of 60 objects a device. Each size is checked by `lattice
check` on one core, on all, and on all with what was kept of the run before, once with nothing changed and once with one
file changed. The peer is PyYAML's C loader on the same files, on one core, which gives plain values without lines.
Each is a process of its own; wall time, and the memory of the largest process.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from agile_lattice.demo.growing import write_grown
from figures import keep

RATIOS = ("one core", "all cores", "again", "one file changed")  # in seconds, with the ratio in brackets
LATTICE = str(Path(sys.executable).parent / "lattice")
PEER = """
import sys, yaml
from pathlib import Path
for path in Path(sys.argv[1]).iterdir():
    yaml.load(path.read_text(), yaml.CSafeLoader)
"""


def took(*command: str, kept: Path | None = None) -> float:
    """Run a command to its end; return how many seconds that took."""
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "", **({"XDG_CACHE_HOME": str(kept)} if kept else {})}
    began = time.monotonic()
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if done.returncode not in (0, 1):
        sys.exit(done.stderr)
    return time.monotonic() - began


def measured(landings: int) -> dict[str, str]:
    """Measure one size; return a row of the table, with the ratio to the peer in brackets."""
    with tempfile.TemporaryDirectory() as name:
        folder, kept = Path(name) / "intent", Path(name) / "kept"
        write_grown(folder, landings)
        check = LATTICE, "check", str(folder)
        peer = took(sys.executable, "-c", PEER, str(folder))
        one = took(*check, "--no-cache", "--jobs", "1")
        all_cores = took(*check, "--no-cache")
        took(*check, kept=kept)
        again = took(*check, kept=kept)
        changed = folder / "harbour-001.yaml"
        changed.write_text(changed.read_text().replace("tcp/8001", "tcp/8999"))
        one_file = took(*check, kept=kept)
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    cells = {
        name: f"{each:.1f} ({each / peer:.1f})"
        for name, each in zip(RATIOS, (one, all_cores, again, one_file), strict=True)
    }
    return {"landings": f"{landings:,}", "PyYAML alone, s": f"{peer:.1f}", **cells, "peak, MB": f"{most:.0f}"}


def main() -> None:
    """Measure every size."""
    for landings in [int(each) for each in sys.argv[1:]] or [500, 1000, 2000]:
        keep("checking", measured(landings), RATIOS)


if __name__ == "__main__":
    main()
