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
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from agile_lattice import frames
    from agile_lattice.behaviour.probing import plan_probes as probes
    from agile_lattice.behaviour.wording import follow as walk
    from agile_lattice.checks import findings as check
    from agile_lattice.compare.comparing import compare as diff
    from agile_lattice.compare.mending import mend
    from agile_lattice.compare.verdicts import between
    from agile_lattice.compare.verdicts import verdict as prove
    from agile_lattice.dialects import read_device as read
    from agile_lattice.dialects import render_device as render
    from agile_lattice.notation.loading import load, loads
    from agile_lattice.notation.writing import write

__all__ = [
    "between", "check", "diff", "frames", "load", "loads", "mend", "probes", "prove", "read", "render", "walk", "write",
]  # fmt: skip

_HOMES = {
    "between": ("agile_lattice.compare.verdicts", "between"),
    "check": ("agile_lattice.checks", "findings"),
    "diff": ("agile_lattice.compare.comparing", "compare"),
    "load": ("agile_lattice.notation.loading", "load"),
    "loads": ("agile_lattice.notation.loading", "loads"),
    "mend": ("agile_lattice.compare.mending", "mend"),
    "probes": ("agile_lattice.behaviour.probing", "plan_probes"),
    "prove": ("agile_lattice.compare.verdicts", "verdict"),
    "read": ("agile_lattice.dialects", "read_device"),
    "render": ("agile_lattice.dialects", "render_device"),
    "walk": ("agile_lattice.behaviour.wording", "follow"),
    "write": ("agile_lattice.notation.writing", "write"),
}


if "IPython" in sys.modules:
    import_module("agile_lattice.notebooks").register()


def __getattr__(name: str) -> Any:
    if name == "frames":
        return import_module("agile_lattice.frames")
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    module, attribute = _HOMES[name]
    return getattr(import_module(module), attribute)
