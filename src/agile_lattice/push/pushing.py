"""A push from end to end: look, work out, ask, carry, look again over a new connection, and decide."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from threading import Lock

import msgspec

from agile_lattice.archive.repository import Archive, ArchiveError, who
from agile_lattice.dialects.errors import DialectError
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.intent.model import Device
from agile_lattice.push.carrying import Carried, State, carry, take_back, unfinished
from agile_lattice.push.patching import Patched
from agile_lattice.push.planning import Plan, PushRefused, exact_script, look_script, plan_push, still_differs, trial_of
from agile_lattice.push.trials import OnTrial, on_trial, put_on_trial
from agile_lattice.transport.capturing import capture, resources_of, session_of
from agile_lattice.transport.errors import TransportError, main_message
from agile_lattice.transport.restconf import Restconf
from agile_lattice.transport.sessions import Session

FOR_THE_CHANGE = 60  # seconds that the programs of the device may take
WRITING = Lock()  # rounds of an archive follow each other


class Pushed(msgspec.Struct, frozen=True):
    """What came of a push.

    Attributes:
        device: The device's name.
        outcome: `kept` if the change is made and stays, `back` if the device is as it was, `none` if there was nothing
            to change or nobody wanted it, `stuck` if the device is neither. Of many devices also `refused` if its
            change may not be made, `left` if it was not begun, and `lost` if it was not reached any more.
        reason: Why it is not kept; empty if it is.
        revision: The round of the archive in which the device is as it became; empty if nothing was changed.
    """

    device: str
    outcome: str
    reason: str = ""
    revision: str = ""


class Pusher:
    """Pushes to one device.

    Args:
        intent: The device as it should be.
        archive: Where its captures are.
        catalogue: Where dialects are looked up.
        folder: Where file names of its connection begin.
        seal: The key by which secrets in captures are made unreadable.

    Raises:
        PushRefused: If the intent does not say how it is reached.
    """

    def __init__(self, intent: Device, archive: Archive, catalogue: Catalogue, folder: Path, seal: bytes) -> None:
        if intent.connection is None:
            raise PushRefused(intent.name, "the intent does not say how it is reached", "Say `connection`.")
        self.intent, self.archive, self.catalogue, self.seal = intent, archive, catalogue, seal
        self.dialects = [catalogue.dialect(each) for each in intent.speaks]
        self.session = session_of(intent.name, intent.connection, folder, self.dialects)
        self.trial = trial_of(self.dialects)
        self.revision = ""  # of the configuration that a change follows

    @property
    def goes_back(self) -> bool:
        """Whether the device takes a change back by itself, if nobody confirms it."""
        return not isinstance(self.session, Restconf)

    def plan(self, seconds: int) -> Plan | None:
        """Work out the change; `None` if there is nothing to change.

        Raises:
            PushRefused: If the device is not as the archive has it, or the change would not close all differences.
            TransportError: If it is not reached.
        """
        name = self.intent.name
        try:
            archived = self.archive.texts(self.archive.revision(), name)
        except ArchiveError:
            raise PushRefused(name, "the archive has no capture of it", "Capture it first, and look at it.") from None
        before, numbers = self._looked(), self._numbered()
        if isinstance(self.session, Restconf):
            self.revision = before
        elif self.trial is not None:
            self.revision = self.session.command(self.trial.revision).output.strip()
        now = self._captured()
        if self._looked() != before or self._numbered() != numbers:
            raise PushRefused(name, "it changes while it is looked at", "Try again when nobody works on it.")
        whole = self.trial is not None or isinstance(self.session, Restconf)
        return plan_push(self.intent, archived, now, before, self.catalogue, seconds, whole, numbers)

    def push(self, plan: Plan, tell: Callable[[str], None] = lambda words: None) -> Pushed:
        """Make a change that was worked out, and keep it if it does what it is for.

        Raises:
            TransportError: If the device cannot be reached any more: it goes back by itself then, if it does that.
        """
        self._kept(self._captured())  # the state to come back to
        carried: Carried | OnTrial | Patched
        if isinstance(self.session, Restconf):
            carried = Patched(self.session, plan.load, resources_of(self.dialects))
            carried.make(self.revision)
            state = carried.state
        elif self.trial is not None:
            carried = put_on_trial(self.session, self.trial, plan.load, self.revision)
            state = carried.state
        else:
            carried = carry(self.session, plan.load)
            state = carried.settled(("applied",), plan.load.seconds + FOR_THE_CHANGE)
        if state != "applied":
            return self._not_kept(state, carried.log())
        tell("made; looking at it over a new connection")
        return self._decided(carried, [each.dialect for each in plan.mending.mends], tell)

    def resume(self, tell: Callable[[str], None] = lambda words: None) -> Pushed | None:
        """Go on with a push of which this side was lost; `None` if none waits on the device to be confirmed.

        Raises:
            TransportError: If the device is not reached: what is not confirmed goes back by itself.
        """
        if isinstance(self.session, Restconf):
            return None  # there is no trial that could wait
        carried = unfinished(self.session) if self.trial is None else on_trial(self.session, self.trial)
        if carried is None:
            return None
        if isinstance(carried, Carried):
            state = carried.settled(("applied",), carried.seconds + FOR_THE_CHANGE)
            if state != "applied":
                return self._not_kept(state, carried.log())
        tell("made already; looking at it")
        return self._decided(carried, self.intent.speaks, tell)

    def _decided(
        self, carried: Carried | OnTrial | Patched, dialects: Sequence[str], tell: Callable[[str], None]
    ) -> Pushed:
        """Look at a change that was made, in some dialects, and keep it if it does what it is for."""
        try:
            left = still_differs(self.intent, self._captured(), self.catalogue, dialects)
        except TransportError as error:
            return self._failed(carried, f"it could not be looked at: {error.cause}")
        except DialectError as error:
            said = str(error).partition("\n")[0]
            return self._failed(carried, f"what it has now cannot be read: {said}")
        if left:
            return self._failed(carried, f"still different: {', '.join(left)}")
        state = carried.decide("confirm")
        if state != "kept":
            return self._not_kept(state, "the confirmation came too late")
        if self.trial is not None and self.trial.save and isinstance(self.session, Session):
            tell("confirmed; saving it")
            saved = self.session.command(self.trial.save)
            if saved.code:
                tell(f"it runs, and was not saved: {saved.complaint}")
        revision = self._kept(self._captured())
        self.archive.set_good(self.intent.name, revision)
        return Pushed(self.intent.name, "kept", "", revision)

    def take_back(self) -> State:
        """Take back a push that did not end; return what became of it, or nothing if there is none."""
        if isinstance(self.session, Restconf):
            return ""
        if self.trial is None:
            return take_back(self.session)
        return "" if self.session.command(self.trial.back).code else "back"

    def _failed(self, carried: Carried | OnTrial | Patched, said: str) -> Pushed:
        """Let a change go that does not do what it is for."""
        state = carried.decide("failed")
        if state == "stuck" and isinstance(carried, Patched):
            return Pushed(self.intent.name, state, carried.log())
        return self._not_kept(state, said)

    def _not_kept(self, state: State, said: str) -> Pushed:
        reasons = {
            "busy": "another push is under way",
            "moved": "it changed since the change was worked out",
            "stuck": "the way back did not lead to the state before; `lattice push --back` tries it again",
            "unarmed": "it could not be made sure that there is a way back: there may be no space left on the device",
        }
        outcome = "back" if state in ("busy", "moved", "unarmed") else state
        return Pushed(self.intent.name, outcome, reasons.get(state, main_message(said)))

    def _looked(self) -> str:
        if isinstance(self.session, Restconf):
            return self.session.tag()
        if self.trial is not None:
            return self.session.command(self.dialects[0].running.look).output
        return self.session.run(look_script(self.dialects)).output

    def _numbered(self) -> str:
        """Return the numbers by which a change may name things: it must be made for these."""
        script = exact_script(self.dialects) if self.trial is None and isinstance(self.session, Session) else ""
        return self.session.run(script).output if script and isinstance(self.session, Session) else ""

    def _captured(self) -> dict[str, str]:
        return capture(self.session, self.dialects, self.seal)

    def _kept(self, texts: dict[str, str]) -> str:
        with WRITING:
            return self.archive.write({self.intent.name: texts}, {}, who(), datetime.now(UTC))
