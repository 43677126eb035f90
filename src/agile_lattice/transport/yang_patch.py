"""The edits of a YANG Patch (RFC 8072) that make one document of another: as few and as small as there are."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import quote

Keys = Mapping[str, Sequence[str]]


def edits(before: Mapping[str, Any], after: Mapping[str, Any], keys: Keys) -> list[dict[str, Any]]:
    """Return the edits that make one document of another.

    Args:
        before: The document that there is (RFC 7951).
        after: The one to be.
        keys: By the name of a list, the names of its keys. A list that is not named is replaced with what holds it.

    Example:
        >>> edits({"a:x": {"y": 1}}, {"a:x": {"y": 2}}, {})
        [{'edit-id': '1', 'operation': 'replace', 'target': '/a:x/y', 'value': {'a:y': 2}}]
    """
    found = _between("", "", before, after, keys)
    return [{"edit-id": str(number), **each} for number, each in enumerate(found, 1)]


def _between(path: str, module: str, before: Any, after: Any, keys: Keys) -> Iterator[dict[str, Any]]:
    """Yield the edits between two objects that stand at a path, with names of a module unless they say another."""
    for name in {**before, **after}:
        old, new = before.get(name), after.get(name)
        if old == new:
            continue
        own, colon, local = name.rpartition(":")
        here, target = own if colon else module, f"{path}/{name}"
        named = f"{here}:{local}"
        if local in keys and all(isinstance(each, list | None) for each in (old, new)):
            yield from _entries(target, named, old or [], new or [], keys)
        elif isinstance(old, dict) and isinstance(new, dict) and _apart(old, new, keys):
            yield from _between(target, here, old, new, keys)
        elif new is None:
            yield {"operation": "remove", "target": target}
        else:
            yield {"operation": "create" if old is None else "replace", "target": target, "value": {named: new}}


def _apart(old: Mapping[str, Any], new: Mapping[str, Any], keys: Keys) -> bool:
    """Tell whether the members of an object can be edited each by itself."""
    changed = [name for name in {**old, **new} if old.get(name) != new.get(name)]
    whole = [name for name in changed if name.rpartition(":")[2] not in keys]  # a list without keys is one value
    return not any(isinstance(each.get(name), list) for each in (old, new) for name in whole)


def _entries(target: str, named: str, old: list[Any], new: list[Any], keys: Keys) -> Iterator[dict[str, Any]]:
    """Yield the edits of the entries of a list."""
    module, _, local = named.rpartition(":")
    were, are = ({_key(each, keys[local]): each for each in entries} for entries in (old, new))
    for key in {**were, **are}:
        at = f"{target}={key}"
        if key not in are:
            yield {"operation": "remove", "target": at}
        elif key not in were:
            yield {"operation": "create", "target": at, "value": {named: [are[key]]}}
        elif _apart(were[key], are[key], keys):
            yield from _between(at, module, were[key], are[key], keys)
        else:
            yield {"operation": "replace", "target": at, "value": {named: [are[key]]}}


def _key(entry: Mapping[str, Any], keys: Sequence[str]) -> str:
    return ",".join(quote(str(entry.get(each, "")), safe="") for each in keys)
