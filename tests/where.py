"""Where things are: the checkout that these tests belong to, and the demo of the package that is being tested."""

from __future__ import annotations

from pathlib import Path

import agile_lattice

#: The checkout: its examples, its documents, what the tests themselves have in files.
ROOT = Path(__file__).parent.parent

#: The demo as it was installed, which need not be in the checkout.
DEMO = Path(agile_lattice.__file__).parent / "demo"
