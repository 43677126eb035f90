"""From steps to what is typed on a running system, or to its texts as they are to be."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from io import StringIO
from pathlib import PurePath
from typing import Any

import msgspec

from agile_lattice.dialects.changes.alignment import Step
from agile_lattice.dialects.changes.outline import Node
from agile_lattice.dialects.dialect import Change, Form
from agile_lattice.dialects.facts import AddressFact
from agile_lattice.dialects.surfaces import Edit, Statement, woven
from agile_lattice.intent.addresses import Prefix
from agile_lattice.intent.routes import Route

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
        """The undo."""
        return TextChange(self.file, self.after, self.before)


def typed(form: Form, steps: Sequence[Step]) -> str:
    """Return the statements that change a running system.

    All that comes in is there before anything goes; what an address may have taken with it when it went is typed
    again; and an interface is shut down last, since that can take all of it. The order of the phrases is that in which
    one thing stands on another.
    """
    steps = sorted(steps, key=lambda step: step.node.phrase.line if step.node.phrase is not None else 0)
    anew = [each for each in steps if each.before and each.after and not each.stays and _is_anew(each.before)]
    names = {each.node.value_of("interface") for each in anew}
    first = [each for step in anew if step.before for each in _without(step.before, form.change)]
    coming = list(_coming(steps, lambda step: _comes(step, names) and not _shuts(step)))
    going = list(_going(steps, form.change))[::-1]
    gone = {each for each in (_subnet(step.before) for step in _flat(steps) if step.after is None) if each is not None}
    bereft = _bereft(steps, gone)
    again = _coming(steps, lambda step: _may_be_lost(step, gone, bereft, form.change.again))
    return form.surface.print([*first, *coming, *going, *again, *_coming(steps, _shuts)])


def _is_anew(node: Node) -> bool:
    return node.phrase is not None and node.phrase.anew


def _comes(step: Step, anew: Collection[Any]) -> bool:
    """Tell whether a statement comes in, or stays on an interface that is made anew."""
    if step.stays:
        return bool(anew) and not step.inside and step.node.value_of("interface") in anew
    return step.after is not None


def _flat(steps: Iterable[Step]) -> Iterator[Step]:
    """Yield steps and all those inside them."""
    for step in steps:
        yield step
        yield from _flat(step.inside or ())


Subnet = tuple[str, Prefix]


def _bereft(steps: Sequence[Step], gone: set[Subnet]) -> set[Subnet]:
    """Return interfaces and subnets of which an address goes and another one stays or comes in."""
    return (
        gone & {each for each in (_subnet(step.after) for step in _flat(steps)) if each is not None} if gone else gone
    )


def _subnet(node: Node | None) -> Subnet | None:
    fact = node and node.fact
    return (fact.interface, fact.address.network) if isinstance(fact, AddressFact) else None


def _may_be_lost(step: Step, gone: set[Subnet], bereft: set[Subnet], kinds: Collection[str]) -> bool:
    """Tell whether what is there afterwards is of a kind that goes with an address, and of one that went.

    A next hop can have been in a subnet that goes when its route was typed, though it is in another one, too.
    """
    node = step.after
    if node is None or node.kind is None or node.kind.name not in kinds:
        return False
    if isinstance(node.fact, Route):
        fact = node.fact
        return any(fact.interface == name for name, _ in bereft) or any(
            fact.via and subnet.contains(fact.via) and fact.interface in (None, name) for name, subnet in gone
        )
    return _subnet(node) in bereft


def _shuts(step: Step) -> bool:
    return not step.stays and step.after is not None and step.after.fields.get("enabled") is False


def _coming(steps: Iterable[Step], counts: Callable[[Step], bool]) -> Iterator[Statement]:
    """Yield the statements after those steps that count, in their blocks."""
    for step in steps:
        if counts(step):
            assert step.after is not None
            yield step.after.statement
        elif inside := list(_coming(step.inside or (), counts)):
            yield Statement(step.node.statement.text, 0, inside)


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
        nameless = {node.kind.key: ""} if node.kind.key in node.kind.fields else {}
        fact: Any = node.fact or node.kind.record(**{**nameless, **node.fields})
        shape = node.phrase.gone.of(node.kind.traits(fact))
        assert shape is not None, f"{node.phrase.text}: what takes it away cannot be said of {fact}"
        yield Statement(shape.fill(fact), 0)
    elif node.children is None and change.without:
        yield Statement(change.without.replace("%", node.statement.text), 0)
    else:
        rest = [child for child in node.children or () if not child.fixed and not child.says_default]
        inside = [each for child in rest for each in _without(child, change)]
        if inside:
            yield Statement(node.statement.text, 0, inside)


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
        by_file.setdefault(here, []).append(_edit(step, form.change.how == "edited"))
    old = dict(texts)
    new = {file: _text_after(form, old.get(file, ""), edits, files) for file, edits in by_file.items()}
    return [TextChange(file, old.get(file, ""), text) for file, text in new.items() if text != old.get(file, "")]


def patch(changes: Iterable[TextChange]) -> str:
    """Return changes of texts as a patch: a unified diff, as `patch` and `git apply` take it."""
    return "".join(line for each in changes for line in _unified(each))


def _unified(change: TextChange) -> Iterator[str]:
    before, after = (StringIO(text, newline="\n").readlines() for text in (change.before, change.after))
    name = change.file.lstrip("/")
    names = (f"a/{name}" if before else NO_FILE), (f"b/{name}" if after else NO_FILE)
    for line in difflib.unified_diff(before, after, *names):
        yield line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n"


def _text_after(form: Form, text: str, edits: list[Edit], files: bool) -> str:
    if not any(each.changes for each in edits):
        return text
    if not files:
        return woven(form.surface, text, edits)
    # A file that holds something else afterwards goes and comes in again.
    whole = next((each for each in edits if each.after is not None), None)
    if whole is None or whole.after is None:
        return ""
    if whole.before is None:
        return form.surface.print(whole.after.children or ())
    return woven(form.surface, text, whole.inside or ())


def _edit(step: Step, patched: bool) -> Edit:
    before, after = (None if node is None else node.statement for node in (step.before, step.after))
    gone = step.before.phrase.gone if step.before is not None and step.before.phrase is not None else None
    if patched and step.before is not None and after is None and gone is not None:
        # A setting that every system has goes by being set to what it is anyhow.
        after = next(_without(step.before, Change()), None)
    return Edit(before, after, None if step.inside is None else [_edit(each, patched) for each in step.inside])
