"""The design checks, one theme a file.

In comes a network; out come findings, each with its place, what is wrong, and what to do.
"""

from agile_lattice.checks import (
    addresses,
    answering,
    blocks,
    connections,
    interfaces,
    leaving,
    management,
    order,
    permits,
    pools,
    publishing,
    reachability,
    replies,
    routes,
    series,
    services,
    summaries,
    values,
)
from agile_lattice.checks.registry import CHECKS, Check, Finding, example_intent, findings

__all__ = [
    "CHECKS", "Check", "Finding", "addresses", "answering", "blocks", "connections", "example_intent", "findings",
    "interfaces", "leaving", "management", "order", "permits", "pools", "publishing", "reachability", "replies",
    "routes", "series", "services", "summaries", "values",
]  # fmt: skip
