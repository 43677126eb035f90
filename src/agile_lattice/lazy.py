"""Names of a package that are imported when somebody uses them: a command loads no more than it needs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def imported_when_used(package: str, homes: Mapping[str, str]) -> Callable[[str], Any]:
    """Return the `__getattr__` of a package (PEP 562).

    Args:
        package: Its name.
        homes: Where each of its names is: the module within the package, and with a dot the name there.
    """

    def find(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        module, _, attribute = homes[name].rpartition(".")
        if not module:
            return import_module(f"{package}.{attribute}")
        return getattr(import_module(f"{package}.{module}"), attribute)

    return find
