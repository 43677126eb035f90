"""The house itself: who may import whom, what the package shows, what starting costs."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import agile_lattice as al

ROOT = Path(__file__).parent.parent


def test_rooms_import_downwards_only() -> None:
    done = subprocess.run([Path(sys.executable).with_name("lint-imports")], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_everything_the_package_shows_is_there() -> None:
    assert sorted(al.__all__) == al.__all__
    for name in al.__all__:
        assert getattr(al, name).__doc__


def test_help_imports_nothing_heavy() -> None:
    program = "import sys, agile_lattice.cli.main as m; m.main_parser().format_help(); print(*sys.modules)"
    loaded = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout.split()
    assert not {"msgspec", "pydantic", "yaml", "rich", "tomllib"} & set(loaded)
