"""The rulebook of design checks, one theme a file."""

from agile_lattice.checks import addresses, routes, translations
from agile_lattice.checks.rulebook import RULEBOOK, Check, Finding, findings

__all__ = ["RULEBOOK", "Check", "Finding", "addresses", "findings", "routes", "translations"]
