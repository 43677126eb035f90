"""A device to practise on: its running and its saved configuration, and one that is on trial."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable
from typing import Literal

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.asking import What
from agile_lattice.dialects.assembly import as_intent
from agile_lattice.dialects.errors import DialectError
from agile_lattice.intent.model import Device
from agile_lattice.notation.errors import NotationError
from agile_lattice.standin.traffic import Facts, Traffic, first_way, told

Fault = Literal["slow", "refuse", "silent", "drop", "half", "restart", "shuffle", "unplugged", "xml-only"]
FAULTS: dict[Fault, str] = {
    "slow": "takes two seconds for each answer",
    "refuse": "takes no configuration",
    "silent": "takes a connection, and never answers",
    "drop": "drops the connection when a configuration comes on trial, and takes no other until it is gone",
    "half": "puts on trial only the first half of what is new",
    "shuffle": "prints interfaces and routes in another order than they were written in",
    "restart": "starts again, with what is saved, when a configuration comes on trial",
    "xml-only": "answers by RESTCONF in XML only",
    "unplugged": "has no carrier on the interface of its first route",
}
SLOW = 2.0  # seconds
LONGEST = 3600  # seconds that a configuration may be on trial


class Refused(Exception):
    """The device does not do what it was told; the message says why."""


class Moved(Refused):
    """The running configuration is another one than was said."""


class Trial(msgspec.Struct):
    """A configuration on trial.

    Attributes:
        before: What the device goes back to.
        until: When, on the device's clock.
    """

    before: str
    until: float


class Standin:
    """A device.

    Args:
        name: Its name.
        dialect: What it speaks.
        text: Its configuration, running and saved.
        faults: What goes wrong.
        clock: Its clock, in seconds.
    """

    def __init__(
        self, name: str, dialect: str, text: str, faults: frozenset[Fault] = frozenset(),
        clock: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self.name, self.dialect, self.faults, self._clock = name, dialect, faults, clock
        self._running = self.saved = text
        self._trial: Trial | None = None
        self.traffic = Traffic()

    @property
    def running(self) -> str:
        """The running configuration: a trial that nobody confirmed in time is over."""
        if self._trial is not None and self._clock() >= self._trial.until:
            self._running, self._trial = self._trial.before, None
        return self._running

    def printed(self, text: str) -> str:
        """Return a configuration as the device prints it."""
        if "shuffle" not in self.faults:
            return text
        device = self._read(text)
        other = replace(device, interfaces=device.interfaces[::-1], routes=device.routes[::-1])
        return "".join(each.text for each in render_device(other))

    def pretend(self, words: tuple[str, str, str]) -> str:
        """Pretend that a packet comes (source, destination, service), and return what becomes of it.

        Raises:
            Refused: If it is no packet, or nothing says where it comes in.
        """
        try:
            return self.traffic.send(self._now(), self.revision, words, self._unplugged)
        except NotationError as error:
            raise Refused(error.faults[0].what) from None

    def doing(self, what: What) -> list[Facts]:
        """Return what the device tells of what it does."""
        device = self._now()
        return list(told(what, device, self.traffic, self.revision, self._unplugged))

    @property
    def _unplugged(self) -> str:
        return first_way(self._now()) if "unplugged" in self.faults else ""

    def _now(self) -> Device:
        """Return the device as what it prints says: its rules stand where they are printed."""
        return self._read(self.printed(self.running))

    def _read(self, text: str) -> Device:
        return as_intent(read_device(self.name, [self.dialect], {"configuration": text}))[0]

    @property
    def on_trial(self) -> bool:
        """Whether a configuration is on trial."""
        return bool(self.running) and self._trial is not None

    @property
    def revision(self) -> str:
        """What tells one running configuration from another."""
        return hashlib.sha256(self.running.encode()).hexdigest()[:12]

    @property
    def cut_off(self) -> bool:
        """Whether nobody is let in, since that goes wrong here."""
        return "drop" in self.faults and self.on_trial

    def begin(self, text: str, seconds: int, revision: str) -> None:
        """Put a configuration on trial: unless it is confirmed, the device goes back by itself.

        Args:
            text: The whole configuration.
            seconds: How long it stays if nobody confirms it.
            revision: That of the configuration that it is meant to follow.

        Raises:
            Refused: If it cannot be read, another one is on trial, or the running one is not that one.
        """
        if not 1 <= seconds <= LONGEST:
            raise Refused(f"a trial takes from 1 to {LONGEST} seconds")
        if self.on_trial:
            raise Refused("another configuration is on trial")
        if revision != self.revision:
            raise Moved(f"the running configuration is {self.revision}, not {revision}")
        self._checked(text)
        before = self.running
        self._running = _half(before, text) if "half" in self.faults else text
        self._trial = Trial(before, self._clock() + seconds)
        if "restart" in self.faults:
            self.restart()

    def replace(self, text: str, revision: str) -> None:
        """Take a configuration for good, and save it; there is no trial.

        Args:
            text: The whole configuration.
            revision: That of the configuration that it is meant to follow.

        Raises:
            Refused: If it cannot be read, or the running one is not that one.
        """
        if revision != self.revision:
            raise Moved(f"the running configuration is {self.revision}, not {revision}")
        self._checked(text)
        if "restart" in self.faults:
            self.restart()
        else:
            self._running = self.saved = text

    def confirm(self) -> None:
        """Let the configuration on trial stay.

        Raises:
            Refused: If none is.
        """
        if not self.on_trial:
            raise Refused("no configuration is on trial")
        self._trial = None

    def back(self) -> None:
        """Go back to the configuration before the one on trial.

        Raises:
            Refused: If none is.
        """
        if not self.on_trial or self._trial is None:
            raise Refused("no configuration is on trial")
        self._running, self._trial = self._trial.before, None

    def save(self) -> None:
        """Save the running configuration.

        Raises:
            Refused: While one is on trial.
        """
        if self.on_trial:
            raise Refused("a configuration on trial is not saved: confirm it first")
        self.saved = self.running

    def restart(self) -> None:
        """Start again, with what is saved."""
        self._running, self._trial = self.saved, None

    def _checked(self, text: str) -> None:
        if "refuse" in self.faults:
            raise Refused("there is no room for another configuration")
        try:
            capture = read_device(self.name, [self.dialect], {"configuration": text})
        except DialectError as error:
            raise Refused(str(error).replace("\n", " ")) from None
        if capture.leftovers:
            first = capture.leftovers[0]
            raise Refused(f"line {first.place.line}: {first.text.strip() or first.reason}")


def _half(before: str, text: str) -> str:
    """Return a configuration in which only the first half of the new lines is new."""
    old, lines = before.splitlines(), text.splitlines()
    new = [line for line in lines if line not in old]
    left = {*new[len(new) // 2 :]}
    return "".join(f"{line}\n" for line in lines if line not in left)
