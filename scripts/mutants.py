"""Mutants of all rooms: one small change at a time, and whether the tests notice.

    python scripts/mutants.py 100 [SEED] [ROOM ...]

takes so many at random, of all rooms or of some (`compare`, `dialects/reading`), each in a copy of the project, says of
each whether it was killed, and prints the share.
Of a mutant those tests are asked that run the changed line, the quickest first. So the share is a lower bound: a line
that only runs in processes that a test starts is not seen, and mutants that no test can tell from the original count as
survivors.
"""

from __future__ import annotations

import ast
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from random import Random

from coverage import CoverageData

ROOT = Path(__file__).parent.parent
HOUSE = ROOT / "src" / "agile_lattice"
PATIENCE = 4  # how many times as long as the tests take may pass before a mutant is taken not to end
COMPARISONS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
OPERATORS: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


class Mutation(ast.NodeTransformer):
    """Changes one place of a module: that of a number, counted in the order in which they are visited."""

    def __init__(self, wanted: int) -> None:
        self.wanted, self.count, self.what = wanted, 0, ""

    def _here(self, node: ast.AST, what: str) -> bool:
        self.count += 1
        if self.count - 1 != self.wanted:
            return False
        self.what = f"{getattr(node, 'lineno', 0)}: {what}"
        return True

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        """Leave types alone: they do nothing when a program runs."""
        if node.value is not None:
            node.value = self.visit(node.value)
        return node

    def visit_arg(self, node: ast.arg) -> ast.AST:
        """Leave types alone."""
        return node

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        """Leave what a function returns alone, as far as its type goes."""
        node.body = [self.visit(each) for each in node.body]
        node.args = self.visit(node.args)
        return node

    def visit_keyword(self, node: ast.keyword) -> ast.AST:
        """Leave alone what only holds a programmer to something."""
        return node if node.arg in ("frozen", "gc", "strict", "order") else self.generic_visit(node)

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        """Turn a comparison round."""
        self.generic_visit(node)
        new = COMPARISONS.get(type(node.ops[0]))
        if new is not None and self._here(node, f"{type(node.ops[0]).__name__} -> {new.__name__}"):
            node.ops[0] = new()
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        """Make `or` of `and`, and `and` of `or`."""
        self.generic_visit(node)
        if self._here(node, "and <-> or"):
            node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        """Leave out `not`."""
        self.generic_visit(node)
        return node.operand if isinstance(node.op, ast.Not) and self._here(node, "not left out") else node

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        """Put another operator in."""
        self.generic_visit(node)
        new = OPERATORS.get(type(node.op))
        if new is not None and self._here(node, f"{type(node.op).__name__} -> {new.__name__}"):
            node.op = new()
        return node

    def visit_If(self, node: ast.If) -> ast.AST:
        """Never do what a condition allows."""
        self.generic_visit(node)
        if self._here(node, "condition never true"):
            node.test = ast.Constant(False)
        return node

    def visit_Continue(self, node: ast.Continue) -> ast.AST:
        """Stop where something was passed over."""
        return ast.copy_location(ast.Break(), node) if self._here(node, "continue -> break") else node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        """Put another constant in."""
        if isinstance(node.value, bool) and self._here(node, f"{node.value} turned round"):
            return ast.copy_location(ast.Constant(not node.value), node)
        if type(node.value) is int and self._here(node, f"{node.value} + 1"):
            return ast.copy_location(ast.Constant(node.value + 1), node)
        return node


def mutants(rooms: Sequence[str]) -> Iterator[tuple[Path, int]]:
    """Yield every mutant of some rooms: the module, and the number of the place that is changed."""
    for room in rooms:
        for path in sorted((HOUSE / room).rglob("*.py")):
            counter = Mutation(-1)
            counter.visit(ast.parse(path.read_text()))
            yield from ((path, number) for number in range(counter.count))


class Suite:
    """The tests as they pass on the original: how long each takes, and which lines it runs."""

    def __init__(self, folder: str) -> None:
        cover = [f"--cov={ROOT / 'src'}", "--cov-context=test", "--cov-report="]
        options = ["-q", "-x", "-p", "no:cacheprovider", "--durations=0", "-vv", "-n", "2"]
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "HYPOTHESIS_PROFILE": "quick"}
        env["COVERAGE_FILE"] = str(Path(folder, "lines"))
        command = [sys.executable, "-m", "pytest", *options, *cover, "--dist", "worksteal", "-m", "not real", "tests"]
        run = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, text=True, check=False)
        if run.returncode:
            sys.exit(f"{run.stdout}\nThe tests do not pass as it is: nothing could be told from their failing.")
        took = re.findall(r"^([0-9.]+)s call +(tests/.+)$", run.stdout, re.MULTILINE)
        self.seconds = {name: float(seconds) for seconds, name in took}
        self._lines = CoverageData(env["COVERAGE_FILE"])
        self._lines.read()

    def asked_about(self, path: Path, line: int) -> list[str]:
        """Return the tests that run a line, the quickest first; all of them where it runs before any test begins."""
        by_line = self._lines.contexts_by_lineno(str(path))
        begins = max((each for each in by_line if each <= line), default=0)  # a statement may go over several lines
        names = {context.partition("|")[0] for each in (begins, line) for context in by_line.get(each, ())}
        return sorted(names & set(self.seconds) or self.seconds, key=self.seconds.__getitem__)


def failing(tests: list[str], path: Path, text: str, seconds: float) -> str:
    """Run tests in a copy of the project, with another text in one file; return what failed, if anything did."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "copy")
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", ".hypothesis", "build", "*_cache"))
        (copy / path.relative_to(ROOT)).write_text(text)
        Path(folder, "tests").write_text("\n".join(tests))
        env = {**os.environ, "PYTHONPATH": str(copy / "src"), "HYPOTHESIS_PROFILE": "quick"}
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "@../tests"]
        try:
            run = subprocess.run(
                command, cwd=copy, env=env, capture_output=True, text=True, timeout=seconds, check=False
            )
        except subprocess.TimeoutExpired:
            return "it does not end"
        return run.stdout if run.returncode else ""


def survives(suite: Suite, path: Path, number: int) -> bool:
    """Run the tests on a mutant, and print what it is and whether they pass: a run that is cut has said something."""
    mutation = Mutation(number)
    tree = ast.fix_missing_locations(mutation.visit(ast.parse(path.read_text())))
    tests = suite.asked_about(path, int(mutation.what.partition(":")[0]))
    # Several mutants share the cores, and a mutant may never end.
    alive = not failing(tests, path, ast.unparse(tree), 60 + PATIENCE * sum(suite.seconds[each] for each in tests))
    said = f"{'survived' if alive else 'killed'}: {path.relative_to(ROOT)}:{mutation.what} ({len(tests)} tests)"
    print(said, flush=True)
    return alive


def main(count: str, seed: str = "0", *rooms: str) -> None:
    """Try mutants taken at random, two at a time."""
    every = list(mutants(rooms or [""]))
    chosen = Random(int(seed)).sample(every, min(int(count), len(every)))
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(2) as pool:
        suite = Suite(folder)
        killed = len(chosen) - sum(pool.map(lambda one: survives(suite, *one), chosen))
    print(f"{killed} of {len(chosen)} mutants killed ({killed / len(chosen):.0%}), of {len(every)} that there are")


if __name__ == "__main__":
    main(*sys.argv[1:])
