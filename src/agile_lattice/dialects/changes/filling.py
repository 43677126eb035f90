"""From steps to one transaction: blocks that are emptied and filled again, or altered statement by statement."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from agile_lattice.dialects.changes.alignment import Step
from agile_lattice.dialects.changes.outline import Node
from agile_lattice.dialects.dialect import Change, Form
from agile_lattice.dialects.surfaces import Statement, lines_of

Handles = Mapping[int, str]  # the numbers of statements, by the identity of these


class NoHandles(Exception):
    """A block holds what is not ours, and the capture does not tell the numbers of its statements.

    Attributes:
        block: The block, in words.
    """

    def __init__(self, block: str) -> None:
        self.block = block
        super().__init__(block)


def handles_of(change: Change, nodes: Iterable[Node], texts: Mapping[str, str]) -> Handles:
    """Return the numbers that captured statements have on the running system.

    Args:
        change: How the form is changed.
        nodes: The outline of the capture.
        texts: The captured texts, by file.
    """
    if not change.handle:
        return {}
    told = re.compile(change.handle)
    lines = {file: lines_of(text) for file, text in texts.items()}
    found: dict[int, str] = {}
    waiting = list(nodes)
    while waiting:
        node = waiting.pop()
        waiting += node.children or ()
        match = told.search(lines[node.file][node.statement.line - 1].rstrip())
        if match is not None:
            found[id(node.statement)] = match[1]
    return found


def refilled(form: Form, steps: Sequence[Step], handles: Handles | None = None) -> str:
    """Return one transaction that makes all changes.

    Args:
        form: The form of the configuration.
        steps: What changes.
        handles: The numbers of the statements that are there, if a capture can tell them. Then blocks are altered
            statement by statement; without them they are emptied and filled again, if all that is in them is ours.

    Raises:
        NoHandles: If some of them are needed and missing.
    """
    gone: list[Statement] = []
    return form.surface.print([*_refilled(steps, form.change, (), handles, gone), *gone])


def _refilled(
    steps: Iterable[Step], change: Change, around: tuple[str, ...], handles: Handles | None, gone: list[Statement]
) -> Iterator[Statement]:
    """Yield what makes changes; objects that go, which rules may use until then, are put into `gone`."""
    for step in steps:
        if not step.changes:
            continue
        heads = (*around, step.node.statement.text)
        named = (each for each in change.objects if heads[-1].startswith(f"{each} "))
        kind = next(named, heads[-1].partition(" ")[0])
        block = " ".join([*(each.partition(" ")[2] for each in around), heads[-1].removeprefix(kind).strip()])

        def say(template: str, text: str = "", kind: str = kind, block: str = block) -> Statement:
            return Statement(template.replace("%kind", kind).replace("%block", block).replace("%", text), 0)

        if step.after is None and kind in change.objects:
            gone.append(say(change.drop))
        elif step.after is None:
            yield from [say(change.empty), say(change.drop)] if around else [say(change.drop)]
        elif step.before is None:
            new = step.after.statement
            for head in reversed(around):
                new = Statement(head, 0, [new])
            yield new
        elif any(each.node.statement.children is not None for each in step.inside or ()):
            yield from _refilled(step.inside or (), change, heads, handles, gone)
        elif handles or (handles is not None and any(each.node.phrase is None for each in step.inside or ())):
            yield from _altered(step.inside or (), change, block, handles)
        else:
            yield say(change.empty)
            stays = [each.after for each in step.inside or () if each.after is not None]
            yield from [say(change.fill, each.statement.text) for each in stays if not _belongs_to_block(each)]


def _altered(steps: Sequence[Step], change: Change, block: str, handles: Handles) -> Iterator[Statement]:
    """Yield what alters a block: what goes is removed, and what comes in is put before what stays behind it."""

    def number(node: Node) -> str:
        if id(node.statement) not in handles:
            raise NoHandles(block)
        return handles[id(node.statement)]

    def say(template: str, handle: str = "", text: str = "") -> Statement:
        return Statement(template.replace("%handle", handle).replace("%block", block).replace("%", text), 0)

    for at, step in enumerate(steps):
        if step.stays:
            continue
        if step.before is not None:
            yield say(change.remove, number(step.before))
        if step.after is not None:
            rest = (each.before for each in steps[at + 1 :] if each.stays)
            behind = next((each for each in rest if each is not None and not _belongs_to_block(each)), None)
            text = step.after.statement.text
            yield say(change.insert, number(behind), text) if behind is not None else say(change.fill, "", text)


def _belongs_to_block(node: Node) -> bool:
    """Tell whether a statement says something of its block, and would not go when that is emptied."""
    return node.head or (node.phrase is not None and node.phrase.aside)
