"""Pushes to many devices: worked out several at a time, made in waves, and ended when too many of them fail."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

import msgspec

from agile_lattice.errors import LatticeError
from agile_lattice.push.planning import Plan, PushRefused
from agile_lattice.push.pushing import Pushed, Pusher
from agile_lattice.push.waves import Duty
from agile_lattice.transport.errors import TransportError

AT_ONCE = 16  # devices that are looked at
NOTHING = "it is as the intent says"
NO_WAY_BACK = "over RESTCONF it has no way back of its own: if the link is lost, a change stays (give --untimed)"


class Prepared(msgspec.Struct, frozen=True):
    """A change of a device that is worked out."""

    pusher: Pusher
    plan: Plan

    @property
    def name(self) -> str:
        """The device's name."""
        return self.pusher.intent.name


def prepared(pushers: Sequence[Pusher], seconds: int, untimed: bool) -> Iterator[Prepared | Pushed]:
    """Work out the changes of devices, and yield each in their order, or why there is none.

    Args:
        pushers: One for each device.
        seconds: How long a change stays if nobody confirms it.
        untimed: Whether devices are changed that have no way back of their own.
    """

    def prepare(pusher: Pusher) -> Prepared | Pushed:
        name = pusher.intent.name
        try:
            plan = pusher.plan(seconds)
        except PushRefused as error:
            return Pushed(name, "refused", ". ".join(filter(None, (error.reason, error.remedy))))
        except TransportError as error:
            return Pushed(name, "refused", ". ".join(filter(None, (error.cause, error.detail))))
        except LatticeError as error:
            return Pushed(name, "refused", str(error).partition("\n")[0])
        if plan is None:
            return Pushed(name, "none", NOTHING)
        if not pusher.goes_back and not untimed:
            return Pushed(name, "refused", NO_WAY_BACK)
        return Prepared(pusher, plan)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        yield from pool.map(prepare, pushers)


class Waves:
    """Changes that are made wave by wave.

    Args:
        waves: Those that are made at the same time.
        having: The duties of each device, by which some stand in for others.
        failures: How many may fail before no further wave is begun.
        tell: Is told what happens, in words.
    """

    def __init__(
        self, waves: Sequence[Sequence[Prepared]], having: Mapping[str, set[Duty]], failures: int,
        tell: Callable[[str], None] = lambda words: None,
    ) -> None:  # fmt: skip
        self.waves, self.having, self.failures, self.tell = waves, having, failures, tell
        self.failed: list[str] = []
        self.lost: list[str] = []  # of which nobody knows whether they work
        self.interrupted = False

    def push(self) -> Iterator[Pushed]:
        """Make the changes, and yield what comes of each device."""
        for number, wave in enumerate(self.waves, 1):
            reasons = {each.name: self._not_begun(each.name) for each in wave}
            yield from (Pushed(name, "left", why) for name, why in reasons.items() if why)
            begun = [each for each in wave if not reasons[each.name]]
            if begun:
                self.tell(f"wave {number} of {len(self.waves)}: {', '.join(each.name for each in begun)}")
                yield from self._made(begun)

    def _not_begun(self, name: str) -> str:
        """Tell why a change is not begun; empty if it is."""
        if self.interrupted:
            return "it was interrupted"
        if len(self.failed) > self.failures:
            return f"{', '.join(self.failed[:3])} failed"
        mine = self.having.get(name, set())
        other = next((each for each in self.lost if mine & self.having.get(each, set())), "")
        return f"{other}, which stands in for it, may not work" if other else ""

    def _made(self, wave: Sequence[Prepared]) -> Iterator[Pushed]:
        with ThreadPoolExecutor(len(wave)) as pool:
            for making in [pool.submit(_pushed, each) for each in wave]:
                done = self._ended(making)
                if done.outcome != "kept":
                    self.failed.append(done.device)
                if done.outcome in ("lost", "stuck"):
                    self.lost.append(done.device)
                yield done

    def _ended(self, making: Future[Pushed]) -> Pushed:
        """Wait for a change, also when somebody interrupts: what is begun ends well, or goes back by itself."""
        while True:
            try:
                return making.result()
            except KeyboardInterrupt:
                self.interrupted = True
                self.tell("interrupted: what is begun is ended, and nothing else begun")


def _pushed(prepared: Prepared) -> Pushed:
    try:
        return prepared.pusher.push(prepared.plan)
    except TransportError as error:
        back = "it goes back by itself" if prepared.pusher.goes_back else "it may be changed"
        return Pushed(prepared.name, "lost", f"{error.cause}; {back}")
    except LatticeError as error:
        return Pushed(prepared.name, "lost", str(error).partition("\n")[0])
