"""The command lines of the fictional vendors: each has words of its own for what all of them can do."""

from __future__ import annotations

import re
from collections.abc import Callable
from difflib import get_close_matches
from typing import Literal

import msgspec

from agile_lattice.standin.device import Refused, Standin

Action = Literal[
    "show", "show-saved", "revision", "begin", "state", "confirm", "back", "save", "restart", "help", "leave",
    "come", "hits", "translations", "neighbours", "interfaces",
]  # fmt: skip


# What stands in a command for what is filled in, and how that is read.
FILLED = (("SECONDS", r"(?P<seconds>\d{1,6})"), ("REVISION", r"(?P<revision>\w+)"), ("HOST", r"(?P<source>\S+)"),
          ("HOST", r"(?P<destination>\S+)"), ("SERVICE", r"(?P<service>\S+)"))  # fmt: skip


class Command(msgspec.Struct, frozen=True):
    """A command of a vendor.

    Attributes:
        words: How it is typed; `SECONDS`, `REVISION`, `HOST` and `SERVICE` stand for what is filled in.
        action: What it does.
        help: What its help says.
        line: Where it tells what the device does, how each line is written.
    """

    words: str
    action: Action
    help: str
    line: str = ""

    def read(self, line: str) -> dict[str, str] | None:
        """Return what is filled in, if a line is this command."""
        pattern = re.escape(self.words)
        for word, filled in FILLED:
            pattern = pattern.replace(word, filled, 1)
        found = re.fullmatch(pattern.replace(r"\ ", r"\s+"), line.strip())
        return found.groupdict() if found else None


VENDORS: dict[str, tuple[Command, ...]] = {
    "bollard": (
        Command("read sheet", "show", "print the sheet that is in force"),
        Command("read filed sheet", "show-saved", "print the sheet that is in force after a restart"),
        Command("read number", "revision", "print the number of the sheet that is in force"),
        Command("trial SECONDS after REVISION", "begin", "take a sheet, and go back after so long if it is not kept"),
        Command("trial state", "state", "say whether a sheet is on trial"),
        Command("trial keep", "confirm", "keep the sheet that is on trial"),
        Command("trial end", "back", "go back to the sheet before"),
        Command("file sheet", "save", "have the sheet in force after a restart, too"),
        Command("knock HOST HOST SERVICE", "come", "pretend that a packet comes, and say where it gets"),
        Command("read tally", "hits", "print how often each paragraph was used", "line {line}: used {count}"),
        Command(
            "read guests", "translations", "print who passes under another address",
            "{protocol} {source} door {source_port} to {destination} door {port},"
            " answered {back_source} door {back_source_port} to {back_destination} door {back_port}",
        ),
        Command(
            "read doorsteps", "neighbours", "print next hops that do not answer",
            "{address} at {interface} is {failed}",
        ),
        Command(
            "read ports", "interfaces", "print the state of the ports",
            "{interface} {carrier}, wrong in {received_errors}, wrong out {sent_errors}",
        ),
        Command("restart gateway", "restart", "start again with the filed sheet"),
        Command("help", "help", "print this"),
        Command("goodbye", "leave", "end the session"),
    ),
    "mooring": (
        Command("chart", "show", "print the chart in use"),
        Command("chart stowed", "show-saved", "print the chart for the next start"),
        Command("chart mark", "revision", "print the mark of the chart in use"),
        Command("steer SECONDS from REVISION", "begin", "take a chart, and turn back after so long unless it is held"),
        Command("steer state", "state", "say whether a chart is being tried"),
        Command("hold", "confirm", "hold on to the chart being tried"),
        Command("turn back", "back", "go back to the chart before"),
        Command("stow", "save", "use the chart at the next start, too"),
        Command("drift HOST HOST SERVICE", "come", "pretend that a packet comes, and say where it ends"),
        Command("log counts", "hits", "print how often each rule was used", "(rule-at {line} used {count})"),
        Command(
            "log voyages", "translations", "print what sails under another address",
            "(voyage {protocol} (out {source} {source_port} {destination} {port})"
            " (home {back_source} {back_source_port} {back_destination} {back_port}))",
        ),
        Command(
            "log lookout", "neighbours", "print next hops that do not answer",
            "({failed} {address} off {interface})",
        ),
        Command(
            "log lines", "interfaces", "print the state of the interfaces",
            "(line {interface} ({carrier}) (bad-in {received_errors}) (bad-out {sent_errors}))",
        ),
        Command("weigh anchor", "restart", "start again with the stowed chart"),
        Command("help", "help", "print this"),
        Command("ashore", "leave", "end the session"),
    ),
    "tideway": (
        Command("tables", "show", "print the tables in force"),
        Command("tables kept", "show-saved", "print the tables of the next start"),
        Command("tables stamp", "revision", "print the stamp of the tables in force"),
        Command("flood SECONDS over REVISION", "begin", "take tables, which ebb after so long unless they stand"),
        Command("flood state", "state", "say whether tables are waiting to stand"),
        Command("stand", "confirm", "let the new tables stand"),
        Command("ebb", "back", "go back to the tables before"),
        Command("keep tables", "save", "have the tables at the next start, too"),
        Command("cast HOST HOST SERVICE", "come", "pretend that a packet comes, and say if it strands"),
        Command("tables marks", "hits", "print how often each row was used", "{line} {count}"),
        Command(
            "tables crossings", "translations", "print what crosses under another address",
            "{protocol} {source} {source_port} {destination} {port} | {back_source} {back_source_port}"
            " {back_destination} {back_port}",
        ),
        Command("tables shoals", "neighbours", "print next hops that do not answer", "{address} {interface} {failed}"),
        Command(
            "tables gauges", "interfaces", "print the state of the ports",
            "{interface} {carrier} {received_errors} {sent_errors}",
        ),
        Command("slack water", "restart", "start again with the kept tables"),
        Command("help", "help", "print this"),
        Command("depart", "leave", "end the session"),
    ),
}  # fmt: skip


