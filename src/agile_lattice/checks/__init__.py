"""The rulebook of design checks, one theme a file."""

from agile_lattice.checks import (
    addresses,
    blocks,
    interfaces,
    leaving,
    order,
    permits,
    pools,
    publishing,
    reachability,
    routes,
    series,
    services,
    values,
)
from agile_lattice.checks.rulebook import RULEBOOK, Check, Finding, example_intent, findings

__all__ = [
    "RULEBOOK", "Check", "Finding", "addresses", "blocks", "example_intent", "findings", "interfaces", "leaving",
    "order", "permits", "pools", "publishing", "reachability", "routes", "series", "services", "values",
]  # fmt: skip
