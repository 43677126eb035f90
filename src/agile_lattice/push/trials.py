"""A change on a device that puts a configuration on trial by itself, and goes back unless it is confirmed in time."""

from __future__ import annotations

import time
from contextlib import suppress
from typing import Literal

from agile_lattice.dialects.dialect import Trial
from agile_lattice.push.carrying import PAUSE, TO_GO_BACK, Load, State
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.sessions import Session

LONGEST = 3600  # seconds that a trial may be meant to take


class OnTrial:
    """A configuration on trial.

    Args:
        session: The device.
        trial: How it does that.
        seconds: How long it is on trial at most.
        revision: That of the configuration before.
        state: What is known of it.
        said: What the device said.
        of_trial: Whether the revision is that of the configuration on trial instead.
    """

    def __init__(
        self, session: Session, trial: Trial, seconds: int, revision: str, state: State, said: str = "",
        of_trial: bool = False,
    ) -> None:  # fmt: skip
        self.session, self.trial, self.seconds, self.said = session, trial, seconds, said
        self.revision, self.of_trial = revision, of_trial
        self._state = state

    def decide(self, decision: Literal["confirm", "failed"]) -> State:
        """Say that it stays, or that it goes; return what became of it, which may be too late."""
        command = self.trial.confirm if decision == "confirm" else self.trial.back
        with suppress(TransportError):  # it goes back by itself then
            answer = self.session.command(command)
            if not answer.code:
                return "kept" if decision == "confirm" else "back"
            self.said = answer.complaint
        return self.gone()

    def gone(self) -> State:
        """Wait until the trial is over, and ask what is in force then: an answer may have been lost.

        Raises:
            TransportError: If it cannot be asked any more.
        """
        end = time.monotonic() + self.seconds + TO_GO_BACK
        while True:
            try:
                if self.trial.waiting not in self.session.command(self.trial.state).output:
                    same = self.session.command(self.trial.revision).output.strip() == self.revision
                    return "kept" if same == self.of_trial else "back"
                lost = TransportError(self.session.device, "the configuration is still on trial")
            except TransportError as error:
                lost = error
            if time.monotonic() > end:
                raise lost
            time.sleep(PAUSE)

    @property
    def state(self) -> State:
        """How far it is: `applied`, or why it is not."""
        return self._state

    def log(self) -> str:
        """Return what the device said."""
        return self.said


def on_trial(session: Session, trial: Trial) -> OnTrial | None:
    """Return what is on trial on a device; `None` if nothing is."""
    if trial.waiting not in session.command(trial.state).output:
        return None
    revision = session.command(trial.revision).output.strip()
    return OnTrial(session, trial, LONGEST, revision, "applied", of_trial=True)


def put_on_trial(session: Session, trial: Trial, load: Load, revision: str) -> OnTrial:
    """Put a configuration on trial.

    Args:
        session: The device.
        trial: How it does that.
        load: The configuration.
        revision: That of the configuration which it is meant to follow.

    Raises:
        TransportError: If the device is not reached, and nothing is known of the trial.
    """
    command = trial.begin.replace("%seconds", str(load.seconds)).replace("%revision", revision)
    try:
        answer = session.command(command, load.change)
    except TransportError as error:
        lost = OnTrial(session, trial, load.seconds, revision, "", "")
        state: State = "back" if lost.gone() == "back" else "moved"
        return OnTrial(session, trial, load.seconds, revision, state, f"the link was lost: {error.cause}")
    if answer.code:
        return OnTrial(session, trial, load.seconds, revision, "back", answer.complaint)
    return OnTrial(session, trial, load.seconds, revision, "applied")
