"""A change on its way: put on the device with its way back, watched, and decided about."""

from __future__ import annotations

import hashlib
import secrets
import shlex
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from importlib.resources import files
from typing import Literal

import msgspec

from agile_lattice.transport.errors import TransportError, main_message
from agile_lattice.transport.sessions import Session

HOME = "/run/agile-lattice"  # on the device: gone after a restart, as the change itself is
PAUSE = 0.2  # seconds between two questions
TO_GO_BACK = 60  # seconds that the way back may take, and a device to be reached again
MAY_HAVE_BEGUN = "`lattice push --resume` goes on with it, `--back` undoes it; and what nobody confirms goes back."
RESTARTED = "It may have been restarted: capture it, and look at the difference."
GONE = 3  # what a question exits with if the change is not there
State = Literal["", "armed", "applied", "kept", "back", "stuck", "busy", "moved", "unarmed", "unfinished"]
ENDS: tuple[State, ...] = ("kept", "back", "stuck", "busy", "moved", "unarmed", "unfinished")
SAID = ("armed", "applied", "kept", "back", "stuck", "busy", "moved", "unarmed")  # by the guard, in files
RESERVED = 16  # blocks of 4 KiB that are kept free for the way back


class Gone(TransportError):
    """A device has nothing of a change any more."""


class Load(msgspec.Struct, frozen=True):
    """What is carried to a device.

    Attributes:
        change, back: Scripts that make the change, and take it back; the second does no harm if the first was not made.
        look: A script that prints the running state.
        before: What that printed when the change was worked out.
        seconds: How long the change stays if nobody confirms it.
        files: What the scripts give to programs, by file name.
        exact: A script that prints the numbers by which the change names things, if it does; empty if not.
        numbers: What that printed when the change was worked out.
    """

    change: str
    back: str
    look: str
    before: str
    seconds: int
    files: Mapping[str, str] = {}
    exact: str = ""
    numbers: str = ""


class Carried:
    """A change on a device.

    Args:
        session: A shell on the device.
        name: The name of the change there.
        seconds: How long it stays if nobody confirms it.
    """

    def __init__(self, session: Session, name: str, seconds: int) -> None:
        self.session = session
        self.name = name
        self.seconds = seconds
        self.folder = f"{HOME}/{session.device}/{name}"

    def state(self) -> State:
        """Ask how far it is."""
        here = shlex.quote(self.folder)
        answer = self.session.run(
            f"cd {here} 2>/dev/null || exit {GONE}; cat outcome 2>/dev/null || cat state 2>/dev/null"
        )
        if answer.code == GONE:
            raise Gone(self.session.device, "the change is not there any more", remedy=RESTARTED)
        return _state(answer.output)

    def settled(self, wanted: Sequence[State], seconds: float) -> State:
        """Wait until it is in one of some states, or has ended; a device that is not reached may be again.

        Raises:
            TransportError: If it is not after so many seconds.
        """
        end = time.monotonic() + seconds
        while True:
            try:
                state = self.state()
                if state in wanted or state in ENDS:
                    return state
                lost = TransportError(self.session.device, f"the change is still {state or 'not begun'}")
            except Gone:
                raise
            except TransportError as error:
                lost = error
            if time.monotonic() > end:
                raise lost
            time.sleep(PAUSE)

    def decide(self, decision: Literal["confirm", "failed"]) -> State:
        """Say that it stays, or that it goes; return what became of it, which may be too late."""
        here = shlex.quote(self.folder)
        with suppress(TransportError):  # it goes back by itself then
            self.session.run(f"cd {here} && ln -s {decision} decided 2>/dev/null; true")
        return self.settled(ENDS, self.seconds + TO_GO_BACK)

    def log(self) -> str:
        """Return what the programs said that made the change and took it back."""
        here = shlex.quote(self.folder)
        return self.session.run(f"cd {here} && cat change.log back.log 2>/dev/null").output.strip()


def carry(session: Session, load: Load) -> Carried:
    """Put a change on a device and let its guard begin: from then on it goes back unless it is confirmed in time.

    Raises:
        TransportError: If the device was not reached, has not what the guard needs, or a push is unfinished there.
    """
    carried = Carried(session, f"{int(time.time())}-{secrets.token_hex(4)}", load.seconds)
    texts = {"guard.sh": guard(), "change.sh": load.change, "back.sh": load.back, "look.sh": load.look,
             "before": load.before, "exact.sh": load.exact, "exact": load.numbers, **load.files,
             **{f"is-{each}": f"{each}\n" for each in SAID}}  # fmt: skip
    try:
        answer = session.run(_upload(carried, texts, load.seconds))
    except TransportError as error:
        raise TransportError(
            session.device, "the connection was lost while the change was handed over, so it may have begun",
            error.cause, MAY_HAVE_BEGUN,
        ) from None  # fmt: skip
    if answer.code:
        cause = main_message(answer.complaint) or f"exit code {answer.code}"
        raise TransportError(session.device, "the change was not begun", cause)
    if answer.output.startswith("stuck "):
        name = answer.output.split()[1].rstrip("/")
        raise TransportError(
            session.device, "an earlier push left it neither as it was nor as it was to be", name,
            "Try its way back again with `lattice push --back`. Once it is settled by hand, remove "
            f"{HOME}/{session.device}/{name} there, and push again.",
        )  # fmt: skip
    if answer.output.startswith("unfinished "):
        name = answer.output.split()[1]
        raise TransportError(
            session.device,
            "an earlier push has not finished",
            name,
            "Finish it with `lattice push --resume`, or undo it with `lattice push --back`; then push again.",
        )
    return carried


