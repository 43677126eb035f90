"""The command lines of the fictional vendors: each has words of its own for what all of them can do."""

from __future__ import annotations

import re
from collections.abc import Callable
from difflib import get_close_matches
from typing import Literal

import msgspec

from agile_lattice.standin.device import Refused, Standin

Action = Literal[
    "show", "show-saved", "revision", "begin", "state", "confirm", "back", "save", "restart", "help", "leave"
]


class Command(msgspec.Struct, frozen=True):
    """A command of a vendor.

    Attributes:
        words: How it is typed; `SECONDS` and `REVISION` stand for what is filled in.
        action: What it does.
        help: What its help says.
    """

    words: str
    action: Action
    help: str

    def read(self, line: str) -> dict[str, str] | None:
        """Return what is filled in, if a line is this command."""
        pattern = (
            re.escape(self.words).replace("SECONDS", r"(?P<seconds>\d{1,6})").replace("REVISION", r"(?P<revision>\w+)")
        )
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
            case "help":
                return self.help()
            case "leave":
                raise Leave
        {"confirm": device.confirm, "back": device.back, "save": device.save, "restart": device.restart}[
            command.action
        ]()
        return "done\n"
