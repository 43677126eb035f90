"""Tells a notebook how values show themselves there."""

from __future__ import annotations

from functools import partial
from importlib import import_module
from typing import Any

SHOWN = (
    ("agile_lattice.intent.model", "Network", "network_html"),
    ("agile_lattice.checks.registry", "Finding", "finding_html"),
    ("agile_lattice.compare.differences", "Comparison", "comparison_html"),
    ("agile_lattice.behaviour.walking", "Walk", "walk_html"),
    ("agile_lattice.compare.equivalence", "Verdict", "verdict_html"),
)


def register() -> None:
    """Register the views; they are imported when a value is shown."""
    from IPython import get_ipython  # type: ignore[import-not-found, attr-defined, unused-ignore]

    shell: Any = get_ipython()  # type: ignore[no-untyped-call, unused-ignore]
    if shell is None:
        return  # IPython is there, and nobody uses it
    formatter = shell.display_formatter.formatters["text/html"]
    for module, name, view in SHOWN:
        formatter.for_type_by_name(module, name, partial(_shown, view))


def _shown(view: str, value: Any) -> str:
    html: str = getattr(import_module("agile_lattice.show.notebook"), view)(value)
    return html