def guard() -> str:
    """Return the guard: a script that a device runs while nobody is there to help it."""
    return files("agile_lattice.push").joinpath("guard.sh").read_text(encoding="utf-8")


def _upload(carried: Carried, texts: Mapping[str, str], seconds: int) -> str:
    mark = secrets.token_hex(16)
    home, name = shlex.quote(f"{HOME}/{carried.session.device}"), shlex.quote(carried.name)
    parts = "".join(f"cat >{file} <<'{mark}'\n{text}{_ended(text)}{mark}\n" for file, text in texts.items())
    sums = "".join(
        f"{hashlib.sha256((text + _ended(text)).encode()).hexdigest()}  {file}\n" for file, text in texts.items()
    )
    return f"""umask 077
for each in flock setsid cmp sha256sum; do
  command -v $each >/dev/null || {{ echo "$each is not there" >&2; exit 1; }}
done
mkdir -p {home} && cd {home} || exit 1
read -r now _ </proc/uptime
exec 9>lock
if flock -n 9; then
  for each in */; do
    [ -e "$each/end" ] && [ ! -e "$each/outcome" ] && {{ echo "unfinished $each"; exit 0; }}
    [ "$(cat "$each/outcome" 2>/dev/null)" = stuck ] && {{ echo "stuck $each"; exit 0; }}
  done
  for each in */; do
    [ -e "$each/outcome" ] && [ "$(cat "$each/asked-until" 2>/dev/null || echo 0)" -lt "${{now%.*}}" ] && rm -rf "$each"
  done
fi
exec 9>&-
mkdir .{carried.name} && cd .{carried.name} || exit 1
{parts}dd if=/dev/zero of=reserve bs=4096 count={RESERVED} 2>/dev/null
cat >sums <<'{mark}'
{sums}{mark}
whole() {{ [ "$(wc -l <sums)" -eq {len(texts)} ] && [ "$(wc -c <reserve)" -eq {RESERVED * 4096} ]; }}
sha256sum -c sums >/dev/null 2>&1 && whole || {{
  cd .. && rm -rf .{carried.name}
  echo "not all of the change could be written to {HOME}: there is no space, or no right" >&2; exit 1
}}
echo $((${{now%.*}} + {seconds + TO_GO_BACK})) >asked-until  # whoever pushes asks for as long what became of it
cd .. && mv .{carried.name} {name} || exit 1
setsid sh {name}/guard.sh "$PWD"/{name} {seconds} </dev/null >/dev/null 2>&1 &
sleep 0.2
setsid sh {name}/guard.sh "$PWD"/{name} {seconds} second </dev/null >/dev/null 2>&1 &
echo begun
"""


def unfinished(session: Session) -> Carried | None:
    """Return a change on a device that is not decided yet: this side was lost before it could be."""
    home = shlex.quote(f"{HOME}/{session.device}")
    answer = session.run(f"""cd {home} 2>/dev/null || exit 0
for each in */; do
  if [ -e "$each/end" ] && [ ! -e "$each/outcome" ]; then
    read -r s _ </proc/uptime
    echo "${{each%/}} $(($(cat "$each/end") / 100 - ${{s%.*}}))"; exit 0
  fi
done""")
    if not answer.output.strip():
        return None
    name, left = answer.output.split()
    return Carried(session, name, max(int(left), 0))


def take_back(session: Session) -> State:
    """Take back a push that did not end, whose guards are gone; return what became of it."""
    home = shlex.quote(f"{HOME}/{session.device}")
    answer = session.run(f"""cd {home} 2>/dev/null || exit 0
for each in */; do
  if [ -e "$each/end" ] && [ ! -e "$each/outcome" ]; then
    sh "$each/guard.sh" "$PWD/$each" 0 second; cat "$each/outcome"; exit 0
  fi
  if [ "$(cat "$each/outcome" 2>/dev/null)" = stuck ]; then
    sh "$each/guard.sh" "$PWD/$each" 0 again; cat "$each/outcome"; exit 0
  fi
done""")
    return _state(answer.output)


def _state(output: str) -> State:
    found: State = msgspec.convert(output.strip(), State)
    return found


def _ended(text: str) -> str:
    return "" if not text or text.endswith("\n") else "\n"
