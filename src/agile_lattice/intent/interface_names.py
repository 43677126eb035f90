"""Names of interfaces in rules, as some devices have them: `!lan0` is any other interface, `eth*` any that begins so.

An intent names its interfaces; only what was read of a device has others.
"""

from __future__ import annotations

from functools import lru_cache


@lru_cache(10_000)
def includes(names: tuple[str, ...] | None, name: str) -> bool:
    """Tell whether an interface is one of those that are named or described; `None` is any.

    Of several that it is not to be, it is none.
    """
    if names is None:
        return True
    others = [each for each in names if each.startswith("!")]
    return any(_is(each, name) for each in names if each not in others) or (
        bool(others) and all(_is(each, name) for each in others)
    )


def is_plain(name: str) -> bool:
    """Tell whether it is the name of one interface."""
    return not name.startswith("!") and not name.endswith("*")


def _is(described: str, name: str) -> bool:
    if described == name:
        return True
    if described.startswith("!"):
        return not _is(described[1:], name)
    return described.endswith("*") and name.startswith(described[:-1])
