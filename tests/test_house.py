"""The house itself: who may import whom, what the package shows, what starting costs."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import agile_lattice as al
from where import DEMO, ROOT


def test_rooms_import_downwards_only() -> None:
    done = subprocess.run([Path(sys.executable).with_name("lint-imports")], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_everything_the_package_shows_is_there() -> None:
    assert sorted(al.__all__) == al.__all__
    for name in al.__all__:
        assert getattr(al, name).__doc__


def test_places_are_never_compared_as_they_are() -> None:
    """All places are equal, so that two values are which are written at different ones: `same_as` tells them apart."""
    found = []
    for path in sorted((ROOT / "src").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Compare) and isinstance(node.ops[0], ast.Eq | ast.NotEq | ast.In | ast.NotIn):
                sides = [node.left, *node.comparators]
                sides += [part for side in sides if isinstance(side, ast.Tuple) for part in side.elts]
                named = {str(getattr(side, "attr", "") or getattr(side, "id", "")) for side in sides}
                found += [f"{path.name}:{node.lineno}" for name in named if name.endswith("place")]
            elif isinstance(node, ast.Subscript) and ast.unparse(node).startswith(("set[Place", "dict[Place")):
                found.append(f"{path.name}:{node.lineno}")
    assert found == []


def test_texts_of_devices_are_cut_into_lines_as_their_programs_do() -> None:
    """`str.splitlines` ends lines at characters that no program takes for their end."""
    rooms = ("archive", "behaviour", "compare", "dialects", "fleet", "intent", "observe", "push", "transport")
    found = [
        f"{path.name}:{node.lineno}"
        for room in rooms
        for path in sorted((ROOT / "src" / "agile_lattice" / room).rglob("*.py"))
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.Attribute) and node.attr == "splitlines"
    ]
    assert found == []


def test_tests_find_the_checkout_and_the_package_in_one_way() -> None:
    """The package may be installed anywhere (`make pythons`): nothing of the checkout is looked for beside it."""
    found = [
        path.name
        for path in sorted((ROOT / "tests").glob("*.py"))
        if path.name != "where.py"
        and ("DEMO.parent" in (text := path.read_text(encoding="utf-8")) or " Path(__file__)" in text)
    ]
    assert found == ["test_house.py"]


# What a command must not load: rooms of the package, and libraries that take a while.
UNLOADED = {
    "import agile_lattice": ("numpy", "rich", "pydantic", "msgspec", "yaml", "cli", "intent", "notation", "dialects"),
    "lattice --help": ("numpy", "rich", "pydantic", "msgspec", "yaml", "intent", "notation", "dialects", "show"),
    "lattice render INTENT": (
        "numpy", "multiprocessing", "concurrent", "behaviour", "checks", "compare", "plan", "archive", "push"
    ),
    "lattice check INTENT": ("multiprocessing", "concurrent", "compare", "archive", "push", "observe", "transport"),
    "lattice diff INTENT CAPTURES": ("multiprocessing", "concurrent", "checks", "plan", "push", "observe", "transport"),
    "lattice walk INTENT 10.40.10.7 10.41.20.9 icmp": ("multiprocessing", "checks", "push", "observe", "transport"),
}  # fmt: skip


RUN = """import contextlib, io, sys
from agile_lattice.cli.main import main
with contextlib.redirect_stdout(io.StringIO()), contextlib.suppress(SystemExit):
    main(sys.argv[1:])
print(*sys.modules)
"""


@pytest.mark.parametrize("command", UNLOADED)
def test_a_command_loads_no_more_than_it_needs(command: str) -> None:
    files = {"INTENT": str(DEMO / "saltmarsh.yaml"), "CAPTURES": str(DEMO / "applied")}
    name, *words = (files.get(each, each) for each in command.split())
    program = RUN if name == "lattice" else "import sys, agile_lattice; print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", program, *words], capture_output=True, text=True, check=True)
    loaded = {each.removeprefix("agile_lattice.").partition(".")[0] for each in done.stdout.split()}
    assert not loaded & {*UNLOADED[command]}
