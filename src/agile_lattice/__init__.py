"""One intent. Every syntax. Proven the same.

    import agile_lattice as al

    network = al.load("intent/")
    for finding in al.check(network): ...
    for text in al.render(network.device("quay-edge")): ...
    capture = al.read("quay-edge", ["iproute2", "nftables"], {"nftables.nft": text})
    for difference in al.diff(network.device("quay-edge"), capture).differences: ...
    assert al.prove(network.device("quay-edge"), capture).same
    assert al.walk(network, "192.0.2.77", "203.0.113.5", "tcp/443", at="quay-edge:wan0").arrives
    table = al.frames.routes(network)
    for change in al.mend(network.device("quay-edge"), {"nftables.nft": text}.items()).mends: ...

Nothing is imported before it is used. In a notebook networks, findings, comparisons, walks and verdicts show
themselves.
"""

from __future__ import annotations

import sys
from importlib import import_module
from typing import TYPE_CHECKING

from agile_lattice.lazy import imported_when_used

__version__ = "0.1.0"

if TYPE_CHECKING:
    from agile_lattice import frames
    from agile_lattice.behaviour.flow_parsing import follow as walk
    from agile_lattice.behaviour.probing import ProbePlan
    from agile_lattice.behaviour.probing import plan_probes as probes
    from agile_lattice.behaviour.walking import Walk
    from agile_lattice.checks import Finding
    from agile_lattice.checks import findings as check
    from agile_lattice.compare.comparing import compare as diff
    from agile_lattice.compare.differences import Comparison, Difference, Witness
    from agile_lattice.compare.equivalence import Verdict, between
    from agile_lattice.compare.equivalence import verdict as prove
    from agile_lattice.compare.mending import Mending, mend
    from agile_lattice.dialects import Rendered
    from agile_lattice.dialects import read_device as read
    from agile_lattice.dialects import render_device as render
    from agile_lattice.dialects.assembly import Capture
    from agile_lattice.dialects.errors import DialectError, Refusal, Refusals
    from agile_lattice.errors import LatticeError, UnknownName
    from agile_lattice.intent.model import Device, Network
    from agile_lattice.notation.errors import NotationError
    from agile_lattice.notation.loading import load, loads
    from agile_lattice.notation.writing import write
    from agile_lattice.packets.boxes import Undecided

__all__ = [
    "Capture", "Comparison", "Device", "DialectError", "Difference", "Finding", "LatticeError", "Mending", "Network",
    "NotationError", "ProbePlan", "Refusal", "Refusals", "Rendered", "Undecided", "UnknownName", "Verdict", "Walk",
    "Witness", "__version__", "between", "check", "diff", "frames", "load", "loads", "mend", "probes", "prove", "read",
    "render", "walk", "write",
]  # fmt: skip

# Where each is, and under which name: nothing is imported before it is used.
_HOMES = {
    "Capture": "dialects.assembly.Capture",
    "Comparison": "compare.differences.Comparison",
    "Device": "intent.model.Device",
    "DialectError": "dialects.errors.DialectError",
    "Difference": "compare.differences.Difference",
    "Finding": "checks.Finding",
    "LatticeError": "errors.LatticeError",
    "Mending": "compare.mending.Mending",
    "Network": "intent.model.Network",
    "NotationError": "notation.errors.NotationError",
    "ProbePlan": "behaviour.probing.ProbePlan",
    "Refusal": "dialects.errors.Refusal",
    "Refusals": "dialects.errors.Refusals",
    "Rendered": "dialects.Rendered",
    "Undecided": "packets.boxes.Undecided",
    "UnknownName": "errors.UnknownName",
    "Verdict": "compare.equivalence.Verdict",
    "Walk": "behaviour.walking.Walk",
    "Witness": "compare.differences.Witness",
    "between": "compare.equivalence.between",
    "check": "checks.findings",
    "diff": "compare.comparing.compare",
    "frames": "frames",
    "load": "notation.loading.load",
    "loads": "notation.loading.loads",
    "mend": "compare.mending.mend",
    "probes": "behaviour.probing.plan_probes",
    "prove": "compare.equivalence.verdict",
    "read": "dialects.read_device",
    "render": "dialects.render_device",
    "walk": "behaviour.flow_parsing.follow",
    "write": "notation.writing.write",
}


if "IPython" in sys.modules:
    import_module("agile_lattice.notebooks").register()


__getattr__ = imported_when_used(__name__, _HOMES)
