"""What is done for each device of a fleet; what only one kind of work needs is imported when it is done."""

from __future__ import annotations

from typing import TYPE_CHECKING

from agile_lattice.dialects import Rendered, read_device, render_device
from agile_lattice.dialects.assuming import assuming
from agile_lattice.dialects.errors import Refusal, Refusals
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.usual import Assumption
from agile_lattice.fleet.tasks import Texts
from agile_lattice.intent.model import Device

if TYPE_CHECKING:
    from agile_lattice.compare.differences import Comparison
    from agile_lattice.compare.equivalence import Verdict
    from agile_lattice.compare.mending import Mending


def compared(device: Device, texts: Texts, catalogue: Catalogue, assume: tuple[Assumption, ...] = ()) -> Comparison:
    """Compare a device as it was captured with the intent; of one that was not nothing is known."""
    from agile_lattice.compare.comparing import compare
    from agile_lattice.compare.differences import Comparison

    if not texts:
        return Comparison(device.name, captured=False)
    return compare(device, assuming(read_device(device.name, device.speaks, texts, catalogue), assume, catalogue))


def proven(
    device: Device, texts: Texts, catalogue: Catalogue, running: bool = True, assume: tuple[Assumption, ...] = ()
) -> Verdict:
    """Prove what a device does with packets, as it was captured or rendered; of one that was not nothing is."""
    from agile_lattice.behaviour.proving import Proof
    from agile_lattice.compare.differences import NO_CAPTURE
    from agile_lattice.compare.equivalence import Verdict, verdict

    if not texts:
        return Verdict(device.name, Proof((), (), 0), (), (NO_CAPTURE,))
    capture = assuming(read_device(device.name, device.speaks, texts, catalogue), assume, catalogue)
    return verdict(device, capture, catalogue, running)


def mended(device: Device, texts: Texts, catalogue: Catalogue, consent: tuple[str, ...] = ()) -> Mending:
    """Find the changes that bring a device in line; `consent` names those that may lock its manager out.

    Of a device that was not captured nothing is known, so that nothing of it is changed.
    """
    from agile_lattice.compare.differences import Comparison
    from agile_lattice.compare.mending import Mending, mend

    if not texts:
        return Mending(device.name, Comparison(device.name, captured=False), (), ())
    return mend(device, texts, catalogue, consent)


def rendered(
    device: Device, _texts: Texts, catalogue: Catalogue, causes: bool = False
) -> tuple[tuple[Rendered, ...], tuple[Refusal, ...]]:
    """Render a device; return its texts, or what its dialects cannot express."""
    try:
        return tuple(render_device(device, catalogue, causes)), ()
    except Refusals as error:
        return (), tuple(error.refusals)
