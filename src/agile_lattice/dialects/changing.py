"""From steps to what is typed on a running system, or to its texts as they are to be."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import PurePath
from typing import Any

import msgspec

from agile_lattice.dialects.alignment import Step
from agile_lattice.dialects.dialect import Change, Form
from agile_lattice.dialects.outline import Node
from agile_lattice.dialects.surfaces import Edit, Statement, woven

NO_FILE = "/dev/null"  # what a patch calls a file that is not there


class TextChange(msgspec.Struct, frozen=True):
    """A text that changes.

    Attributes:
        file: Its name.
        before, after: All of it; empty if there is no such file.
    """

    file: str
    before: str
    after: str

    @property
    def back(self) -> TextChange:
        """The change that takes it back."""
        return TextChange(self.file, self.after, self.before)


def typed(form: Form, steps: Sequence[Step]) -> str:
    """Return the statements that change a running system: first all that comes in, then all that goes."""
    anew = [each for each in steps if each.before and each.after and not each.stays and _is_anew(each.before)]
    names = {each.node.value_of("interface") for each in anew}
    first = [each for step in anew if step.before for each in _without(step.before, form.change)]
    coming = _coming(steps, names)
    going = list(_going(steps, form.change))[::-1]
    return form.surface.print([*first, *coming, *going])


def _is_anew(node: Node) -> bool:
    return node.phrase is not None and node.phrase.anew


def _coming(steps: Iterable[Step], anew: Collection[Any]) -> Iterator[Statement]:
    """Yield what comes in, and what stays on interfaces that are made anew."""
    for step in steps:
        if step.stays:
            inside = list(_coming(step.inside or (), anew))
            if inside:
                yield Statement(step.node.statement.text, 0, inside)
            elif anew and step.node.value_of("interface") in anew:
                yield step.node.statement
        elif step.after is not None:
            yield step.after.statement


def _going(steps: Iterable[Step], change: Change) -> Iterator[Statement]:
    for step in steps:
        if step.after is not None:
            inside = list(_going(step.inside or (), change))[::-1]
            if inside:
                yield Statement(step.node.statement.text, 0, inside)
        elif step.before is not None:
            yield from _without(step.before, change)


def _without(node: Node, change: Change) -> Iterator[Statement]:
    """Yield what takes a statement away, or what stands inside it if it cannot go itself."""
    assert node.phrase is not None
    if node.phrase.gone is not None and node.kind is not None:
        fact: Any = node.fact or node.kind.record(**node.fields)
        shape = node.phrase.gone.of(node.kind.traits(fact))
        assert shape is not None, f"{node.phrase.text}: what takes it away cannot be said of {fact}"
        yield Statement(shape.fill(fact), 0)
    elif node.children is None and change.without:
        yield Statement(change.without.replace("%", node.statement.text), 0)
    else:
        inside = [each for child in node.children or () for each in _without(child, change)]
        if inside:
            yield Statement(node.statement.text, 0, inside)


def refilled(form: Form, steps: Sequence[Step]) -> str:
    """Return one transaction that empties every block in which something changes, and fills it again."""
    return form.surface.print(list(_refilled(steps, form.change, ())))


def _refilled(steps: Iterable[Step], change: Change, around: tuple[str, ...]) -> Iterator[Statement]:
    for step in steps:
        if not step.changes:
            continue
        heads = (*around, step.node.statement.text)
        kind = heads[-1].partition(" ")[0]
        block = " ".join(each.partition(" ")[2] for each in heads)

        def say(template: str, text: str = "", kind: str = kind, block: str = block) -> Statement:
            return Statement(template.replace("%kind", kind).replace("%block", block).replace("%", text), 0)

        if step.after is None:
            yield from [say(change.empty), say(change.drop)] if around else [say(change.drop)]
        elif step.before is None:
            new = step.after.statement
            for head in reversed(around):
                new = Statement(head, 0, [new])
            yield new
        elif any(each.node.statement.children is not None for each in step.inside or ()):
            yield from _refilled(step.inside or (), change, heads)
        else:
            yield say(change.empty)
            stays = [each.after for each in step.inside or () if each.after is not None]
            yield from [say(change.fill, each.statement.text) for each in stays if not _belongs_to_block(each)]


def _belongs_to_block(node: Node) -> bool:
    """Tell whether a statement says something of its block, and would not go when that is emptied."""
    return node.head or (node.phrase is not None and node.phrase.aside)


def edited_texts(form: Form, texts: Sequence[tuple[str, str]], steps: Sequence[Step]) -> list[TextChange]:
    """Return the texts that change; that of a file which is not there is empty."""
    by_file: dict[str, list[Edit]] = {file: [] for file, _ in texts}
    files = bool(getattr(form.surface, "files", False))
    here = texts[0][0]
    for step in steps:
        if step.before is not None:
            here = step.before.file
        elif files:
            here = str(PurePath(texts[0][0]).with_name(step.node.statement.text))
        by_file.setdefault(here, []).append(_edit(step))
    old = dict(texts)
    new = {file: _text_after(form, old.get(file, ""), edits, files) for file, edits in by_file.items()}
    return [TextChange(file, old.get(file, ""), text) for file, text in new.items() if text != old.get(file, "")]


def patch(changes: Iterable[TextChange]) -> str:
    """Return changes of texts as a patch: a unified diff, as `patch` and `git apply` take it."""
    return "".join(line for each in changes for line in _unified(each))


def _unified(change: TextChange) -> Iterator[str]:
    before, after = (text.splitlines(keepends=True) for text in (change.before, change.after))
    name = change.file.lstrip("/")
    names = (f"a/{name}" if before else NO_FILE), (f"b/{name}" if after else NO_FILE)
    for line in difflib.unified_diff(before, after, *names):
        yield line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n"


def _text_after(form: Form, text: str, edits: list[Edit], files: bool) -> str:
    if not any(each.changes for each in edits):
        return text
    if not files:
        return woven(form.surface, text, edits)
    [whole] = edits
    if whole.after is None:
        return ""
    if whole.before is None:
        return form.surface.print(whole.after.children or ())
    return woven(form.surface, text, whole.inside or ())


def _edit(step: Step) -> Edit:
    before, after = (None if node is None else node.statement for node in (step.before, step.after))
    return Edit(before, after, None if step.inside is None else [_edit(each) for each in step.inside])
