"""`lattice demo`: the other commands, run on the demo data, as a story."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from contextlib import chdir
from pathlib import Path

from rich.console import Console
from rich.table import Table
from rich.text import Text

from agile_lattice import demo
from agile_lattice.cli.main import main
from agile_lattice.cli.options import count
from agile_lattice.cli.output import write_files
from agile_lattice.cli.parallel import devices_of, for_each, loaded_fleet
from agile_lattice.cli.practising import WITHOUT, can_practise, in_a_hurry, practice, pretended
from agile_lattice.demo.growing import MOST, drifted, grown
from agile_lattice.dialects import render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.fleet.packed import packed, unpacked
from agile_lattice.fleet.work import rendered
from agile_lattice.intent.places import Place
from agile_lattice.notation.errors import fail
from agile_lattice.notation.loading import load
from agile_lattice.show.terminal import console

DATA = Path(demo.__file__).parent


EXAMPLE = "lattice demo"
FORMATS: tuple[str, ...] = ()


def add_arguments(command: ArgumentParser) -> None:
    """Add what the command takes."""
    command.add_argument("--into", metavar="FOLDER", help="write the demo files there instead, to experiment with")
    command.add_argument(
        "--landings", metavar="N", type=count,
        help="with --into, write a fleet instead: the ferries with so many landings, and what is captured of them",
    )  # fmt: skip
    command.set_defaults(jobs=None, cluster="", cache=False)


def run(arguments: Namespace) -> int:
    """Tell the story, or write its files; 0 unless a step of it cannot be done."""
    if arguments.landings and not arguments.into:
        raise fail(Place(), "`--landings` needs `--into`", "Give the folder that the fleet is written into.")
    if arguments.into:
        folder = Path(arguments.into)
        if folder.exists() and any(folder.iterdir() if folder.is_dir() else [folder]):
            raise fail(Place(str(folder)), "there is something already", "Name a folder that is new, or empty.")
        return write_fleet(folder, arguments) if arguments.landings else write_data(folder)
    out = console()
    with chdir(DATA):
        chapter(
            out,
            "1. The intent",
            """\
Saltmarsh Ferries has two routers: quay-edge in the harbour office runs Linux, pier-gate on the pier runs \
FRRouting. One file says what both should be. This is the part about quay-edge.""",
        )
        show_part_of_intent(out)
        out.print()
        say(out, "What is each address of the provider's block used for, and what is left?")
        command(out, "addresses", "saltmarsh.yaml", "--only", "harbour-isp", "--run", "2")
        chapter(
            out,
            "2. Is the design sound?",
            """\
The design rules know the usual mistakes. Here is one finding, reviewed and accepted.""",
        )
        command(out, "check", "saltmarsh.yaml")
        say(out, "A colleague's draft for the terminal across the bay is another matter:")
        command(out, "check", "draft.yaml")
        chapter(
            out,
            "3. Two configurations of it",
            """\
The same facts in two syntaxes that have little in common. The addresses 203.0.113.5 and up are nowhere in the \
intent's interfaces: the translations use them, so the device has to answer for them.""",
        )
        show_side_by_side(out)
        say(out, "Translations go to nftables on both. `--into FOLDER` would write all of it to files.")
        say(
            out,
            "Does it work as intended? A stranger asks for the timetable; somebody in the office opens a page outside:",
        )
        command(out, "walk", "saltmarsh.yaml", "192.0.2.77", "203.0.113.5", "tcp/8080", "--at", "quay-edge:wan0")
        command(out, "walk", "saltmarsh.yaml", "10.40.10.7", "192.0.2.9", "tcp/443")
        chapter(
            out,
            "4. What the devices really have",
            """\
These are real: a kernel and an FRRouting were given what was rendered, and were asked what they have. What \
they print looks quite different (and some of it is the kernel's own), but it says the same.""",
        )
        command(out, "diff", "saltmarsh.yaml", "applied")
        say(out, "Any configuration can also be read back into the notation, to start an intent from what is there:")
        command(out, "read", "--speaks", "frr,nftables", *captured("applied/pier-gate"))
        chapter(
            out,
            "5. A year later",
            """\
Both routers were changed by hand. What differs, where is it written, and does it change traffic? A description is \
only a description; for the rest there is a packet that shows the effect.""",
        )
        command(out, "diff", "saltmarsh.yaml", "a-year-later")
        chapter(
            out,
            "6. Bring the devices back in line",
            """\
The commands, in each device's own syntax. The new address is added before the old one is removed; since the kernel \
removes the second address of a subnet with the first, it is added once more. `--undo` prints the way back.""",
        )
        command(out, "mend", "saltmarsh.yaml", "a-year-later")
        command(out, "mend", "saltmarsh.yaml", "a-year-later/pier-gate", "--device", "pier-gate", "--undo")
        chapter(
            out,
            "7. Rules that somebody else wrote",
            """\
The router on the island was set up by hand, in chains and sets. Its intent is in by-hand/island.yaml, its rules are \
as the kernel lists them. Which rules of the intent are there, however they are written, and what else does it do?""",
        )
        command(out, "diff", "by-hand/island.yaml", "by-hand/island-gate", "--device", "island-gate")
        command(out, "mend", "by-hand/island.yaml", "by-hand/island-gate", "--device", "island-gate")
    chapter(
        out,
        "8. Devices to practise on",
        """\
Devices run on this very system: three of fictional vendors, which are reached by SSH, and one with RESTCONF. \
They are captured into an archive; then somebody publishes the shop on another host, in a hurry, and by hand.""",
    )
    if can_practise():
        show_practice(out)
    else:
        say(out, WITHOUT)
    chapter(
        out, "Your turn",
        "`lattice demo --into ferry` writes the files of this story into a folder: change something, run the commands.",
    )  # fmt: skip
    return 0


