"""Exact comparison of rule lists and tables: time, memory, growth, and two general engines on the same lists.

    .venv/bin/python benchmarks/proving.py             every figure of docs/performance.md, and its drawing
    .venv/bin/python benchmarks/proving.py ours 10000  one measurement

The lists are those of `rule_lists`: exemptions, published ports, source rules, general rules; the other side is the same
function written otherwise. z3 is asked as the tests ask it: what becomes of the bits of a packet, in chains of
if-then-else. `z3_numbers` and CUDD (through `dd`, `pip install dd`; without its reordering, which is slower here) are
given more than they could know: boxes that are already cut where a constant and an offset do the same, with a number for
each action, so that they only have to find out whether the numbers differ. Every measurement runs in a process of its own, on one core, and peers are given up after two minutes.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from math import log
from pathlib import Path
from random import Random

import agile_lattice as al
import rule_lists
from agile_lattice.behaviour.tables import Table
from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.assembly import Capture
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route
from agile_lattice.packets.actions import Piece, canonical, offsets
from agile_lattice.packets.boxes import Undecided
from agile_lattice.packets.functions import Entry, differing
from agile_lattice.packets.shadows import shadows
from figures import keep
from rule_lists import WIDTHS

PATIENCE = 120  # seconds
PEERS = ("z3", "z3_numbers", "cudd")
DRAWING = Path(__file__).parent.parent / "docs" / "proving.png"
Lists = tuple[list[Entry], list[Entry]]


def equal(count: int) -> Lists:
    """Return two lists that do the same."""
    left = rule_lists.generated(count)
    return left, rule_lists.rewritten(left)


def ours(count: int) -> str:
    """Prove two lists the same."""
    left, right = equal(count)
    with _timed():
        found = differing(left, right)
    assert not found.regions and not found.undecided
    return "the same"


def changed(count: int) -> str:
    """Find ten changes, each of one published service."""
    left, right = equal(count)
    published = [at for at, each in enumerate(right) if each.box[rule_lists.ARRIVES] == rule_lists.one(0)]
    for at in Random(4).sample(published, 10):
        right[at] = Entry(right[at].box, rule_lists.KEEP)
    with _timed():
        found = differing(left, right)
    assert found.regions and not found.undecided
    return f"{len(found.regions)} differences"


def shadowed(count: int) -> str:
    """Name the rules of which earlier ones take everything."""
    boxes = [each.box for each in equal(count)[1]]
    with _timed():
        found = shadows(boxes)
    return f"{sum(bool(each.takers) for each in found)} never reached"


def grid(count: int) -> str:
    """Compare lists in which every source crosses every destination, the two halves in opposite orders."""
    rows = [rule_lists.entry(rule_lists.Action(("a", n % 7)), source=rule_lists.prefix(0x0A000000 + n * 256, 24))
            for n in range(count)]  # fmt: skip
    columns = [rule_lists.entry(rule_lists.Action(("b", n % 7)), destination=rule_lists.prefix(0xAC100000 + n * 256, 24))
               for n in range(count)]  # fmt: skip
    rest = [rule_lists.entry(rule_lists.KEEP)]
    with _timed():
        try:
            found = differing([*rows, *columns, *rest], [*columns, *rows, *rest])
            said = f"{len(found.regions)} differences, {found.unseen} more not looked into"
        except Undecided as error:
            said = str(error)
    return said


def routes(count: int) -> str:
    """Compare two tables of static routes; a hundred routes lead elsewhere."""
    chance = Random(5)
    hops = [Address.parse(f"10.0.0.{n}") for n in range(2, 10)]
    left = [
        Route(Prefix(4, 0x0B000000 + chance.randrange(1 << 30) // 256 * 256, chance.choice([16, 20, 22, 24, 24, 24])).network,
              chance.choice(hops))
        for _ in range(count)
    ]  # fmt: skip
    right = list(left)
    for at in chance.sample(range(count), 100):
        right[at] = Route(left[at].to, Address.parse("10.0.0.99"))
    chance.shuffle(right)
    near = (Interface("a", (Prefix.parse("10.0.0.1/24"),)),)
    devices = [Device("quay", interfaces=near, routes=tuple(each)) for each in (left, right)]
    with _timed():
        one, other = (Table(each, 4) for each in devices)
        found = one.partings(other)
    return f"{len(found)} differences"


def diff(count: int) -> str:
    """Tell the differences of a device with that many translations, and which of them matter; two matter."""
    device, _, capture = _published(count)
    with _timed():
        found = al.diff(device, capture)
    assert [each.effect for each in found.differences] == ["changes-traffic"] * 2
    return "2 consequential"


def git(count: int) -> str:
    """Run `git diff --no-index` on the same texts in two folders."""
    device, texts, _ = _published(count)
    with tempfile.TemporaryDirectory() as name:
        for folder, side in (("intent", {each.file: each.text for each in render_device(device)}), ("device", texts)):
            Path(name, folder).mkdir()
            for file, text in side.items():
                Path(name, folder, file).write_text(text)
        with _timed():
            done = subprocess.run(["git", "diff", "--no-index", "intent", "device"], cwd=name, capture_output=True)
    return f"{done.stdout.count(b'@@ -')} places"


def _published(count: int) -> tuple[Device, dict[str, str], Capture]:
    """Return a device, its texts with two changes in them, and what is read from these."""
    rows = [f"{{name: web-{n}, publish: 198.18.{n // 250}.{n % 250 + 1}, service: tcp/{8000 + n % 500},"
            f" on: 10.64.{n // 250}.{n % 250 + 1}, facing: wan0}}" for n in range(count * 6 // 10)]  # fmt: skip
    rows += [f"{{name: out-{n}, to: wan0, source: 10.{n // 250}.{n % 250}.0/25,"
             f" source-becomes: {{pool: 203.0.113.{n % 200 + 10}}}}}" for n in range(count * 4 // 10)]  # fmt: skip
    intent = (
        "lattice: 1\ndevices:\n  quay:\n    speaks: [iproute2, nftables]\n"
        "    interfaces: {wan0: {address: 203.0.113.2/24}, lan0: {address: 10.250.0.1/24}}\n"
        "    routes: [{to: default, via: 203.0.113.1}, {to: 10.0.0.0/8, via: 10.250.0.2}]\n"
        "    translations:\n" + "".join(f"      - {row}\n" for row in rows)
    )
    [device] = al.loads(intent).devices
    changes = {"10.64.3.7 ": "10.64.3.77 ", "dport 8011 ": "dport 9011 "}
    texts = {each.file: each.text for each in render_device(device)}
    for was, now in changes.items():
        texts = {file: text.replace(was, now, 1) for file, text in texts.items()}
    return device, texts, read_device("quay", device.speaks, list(texts.items()))


def z3(count: int) -> str:
    """Ask z3 whether two lists do something else with some packet."""
    sys.path.append(str(Path(__file__).parent.parent / "tests"))
    import solver

    left, right = equal(count)
    with _timed():
        assert solver.same(left, right)
    return "the same"


def z3_numbers(count: int) -> str:
    """Ask z3 whether the numbers of the actions of two lists, cut for it, differ for some packet."""
    import z3

    packet = [z3.BitVec(f"dimension{at}", bits) for at, bits in enumerate(WIDTHS)]
    sides, numbers = _pieces(*equal(count))
    with _timed():
        outcomes = []
        for side in sides:
            outcome = z3.BitVecVal(0, 20)
            for piece in reversed(side):
                terms = [
                    variable == low if low == high else z3.And(z3.UGE(variable, low), z3.ULE(variable, high))
                    for variable, bits, (low, high) in zip(packet, WIDTHS, piece.spans, strict=True)
                    if (low, high) != (0, (1 << bits) - 1)
                ]
                outcome = z3.If(z3.And(*terms), z3.BitVecVal(numbers[piece.action], 20), outcome)
            outcomes.append(outcome)
        asked = z3.Solver()
        asked.add(outcomes[0] != outcomes[1])
        assert asked.check() == z3.unsat
    return "the same"


def cudd(count: int) -> str:
    """Build a decision diagram of the packets of every action, on both sides, and compare."""
    from dd import cudd as diagrams

    sides, numbers = _pieces(*equal(count))
    with _timed():
        manager = diagrams.BDD()
        manager.configure(reordering=False)
        names = [[f"d{at}b{bit}" for bit in range(bits)] for at, bits in enumerate(WIDTHS)]
        manager.declare(*(name for each in names for name in each))
        variables = [[manager.var(name) for name in each] for each in names]
        regions = []
        for side in sides:
            rest, found = manager.true, {}
            for piece in side:
                match = manager.true
                for bits, spans in zip(variables, piece.spans, strict=True):
                    match &= _between(manager, bits, *spans)
                number = numbers[piece.action]
                found[number] = found.get(number, manager.false) | (match & rest)
                rest &= ~match
            regions.append({number: region for number, region in found.items() if region != manager.false})
        assert regions[0] == regions[1]
    return "the same"


def _between(manager: object, bits: Sequence[object], low: int, high: int) -> object:
    """Return the numbers from `low` to `high`, bit by bit from the lowest."""
    at_least = at_most = manager.true  # type: ignore[attr-defined]
    for place, bit in enumerate(reversed(bits)):
        at_least = bit & at_least if low >> place & 1 else bit | at_least  # type: ignore[operator]
        at_most = ~bit | at_most if high >> place & 1 else ~bit & at_most  # type: ignore[operator]
    return at_least & at_most


def _pieces(left: list[Entry], right: list[Entry]) -> tuple[list[list[Piece]], dict[object, int]]:
    known = offsets(each.action for side in (left, right) for each in side)
    sides = [
        [piece for at, each in enumerate(side)
         for piece in canonical(Piece(tuple(spans[0] for spans in each.box), each.action, at), known)]
        for side in (left, right)
    ]  # fmt: skip
    numbers: dict[object, int] = {}
    for side in sides:
        for piece in side:
            numbers.setdefault(piece.action, len(numbers))
    return sides, numbers


class _timed:  # noqa: N801 - reads as a word where it is used
    seconds = 0.0

    def __enter__(self) -> None:
        self.began = time.perf_counter()

    def __exit__(self, *_: object) -> None:
        _timed.seconds = time.perf_counter() - self.began


MEASURES: dict[str, Callable[[int], str]] = {
    each.__name__: each for each in (ours, changed, shadowed, grid, routes, diff, git, z3, z3_numbers, cudd)
}


def measured(what: str, count: int, best_of: int = 1) -> tuple[float, float, str]:
    """Measure in processes of their own: the shortest time in seconds, MB at the most, and what was found."""
    seconds, memory, said = float("inf"), 0.0, "given up"
    for _ in range(best_of):
        command = [sys.executable, __file__, what, str(count)]
        try:
            done = subprocess.run(command, capture_output=True, text=True, check=True, timeout=PATIENCE)
        except subprocess.TimeoutExpired:
            return PATIENCE, memory, "given up"
        one = json.loads(done.stdout)
        seconds, memory, said = min(seconds, one["seconds"]), max(memory, one["MB"]), one["said"]
    return seconds, memory, said


WORDS = {
    "ours": "two lists proven the same", "changed": "ten real changes found", "shadowed": "shadowed rules named",
    "grid": "sources cross destinations", "routes": "tables of static routes compared",
    "diff": "`al.diff`, two translations changed", "git": "`git diff --no-index`", "z3": "z3",
    "z3_numbers": "z3, given numbers", "cudd": "CUDD, given numbers",
}  # fmt: skip


def main() -> None:
    """Measure one thing, or print everything as Markdown and draw it."""
    if len(sys.argv) == 3:
        said = MEASURES[sys.argv[1]](int(sys.argv[2]))
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(json.dumps({"seconds": _timed.seconds, "MB": memory, "said": said}))
        return
    curves: dict[str, list[tuple[int, float]]] = {}
    plan = [("ours", (1000, 3000, 10_000, 30_000, 100_000)), ("changed", (10_000, 100_000)),
            ("shadowed", (1000, 10_000, 100_000)), ("grid", (1000, 3000)), ("routes", (10_000, 100_000, 1_000_000)),
            ("diff", (10_000,)), ("git", (10_000,)), ("z3", (100, 300, 1000)), ("z3_numbers", (100, 300, 1000)),
            ("cudd", (100, 300, 1000, 3000, 10_000))]  # fmt: skip
    for what, counts in plan:
        for count in counts:
            seconds, memory, said = measured(what, count, 1 if what in PEERS else 3)
            curves.setdefault(what, []).append((count, seconds))
            row = {"what": WORDS[what], "objects a side": f"{count:,}", "time, s": f"{seconds:.2f}",
                   "process, MB": f"{memory:.0f}", "found": said}  # fmt: skip
            keep("proving", row, (), named_by=2)
    (low, fast), (high, slow) = curves["ours"][0], curves["ours"][-1]
    at = {what: dict(points) for what, points in curves.items()}
    growth = log(slow / fast) / log(high / low)
    print(f"\nGrowth exponent of ours from {low:,} to {high:,} rules: {growth:.2f}.")
    for peer, what, count in (("z3", "ours", 1000), ("z3_numbers", "ours", 1000), ("cudd", "ours", 1000),
                              ("cudd", "ours", 10_000), ("git", "diff", 10_000)):  # fmt: skip
        row = {"what": WORDS[what], "peer": WORDS[peer], "objects a side": f"{count:,}"}
        keep("proving-ratios", {**row, "ratio": f"{at[what][count] / at[peer][count]:.3g}"}, named_by=3)
    draw(curves)


def draw(curves: dict[str, list[tuple[int, float]]]) -> None:
    """Draw the growth curves."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    # What it is, its colour, mark and line; and where the words stand: from the last point, or from the first.
    looks = {
        "ours": ("two lists proven the same", "#0072b2", "o", "-", -1, (-8, 10), "right"),
        "shadowed": ("shadowed rules named", "#0072b2", "s", "--", 0, (-10, -14), "left"),
        "routes": ("static routes compared", "#009e73", "^", "-", -1, (8, 0), "left"),
        "z3": ("z3, the same lists", "#d55e00", "v", "-", -1, (-10, 8), "right"),
        "z3_numbers": ("z3, given numbers", "#d55e00", "v", ":", -1, (-12, -12), "right"),
        "cudd": ("CUDD, given numbers", "#cc79a7", "D", "-", -1, (8, 0), "left"),
    }
    figure, axes = pyplot.subplots(figsize=(9, 5.4), layout="constrained")
    for what, (label, colour, mark, line, at, offset, side) in looks.items():
        points = [(count, seconds) for count, seconds in curves[what] if seconds < PATIENCE]
        axes.plot(*zip(*points, strict=True), color=colour, marker=mark, linestyle=line)
        axes.annotate(label, points[at], offset, textcoords="offset points", color=colour, ha=side, va="center")
    axes.set(xscale="log", yscale="log", xlabel="rules or routes on each side", ylabel="seconds, one core",
             xlim=(80, 12_000_000))  # fmt: skip
    axes.grid(alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(DRAWING, dpi=110)


if __name__ == "__main__":
    main()
