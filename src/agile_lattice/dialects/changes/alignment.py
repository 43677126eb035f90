"""Two outlines side by side: what of the one stays, what goes, and what of the other comes in, and where."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Collection, Mapping, Sequence

import msgspec

from agile_lattice.dialects.changes.beside import beside, holds_others, sayings, without
from agile_lattice.dialects.changes.outline import Node
from agile_lattice.dialects.changes.ranks import list_of, positions, ranked, unranked
from agile_lattice.intent.model import Section
from agile_lattice.packets.order import longest_run

# What has no section of its own, and the sections for which it is there.
SHARED = ("zone", "address-set", "service")
FOR = {"interfaces", "translations", "permits"}


class Step(msgspec.Struct):
    """One position in a configuration that changes.

    Attributes:
        before: What stands there now; `None` for nothing.
        after: What is to stand there; `None` for nothing.
        inside: The steps of the block, if both are the same one.
    """

    before: Node | None
    after: Node | None
    inside: list[Step] | None = None

    @property
    def node(self) -> Node:
        """What stands there: now, or afterwards."""
        node = self.before or self.after
        assert node is not None
        return node

    @property
    def stays(self) -> bool:
        """Whether the statement stays as it is, whatever happens inside."""
        return self.before is self.after

    @property
    def changes(self) -> bool:
        """Whether anything is different afterwards."""
        return not self.stays or any(each.changes for each in self.inside or ())


def taken_back(steps: Sequence[Step]) -> list[Step]:
    """Return the steps that lead back."""
    return [Step(each.after, each.before, None if each.inside is None else taken_back(each.inside)) for each in steps]


def align(before: Sequence[Node], after: Sequence[Node], sections: Collection[Section]) -> list[Step]:
    """Find the fewest steps from one outline to another.

    What was not understood stays, and so does what belongs to other sections. Lists in which order counts keep
    it with the fewest moves.

    Args:
        before: The outline as it is.
        after: The outline as it is to be, as this dialect writes it.
        sections: The sections that may change.
    """
    partner = _partners(before, after)
    meant = {saying for _, what in sayings(after) for saying in what}
    said = {saying for index in partner for _, what in beside(before[index]) for saying in what}
    if said:
        after = without(after, said)
        partner = _partners(before, after)
    after = ranked(before, after, partner)
    behind = _insertions(before, after, {goal: here for here, goal in partner.items()}, sections)
    steps = behind[-1]
    for index, node in enumerate(before):
        goal = after[partner[index]] if index in partner else None
        step = _step(node, goal, sections)
        goes = {id(each) for each, what in beside(node) if not what <= meant and _may_change(each, sections)}
        if step.stays and goes:
            inside = step.inside or [Step(each, each) for each in node.children or ()]
            step.inside = [Step(each.before, None) if id(each.before) in goes else each for each in inside]
        steps += [step, *behind[index]]
    return steps


def _partners(before: Sequence[Node], after: Sequence[Node]) -> dict[int, int]:
    """Pair the statements that are the same ones: index before to index after."""
    waiting: dict[object, deque[int]] = defaultdict(deque)
    for index, node in enumerate(before):
        if not node.fixed:
            waiting[_identity(node)].append(index)
    lists: dict[object, list[tuple[int, int]]] = defaultdict(list)
    for index, node in enumerate(after):
        if not node.fixed and (found := waiting.get(_identity(node))):
            lists[list_of(node)].append((found.popleft(), index))
    kept = lists.pop(None, [])
    order = positions(before) if lists else []
    for members in lists.values():
        kept += [members[index] for index in longest_run([order[here] for here, _ in members])]
    return dict(kept) | _altered_pairs(before, after, dict(kept))


def _altered_pairs(before: Sequence[Node], after: Sequence[Node], kept: Mapping[int, int]) -> dict[int, int]:
    """Pair statements that are other facts, where the first has something inside that is to stay: it is altered."""
    free = {index: node for index, node in enumerate(after) if index not in {*kept.values()}}
    found: dict[int, int] = {}
    for index, node in enumerate(before):
        if index in kept or node.fixed or not holds_others(node) or list_of(node) is not None:
            continue
        match = next((goal for goal, each in free.items() if _is_alike(node, each)), None)
        if match is not None:
            found[index] = match
            del free[match]
    return found


def _is_alike(node: Node, other: Node) -> bool:
    """Tell whether two statements differ only in what stands inside, which says what fact they are."""
    said_inside = any(_is_own(each) for each in other.children or ())
    return said_inside and other.fact is not None and node.statement.text == other.statement.text


def _is_own(node: Node) -> bool:
    """Tell whether a statement inside one that is a fact says something of that fact."""
    return node.head or (node.phrase is not None and node.phrase.makes is None and not node.phrase.aside)


def _identity(node: Node) -> object:
    return node.slot if list_of(node) is None else ("fact", node.kind and node.kind.name, unranked(node))


def _insertions(
    before: Sequence[Node], after: Sequence[Node], kept: dict[int, int], sections: Collection[Section]
) -> dict[int, list[Step]]:
    """Return what comes in, by the index of the statement that it follows; -1 for the very beginning.

    It takes the place of one of its kind that goes; otherwise it follows its forerunner, in a list in which order
    counts the one in that list. Without one it stands before its successor.
    """
    stays = {*kept.values()}
    vacant: dict[object, deque[int]] = defaultdict(deque)
    for index, node in enumerate(before):
        if index not in stays and not node.fixed:
            vacant[_sort(node)].append(index)
    followers = _followers(after, kept)
    forerunner: dict[object, int] = {}
    behind: dict[int, list[Step]] = defaultdict(list)
    for index, node in enumerate(after):
        own = list_of(node)
        if index in kept:
            if not node.head:
                forerunner[own] = forerunner[None] = kept[index]
        elif _wanted(node, sections):
            follower, any_follower = followers[index]
            low = -1 if own is None else forerunner.get(own, -1)
            high = len(before) if own is None or follower is None else follower + 1
            free = vacant[_sort(node)]
            while free and free[0] < low:
                free.popleft()
            vacated = free.popleft() if free and free[0] < high else None
            places = (vacated, forerunner.get(own), follower, forerunner.get(None), any_follower)
            place = next((each for each in places if each is not None), len(before) - 1)
            behind[place].append(Step(None, node))
            forerunner[own] = forerunner[None] = place
    return behind


def _sort(node: Node) -> object:
    return list_of(node) or (node.kind and node.kind.name)


def _followers(after: Sequence[Node], kept: dict[int, int]) -> list[tuple[int | None, int | None]]:
    """Return for each statement the place before the next one that stays: of those in its list, and of all."""
    follower: dict[object, int] = {}
    found: list[tuple[int | None, int | None]] = [(None, None)] * len(after)
    for index in range(len(after) - 1, -1, -1):
        own = list_of(after[index])
        found[index] = follower.get(own), follower.get(None)
        if index in kept and not after[index].head:
            follower[own] = follower[None] = kept[index] - 1
    return found


def _step(node: Node, goal: Node | None, sections: Collection[Section]) -> Step:
    """Say what becomes of a statement that is there."""
    if node.fixed:
        return Step(node, node)
    if goal is None:
        return _left(node, sections)
    if node.around and node.children is not None and goal.children is not None:
        return Step(node, node, align(node.children, goal.children, sections))
    if node.fact is not None and not node.says_as(goal) and _is_alike(node, goal) and list_of(node) is None:
        return Step(node, node, _altered(node, goal) if _may_change(node, sections) else None)
    if node.fact is not None or node.children is None or goal.children is None:
        stays = list_of(node) or node.says_as(goal) or not (_may_change(node, sections) or _may_change(goal, sections))
        return Step(node, node if stays else goal)
    return Step(node, node, align(node.children, goal.children, sections))


def _altered(node: Node, goal: Node) -> list[Step]:
    """Say what becomes of the statements inside one that is to be another fact: what is said of that is replaced."""
    new = deque(each for each in goal.children or () if _is_own(each))
    steps: list[Step] = []
    last = 0
    for each in node.children or ():
        if not _is_own(each):
            steps.append(Step(each, each))
            continue
        other = new.popleft() if new else None
        same = other is not None and other.statement.text == each.statement.text and each.children is None
        steps.append(Step(each, each if same else other))
        last = len(steps)
    return [*steps[:last], *(Step(None, each) for each in new), *steps[last:]]


def _left(node: Node, sections: Collection[Section]) -> Step:
    """Say what becomes of a statement for which there is no other."""
    if node.fact is not None and any(each.phrase is None for each in node.children or ()):
        return Step(node, node)  # what was not understood would go with it
    if node.children is None or node.fact is not None:
        return Step(node, None if _may_change(node, sections) else node)
    inside = [_step(each, None, sections) for each in node.children]
    facts_go = any(each.after is None and not _is_always(each.node) for each in inside)
    others_stay = any(each.after is not None and not each.node.head for each in inside)
    holder = node.phrase is not None and node.phrase.makes is None
    if holder and facts_go and not others_stay:
        return Step(node, None)
    return Step(node, node, [Step(each.node, each.node) if _is_always(each.node) else each for each in inside])


def _is_always(node: Node) -> bool:
    return node.phrase is not None and node.phrase.always


def _may_change(node: Node, sections: Collection[Section]) -> bool:
    if node.kind is None:
        return _is_always(node)
    if node.says_default:
        return False
    if node.kind.name in SHARED:
        return not FOR.isdisjoint(sections)
    return node.kind.section in sections


def _wanted(node: Node, sections: Collection[Section]) -> bool:
    """Tell whether a statement is to come in: one that may change, or a block that holds such."""
    if node.fixed:
        return False
    if node.children is None or node.fact is not None:
        return _may_change(node, sections)
    own = node.phrase is not None and node.phrase.makes is not None and _may_change(node, sections)
    return own or any(_wanted(each, sections) and not _is_always(each) for each in node.children)