def show_practice(out: Console) -> None:
    """Capture devices, change one by hand, find the difference, and push what is meant."""
    with practice(DATA):
        command(out, "capture", "quay.yaml", "--into", "archive")
        for typed in in_a_hurry("10.70.1.20", "10.70.1.21"):
            out.print(Text(f"$ {typed}", style="calm"))
        out.print()
        command(out, "capture", "quay.yaml", "--into", "archive")
        command(out, "diff", "quay.yaml", "archive", "--device", "slip-gate")
        say(out, "The push goes back by itself unless it is confirmed in time; then it is saved, and known to be good.")
        command(out, "push", "quay.yaml", "archive", "--device", "slip-gate", "--yes")
        command(out, "prove", "quay.yaml", "archive@good", "--device", "slip-gate")
        say(out, "Pretend that a customer and the till send packets. Which rules and translations are in use then?")
        for line in pretended("198.51.100.7 203.0.113.5 tcp/443", "10.70.1.20 198.51.100.7 udp/53"):
            out.print(Text(line, style="calm" if line.startswith("$") else ""))
        out.print()
        command(out, "observe", "quay.yaml", "--device", "slip-gate")


def write_data(folder: Path) -> int:
    """Write the files of the story into a folder."""
    files = sorted(path for path in DATA.rglob("*") if path.is_file() and path.suffix not in (".py", ".pyc"))
    write_files({folder / path.relative_to(DATA): path.read_bytes() for path in files})
    for entry in sorted({path.relative_to(DATA).parts[0] for path in files}):
        print(folder / entry)
    return 0


def write_fleet(folder: Path, arguments: Namespace) -> int:
    """Write a fleet into a folder: its intent, and captures in which some devices have drifted."""
    if arguments.landings > MOST:
        raise fail(Place(), f"there is no room for {arguments.landings} landings", f"There are addresses for {MOST}.")
    intent, captures = folder / "intent", folder / "captures"
    write_files({intent / name: text for name, text in grown(arguments.landings).items()})
    arguments.intent = str(intent)
    devices = devices_of(loaded_fleet(arguments))
    there = [packed(each) for each in drifted([each.name for each in devices], map(unpacked, devices))]
    done = for_each(rendered, [(each, []) for each in there], arguments, "rendering")
    if refusals := [each for _, refused in done.results for each in refused]:
        raise Refusals(refusals)
    write_files({captures / each.device / each.file: each.text for texts, _ in done.results for each in texts})
    print(intent, captures, sep="\n")
    return done.told(0)


def chapter(out: Console, title: str, text: str) -> None:
    """Begin a chapter."""
    out.rule(Text(title, style="head"), align="left", style="place")
    say(out, text)


def say(out: Console, text: str) -> None:
    """Print a paragraph."""
    out.print(Text(text))
    out.print()


def command(out: Console, *argv: str) -> None:
    """Run one of the commands, just as a user would."""
    out.print(Text(f"$ lattice {' '.join(argv)}", style="calm"))
    main(list(argv))
    sys.stdout.flush()
    out.print()


def captured(folder: str) -> list[str]:
    """Return the files of a folder, in order."""
    return sorted(str(path) for path in Path(folder).iterdir())


def show_part_of_intent(out: Console) -> None:
    """Print what the intent says of the first device, line numbers and all."""
    lines = Path("saltmarsh.yaml").read_text(encoding="utf-8").splitlines()
    first = lines.index("  quay-edge:")
    end = lines.index("", first)
    for number in range(first, end):
        out.print(Text.assemble((f"{number + 1:4}  ", "place"), lines[number]), no_wrap=True, overflow="ellipsis")


def show_side_by_side(out: Console) -> None:
    """Print the routing halves of both devices beside each other, and the first one's translations below."""
    devices = load("saltmarsh.yaml").devices
    texts = {(each.device, each.dialect): each.text for device in devices for each in render_device(device)}
    table = Table(box=None, expand=True, padding=(0, 2, 0, 0), header_style="head")
    for name, dialect in (("quay-edge", "iproute2"), ("pier-gate", "frr")):
        table.add_column(f"{name}, {dialect}", ratio=1)
    table.add_row(Text(texts["quay-edge", "iproute2"]), Text(texts["pier-gate", "frr"]))
    out.print(table)
    out.print(Text("quay-edge, nftables", style="head"))
    out.print(Text(texts["quay-edge", "nftables"].expandtabs(2)))
