"""What tests ask of their surroundings: where things are, and how many examples the laws try."""

from __future__ import annotations

import os
from pathlib import Path

import agile_lattice

#: The checkout: its examples, its documents, what the tests themselves have in files.
ROOT = Path(__file__).parent.parent

#: The demo as it was installed, which need not be in the checkout.
DEMO = Path(agile_lattice.__file__).parent / "demo"

_TIMES = float(os.environ.get("LATTICE_EXAMPLES", "1"))


def examples(count: int) -> int:
    """Return how many examples a law tries, of those that `make test` tries: `make proofs` takes more of them."""
    return max(1, round(count * _TIMES))
