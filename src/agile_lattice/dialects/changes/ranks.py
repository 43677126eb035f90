"""Lists in which order counts: by position, or by written ranks."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from agile_lattice.dialects.changes.outline import Node
from agile_lattice.dialects.facts import InterfaceResolverFact
from agile_lattice.dialects.semantics import STEP, by_rank

# What tells lists of one kind apart, by field; what an interface has for names counts in their order within a family.
ORDERED = {
    "rule": "stage",
    "permit": "",
    "access": "",
    "resolver": "",
    "host": "name",
    "interface-resolver": "interface",
    "interface-search": "interface",
}


def list_of(node: Node) -> object:
    """Return the list that a statement stands in, if order counts there."""
    if node.kind is None or node.kind.name not in ORDERED or node.fact is None:
        return None
    if node.phrase is not None and "rank" in node.phrase.constants:
        return None  # it has its place by what it is, as what is done with the rest
    family = node.fact.address.family if isinstance(node.fact, InterfaceResolverFact) else None
    return node.kind.name, getattr(node.fact, ORDERED[node.kind.name], ""), family


def unranked(node: Node) -> Any:
    """Return the fact of a statement without its rank: that is its place in the list, and not what it says."""
    fact: Any = node.fact
    return replace(fact, rank=None) if rank_of(node) is not None else fact


def rank_of(node: Node) -> int | None:
    """Return the rank that is written in a statement, if its list has ranks."""
    return getattr(node.fact, "rank", None) if list_of(node) else None


def positions(nodes: Sequence[Node]) -> list[int]:
    """Return for each statement when it is looked at: by its rank, or as it stands."""
    if all(rank_of(node) is None for node in nodes):
        return list(range(len(nodes)))
    order = sorted(range(len(nodes)), key=lambda index: by_rank(nodes[index].fact) if list_of(nodes[index]) else ())
    found = [0] * len(nodes)
    for position, index in enumerate(order):
        found[index] = position
    return found


def ranked(before: Sequence[Node], after: Sequence[Node], partner: dict[int, int]) -> list[Node]:
    """Give what comes in a rank between those that stay.

    Args:
        before: What is there.
        after: What is to be there.
        partner: Which of the one stays as which of the other. Where there is no room between two ranks the whole
            list is written anew: its pairs are taken out.

    Returns:
        What is to be there, with these ranks.
    """
    result = list(after)
    kept = {goal: here for here, goal in partner.items()}
    lists: dict[object, list[int]] = defaultdict(list)
    for index, node in enumerate(after):
        if rank_of(node) is not None:
            lists[list_of(node)].append(index)
    for members in lists.values():
        known = {goal: rank_of(before[kept[goal]]) or 0 for goal in members if goal in kept}
        if not known:
            continue
        for goal, rank in _between(members, known):
            if rank is None:
                for each in known:
                    partner.pop(kept[each], None)
                break
            result[goal] = _with_rank(after[goal], rank)
        else:
            continue
        for goal in members:
            result[goal] = after[goal]
    return result


def _between(members: Sequence[int], known: Mapping[int, int]) -> Iterator[tuple[int, int | None]]:
    """Yield a rank for each new member of a list; `None` if there is no room."""
    run: list[int] = []
    last = 0
    for goal in members:
        if goal not in known:
            run.append(goal)
            continue
        yield from _spread(run, last, known[goal])
        run, last = [], known[goal]
    yield from _spread(run, last, last + STEP * (len(run) + 1))


def _spread(run: Sequence[int], low: int, high: int) -> Iterator[tuple[int, int | None]]:
    step = (high - low) // (len(run) + 1)
    for number, goal in enumerate(run, 1):
        yield goal, low + number * step if step else None


def _with_rank(node: Node, rank: int) -> Node:
    assert node.phrase is not None and node.kind is not None
    fact: Any = node.fact
    fact = replace(fact, rank=rank)
    shape = node.phrase.shapes.of(node.kind.traits(fact))
    assert shape is not None
    return replace(node, fact=fact, statement=replace(node.statement, text=shape.fill(fact)))
