"""What a push would do: the change, what it means, and why it may not be made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from agile_lattice.compare.comparing import compare
from agile_lattice.compare.differences import Comparison
from agile_lattice.compare.mending import Mend, Mending, mend
from agile_lattice.dialects import read_device
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.dialect import Dialect, Running, Trial
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.errors import LatticeError
from agile_lattice.intent.model import Device
from agile_lattice.push.carrying import Load
from agile_lattice.transport.capturing import SEALED


class PushRefused(LatticeError):
    """A push is not made.

    Attributes:
        device: The device's name.
        reason: Why not.
        remedy: What to do.
    """

    def __init__(self, device: str, reason: str, remedy: str = "") -> None:
        self.device, self.reason, self.remedy = device, reason, remedy
        super().__init__(device, reason, remedy)

    def __str__(self) -> str:
        return f"{self.device}: nothing was changed: {self.reason}" + (f"\n    {self.remedy}" if self.remedy else "")


class Plan(msgspec.Struct, frozen=True):
    """What a push would do.

    Attributes:
        mending: The change, and what differs now.
        load: What would be carried to the device.
    """

    mending: Mending
    load: Load

    @property
    def comparison(self) -> Comparison:
        """What differs now."""
        return self.mending.comparison


def plan_push(
    intent: Device,
    archived: Mapping[str, str],
    now: Mapping[str, str],
    before: str,
    catalogue: Catalogue,
    seconds: int,
    whole: bool,
    numbers: str = "",
) -> Plan | None:
    """Work out a push; `None` if there is nothing to change.

    Args:
        intent: The device as it should be.
        archived: Its texts as the archive has them: what somebody has looked at.
        now: Its texts as they are now.
        before: Its running state, as its dialects print it to be compared.
        catalogue: Where dialects are looked up.
        seconds: How long the change stays if nobody confirms it.
        whole: Whether the device takes one whole text.
        numbers: The numbers by which a change may name things there, as its dialects print them.

    Raises:
        PushRefused: If the device is not as it was captured, something is withheld, or a dialect cannot be told.
    """
    reads = [read_device(intent.name, intent.speaks, texts, catalogue) for texts in (archived, now)]
    if _known(reads[0]) != _known(reads[1]):
        raise PushRefused(
            intent.name, "it is not any more as it was captured",
            "Capture it again, and look at the difference before you push.",
        )  # fmt: skip
    mending = mend(intent, now.items(), catalogue)
    if mending.held:
        held = "; ".join(f"{each.subject} ({each.reason})" for each in mending.held)
        raise PushRefused(intent.name, f"withheld is {held}", "Settle that by hand, then push.")
    if not mending.mends:
        return None
    dialects = {name: catalogue.dialect(name) for name in intent.speaks}
    if whole:
        files = [file for each in mending.mends for file in each.files]
        if len(files) != 1 or any(each.how != "edited" for each in mending.mends):
            raise PushRefused(
                intent.name, "it takes one whole text, and the change is none",
                "Its change is printed by `lattice mend`: make it by hand.",
            )  # fmt: skip
        one = files[0]
        if SEALED in one.before + one.after:
            raise PushRefused(intent.name, "its text has a secret, which an archive cannot give back")
        return Plan(mending, Load(one.after, one.before, "", before, seconds))
    for each in mending.mends:
        running = dialects[each.dialect].running
        if not (running.whole if each.how == "edited" else running.apply):
            raise PushRefused(
                intent.name, f"{each.dialect} does not say how a running system is told a change",
                "Its change is printed by `lattice mend`: make it by hand.",
            )  # fmt: skip
        if each.how == "edited" and any(SEALED in one.before + one.after for one in each.files):
            raise PushRefused(intent.name, f"a text of {each.dialect} has a secret, which an archive cannot give back")
    look = look_script([*dialects.values()])
    if not before.strip():
        raise PushRefused(intent.name, "it prints nothing of its running state, by which to tell that it came back")
    given: dict[str, str] = {}
    change = "set -e\n" + "".join(_telling(dialects[each.dialect].running, each, given) for each in mending.mends)
    back = "".join(_telling(dialects[each.dialect].running, each, given, back=True) for each in mending.mends[::-1])
    exact = exact_script([*dialects.values()]) if numbers else ""
    return Plan(mending, Load(change, back, look, before, seconds, given, exact, numbers))


def trial_of(dialects: Sequence[Dialect]) -> Trial | None:
    """Return how a device puts a configuration on trial by itself, if it does."""
    return dialects[0].running.trial if len(dialects) == 1 and dialects[0].running.trial.begin else None


def look_script(dialects: Sequence[Dialect]) -> str:
    """Return the script that prints the running state of all that some dialects are about."""
    return "".join(f"{each.running.look}\n" for each in dialects if each.running.look)


def exact_script(dialects: Sequence[Dialect]) -> str:
    """Return the script that prints the numbers by which changes may name things."""
    return "".join(f"{each.running.exact}\n" for each in dialects if each.running.exact)


def _known(capture: Capture) -> tuple[object, ...]:
    return capture.device, [each.text for each in capture.leftovers]


def _telling(running: Running, one: Mend, files: dict[str, str], back: bool = False) -> str:
    """Return the lines of a script that make a change, or take it back; what programs read are files beside it."""
    if one.how == "edited":
        return "".join(_given(running.whole, each.before if back else each.after, files) for each in one.files)
    command = running.back if back and running.back else running.apply
    return _given(command, one.undo if back else one.change, files)


def _given(command: str, text: str, files: dict[str, str]) -> str:
    name = f"text-{len(files) + 1}"  # a text within the script would take space while it is given
    files[name] = f"{text.rstrip()}\n"
    return f"{command} <{name}\n"


def still_differs(intent: Device, texts: Mapping[str, str], catalogue: Catalogue, dialects: Sequence[str]) -> list[str]:
    """Return the subjects of what differs after a change in some dialects, as far as packets or it are concerned."""
    carried = {section for each in dialects for section in catalogue.dialect(each).carries}
    found = compare(intent, read_device(intent.name, intent.speaks, texts, catalogue)).differences
    return [each.subject for each in found if each.effect != "no-effect" and each.section in carried]
