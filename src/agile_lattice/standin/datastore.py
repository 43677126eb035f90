"""The data of a stand-in with RESTCONF: what a path leads to (RFC 8040, 3.5.3), and edits of it (RFC 8072, 2.5)."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple
from urllib.parse import unquote

Keys = Mapping[str, Sequence[str]]
Data = dict[str, Any]


class NotDone(Exception):
    """An edit cannot be made, or a path leads nowhere; `missing` if because something is not there."""

    def __init__(self, words: str, missing: bool = False) -> None:
        self.missing = missing
        super().__init__(words)


class Step(NamedTuple):
    """One step of a path: the module that it names, or the one before it; the name; and the keys of an entry."""

    module: str
    name: str
    keys: tuple[str, ...]

    def __str__(self) -> str:
        return self.name + (f"={','.join(self.keys)}" if self.keys else "")


def steps_of(path: str, around: Sequence[Step] = ()) -> list[Step]:
    """Return the steps of a path below the datastore, or below another resource."""
    steps = list(around)
    for each in path.strip("/").split("/") if path.strip("/") else ():
        name, _, keys = each.partition("=")
        module, colon, local = unquote(name).rpartition(":")
        before = steps[-1].module if steps else ""
        steps.append(Step(module if colon else before, local, tuple(map(unquote, keys.split(","))) if keys else ()))
    return steps


def found(document: Data, steps: Sequence[Step], keys: Keys) -> Data:
    """Return the resource at a path, under its name.

    Raises:
        NotDone: If there is none.
    """
    here: list[Any] = [document]
    for step in steps:
        below = [value for each in here for name, value in each.items() if _is(name, step)]
        here = [one for each in below for one in (each if isinstance(each, list) else [each])]
        if step.keys:
            here = [each for each in here if _key(each, step, keys) == step.keys]
        if not here or (step is not steps[-1] and not all(isinstance(each, dict) for each in here)):
            raise NotDone(f"there is no {step}", missing=True)
    last = steps[-1]
    return {f"{last.module}:{last.name}": here if last.name in keys else here[0]}


def edited(document: Data, steps: Sequence[Step], operation: str, value: Any, keys: Keys) -> Data:
    """Return a document after one edit.

    Args:
        document: The data.
        steps: Where to.
        operation: One of `create`, `merge`, `replace`, `delete` and `remove`.
        value: The new resource, under its name.
        keys: By the name of a list, the names of its keys.

    Raises:
        NotDone: If it cannot be made.
    """
    if not steps:
        raise NotDone("the datastore as a whole is not edited here: name a resource")
    made: Data = copy.deepcopy(document)
    holder, module = made, ""
    for step in steps[:-1]:
        inside = _at(holder, step, keys)
        if not isinstance(inside, dict):
            raise NotDone(f"there is no {step} to hold it", missing=True)
        holder, module = inside, step.module
    last = steps[-1]
    there = _at(holder, last, keys)
    if operation in ("remove", "delete"):
        if there is None and operation == "delete":
            raise NotDone(f"there is no {last}", missing=True)
        _put(holder, last, module, None, keys)
        return made
    if operation not in ("create", "merge", "replace"):
        raise NotDone(f"{operation} is not done here: its lists have no order")
    if operation == "create" and there is not None:
        raise NotDone(f"{last} is there already")
    new = _value(value, last, keys)
    _put(holder, last, module, _merged(there, new, keys) if operation == "merge" else new, keys)
    return made


def _is(name: str, step: Step) -> bool:
    return name in (step.name, f"{step.module}:{step.name}")


def _key(entry: Any, step: Step, keys: Keys) -> tuple[str, ...]:
    return tuple(str(entry.get(each)) for each in keys.get(step.name, ())) if isinstance(entry, dict) else ()


def _at(holder: Data, step: Step, keys: Keys) -> Any:
    """Return what stands at a step: a member, or the entry with its keys."""
    value = next((value for name, value in holder.items() if _is(name, step)), None)
    if isinstance(value, list):
        return next((each for each in value if step.keys and _key(each, step, keys) == step.keys), None)
    return value if not step.keys else None


def _put(holder: Data, step: Step, module: str, value: Any, keys: Keys) -> None:
    """Put a value at a step in place of what is there; none takes it away."""
    known = next((name for name in holder if _is(name, step)), None)
    name = known or (step.name if step.module == module else f"{step.module}:{step.name}")
    if step.name not in keys:
        entries = value
    else:
        rest = [each for each in holder.get(name, ()) if not step.keys or _key(each, step, keys) != step.keys]
        entries = rest + ([] if value is None else [value])
    if entries is None or entries == []:
        holder.pop(name, None)
    else:
        holder[name] = entries


def _value(value: Any, step: Step, keys: Keys) -> Any:
    """Return what an edit puts somewhere, without its name."""
    named = [each for name, each in value.items() if _is(name, step)] if isinstance(value, dict) else []
    if len(named) != 1 or len(value) != 1:
        raise NotDone(f"its value is not one {step.module}:{step.name}")
    if step.name not in keys:
        return named[0]
    entry = named[0][0] if isinstance(named[0], list) and len(named[0]) == 1 else named[0]
    if not step.keys or _key(entry, step, keys) != step.keys:
        raise NotDone(f"its value is not the entry {step}")
    return entry


def _merged(there: Any, new: Any, keys: Keys) -> Any:
    """Return what is there with what is new laid over it."""
    if not (isinstance(there, dict) and isinstance(new, dict)):
        return new
    made = dict(there)
    for name, value in new.items():
        local = name.rpartition(":")[2]
        if local in keys and isinstance(value, list) and isinstance(made.get(name), list):
            step = Step("", local, ())
            entries = {_key(each, step, keys): each for each in made[name]}
            for each in value:
                entries[_key(each, step, keys)] = _merged(entries.get(_key(each, step, keys)), each, keys)
            made[name] = list(entries.values())
        else:
            made[name] = _merged(made.get(name), value, keys)
    return made
