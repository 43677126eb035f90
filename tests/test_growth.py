"""Four times the objects take at most a little more than four times the work, whatever kind of object, and command.

Work is counted in calls of functions, so that neither the machine nor what else it does matters.
"""

from __future__ import annotations

from collections.abc import Callable
from cProfile import Profile
from pathlib import Path

import pytest

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.demo.growing import write_grown
from agile_lattice.intent.model import Device
from agile_lattice.notation.loading import loads

# Of fewer the first packet that is looked at may happen to do.
FEW, TIMES, MOST = 80, 4, 4.6
HEAD = """lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  edge:
    speaks: [%s]
    settings: {forwarding: true, reverse-path: "off"}
    interfaces:
      in0: {zone: inside, address: 10.40.0.1/16}
      out0: {zone: outside, address: 203.0.113.2/28}
"""


def own(at: int) -> str:
    return f"10.40.{1 + at // 200}.{1 + at % 200}"


def outer(at: int) -> str:
    return f"192.0.{at // 200}.{1 + at % 200}"


# What a device has many of: where it stands, and one of them.
KINDS: dict[str, tuple[str, Callable[[int], str]]] = {
    "interfaces": ("", lambda at: f"      p{at}: {{zone: inside, address: 10.{50 + at // 200}.{at % 200}.1/24}}"),
    "addresses": ("      many: {zone: inside, address: [%s]}", lambda at: f"10.{50 + at // 200}.{at % 200}.1/24"),
    "routes": ("    routes:", lambda at: f"      - {{to: 10.{50 + at // 200}.{at % 200}.0/24, via: 10.40.0.2}}"),
    "publications of one port": (
        "    translations:",
        lambda at: f"      - {{publish: {outer(at)}, service: tcp/443, on: {own(at)}, facing: outside}}",
    ),
    "publications of one address": (
        "    translations:",
        lambda at: f"      - {{publish: 203.0.113.5, service: tcp/{1000 + at}, on: {own(at)}, facing: outside}}",
    ),
    "hosts one to one": (
        "    translations:",
        lambda at: f"      - {{static: {outer(at)}, on: {own(at)}, facing: outside}}",
    ),
    "sources": (
        "    translations:",
        lambda at: f"      - {{from: inside, to: outside, source: {own(at)}, source-becomes: {{pool: {outer(at)}}}}}",
    ),
    "permits": (
        "    permits:",
        lambda at: f"      - {{from: outside, to: inside, destination: {own(at)}, service: tcp/443}}",
    ),
    "permits of ports": (
        "    permits:",
        lambda at: f"      - {{from: outside, to: inside, service: tcp/{1000 + 2 * at}}}",
    ),
    "management": ("    management:", lambda at: f"      - {{from: inside, source: {own(at)}, service: tcp/22}}"),
}


def intent(kind: str, count: int, speaks: str = "iproute2, nftables, sysctl") -> str:
    head, one = KINDS[kind]
    each = [one(at) for at in range(count)]
    lines = [head % ", ".join(each)] if "%s" in head else [*([head] if head else []), *each]
    return HEAD % speaks + "\n".join(lines) + "\n"


def texts(device: Device) -> dict[str, str]:
    return {each.file: each.text for each in al.render(device)}


def less(found: dict[str, str]) -> dict[str, str]:
    """What was rendered, but for a line in the middle that says something by itself."""
    name = max(found, key=lambda each: len(found[each]))
    lines = found[name].split("\n")
    del lines[next(at for at in range(len(lines) // 2, 0, -1) if any(ch.isdigit() for ch in lines[at]))]
    return found | {name: "\n".join(lines)}


Prepared = tuple[str, Device, dict[str, str]]
COMMANDS: dict[str, Callable[[Prepared], object]] = {
    "load": lambda it: loads(it[0]),
    "check": lambda it: al.check(loads(it[0])),
    "render": lambda it: al.render(it[1]),
    "read": lambda it: al.read("edge", it[1].speaks, it[2]),
    "diff": lambda it: al.diff(it[1], al.read("edge", it[1].speaks, it[2])),
    "prove": lambda it: al.prove(it[1], al.read("edge", it[1].speaks, it[2])),
    "mend": lambda it: al.mend(it[1], it[2].items()),
}


def calls(what: Callable[[], object]) -> int:
    """How many functions are called while something is done."""
    profile = Profile()
    profile.runcall(what)
    return sum(each.callcount for each in profile.getstats())


@pytest.mark.parametrize("command", COMMANDS)
@pytest.mark.parametrize("kind", KINDS)
def test_four_times_the_objects_take_four_times_the_work(kind: str, command: str) -> None:
    few = FEW // 2 if command == "mend" else FEW  # it takes longest, and its work grows evenly from there
    found = []
    for count in (few, TIMES * few):
        text = intent(kind, count)
        [device] = loads(text).devices
        prepared = text, device, less(texts(device))
        COMMANDS[command](prepared)  # what is worked out once for all is there now
        found.append(calls(lambda: COMMANDS[command](prepared)))  # noqa: B023
    assert found[1] <= MOST * found[0], found


# Of the whole network, and with what its devices have.
OF_FLEETS = {
    "draw": "draw . net.svg", "addresses": "addresses .", "check": "check .", "render": "render . --into rendered",
    "diff": "diff . captures", "grouped": "diff . captures --by-difference", "prove": "prove . captures",
    "mend": "mend . captures", "plan": "walk . --plan", "report": "report . report.html captures",
}  # fmt: skip


@pytest.fixture(scope="module")
def fleets(tmp_path_factory: pytest.TempPathFactory) -> dict[int, Path]:
    """A small network, and one of four times as many landings, by their lines: with what devices have, or had."""
    found = {}
    for landings in (6, 24):
        folder = tmp_path_factory.mktemp("grown")
        write_grown(folder, landings)
        devices = al.load(folder).devices
        for number, device in enumerate(devices):
            here = texts(device) if number % 4 else less(texts(device))
            (folder / "captures" / device.name).mkdir(parents=True)
            for name, text in here.items():
                (folder / "captures" / device.name / name).write_text(text)
        # Hubs have less to say than landings: what an intent says of them all is its size.
        found[sum(len(each.read_text().splitlines()) for each in folder.glob("*.yaml"))] = folder
    return found


# Those in which each device is worked on by itself, or each line of text drawn, show a square late and take long.
QUICK = ("addresses", "check", "render")


@pytest.mark.parametrize(
    "command", [each if each in QUICK else pytest.param(each, marks=pytest.mark.slow) for each in OF_FLEETS]
)
def test_more_devices_take_as_much_more_work(
    command: str, fleets: dict[int, Path], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr("agile_lattice.cli.parallel.MANY", 1000)
    work, codes = [], list[int]()
    for size, folder in fleets.items():
        monkeypatch.chdir(folder)
        monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / str(size)))
        work.append(calls(lambda: codes.append(main(OF_FLEETS[command].split()))) / size)
    assert {*codes} <= {0, 1}, codes
    assert work[1] <= work[0] * MOST / TIMES, work