class Leave(Exception):
    """The session ends."""


class Console:
    """The command line of a device.

    Args:
        device: The device.
        read: Returns the text that follows a command.
    """

    def __init__(self, device: Standin, read: Callable[[], str] = lambda: "") -> None:
        self.device, self.read = device, read
        self.commands = VENDORS[device.dialect]

    def run(self, line: str, text: str = "") -> str:
        """Run a line; return what is printed.

        Args:
            line: The line.
            text: What follows it, where a configuration is taken.

        Raises:
            Refused: If it is no command, or the device does not do it.
            Leave: If it ends the session.
        """
        for command in self.commands:
            filled = command.read(line)
            if filled is not None:
                return self._done(command, filled, text)
        near = get_close_matches(line.strip(), [each.words for each in self.commands], 1, 0.5)
        hint = f"did you mean `{near[0]}`?" if near else "`help` lists what there is"
        raise Refused(f"{line.strip().split()[0] if line.strip() else 'nothing'!r} is no command here: {hint}")

    def takes_text(self, line: str) -> bool:
        """Tell whether a configuration follows a line."""
        return any(each.action == "begin" and each.read(line) is not None for each in self.commands)

    def completed(self, line: str) -> list[str]:
        """Return how a line that was begun could go on, word by word."""
        begun = line.lstrip()
        found = [each.words for each in self.commands if each.words.startswith(begun)]
        ends = {words[: (words + " ").index(" ", len(begun))] for words in found if len(words) > len(begun)}
        return sorted(ends)

    def help(self) -> str:
        """Return the list of commands."""
        width = max(len(each.words) for each in self.commands)
        return "".join(f"  {each.words:<{width}}  {each.help}\n" for each in self.commands)

    def _done(self, command: Command, filled: dict[str, str], text: str) -> str:
        device = self.device
        match command.action:
            case "show":
                return device.printed(device.running)
            case "show-saved":
                return device.printed(device.saved)
            case "revision":
                return f"{device.revision}\n"
            case "state":
                return "on trial\n" if device.on_trial else "settled\n"
            case "begin":
                device.begin(text, int(filled["seconds"]), filled["revision"])
                return "on trial\n"
            case "come":
                return f"{device.pretend((filled['source'], filled['destination'], filled['service']))}\n"
            case "hits" | "translations" | "neighbours" | "interfaces":
                told = [{name: "-" if value is None else value for name, value in each.items()}
                        for each in device.doing(command.action)]  # fmt: skip
                return "".join(f"{command.line.format(**each)}\n" for each in told)
            case "help":
                return self.help()
            case "leave":
                raise Leave
        {"confirm": device.confirm, "back": device.back, "save": device.save, "restart": device.restart}[
            command.action
        ]()
        return "done\n"
