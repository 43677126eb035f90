r"""A text is a program: its statements are executed in their order, and later ones act on what earlier ones made.

A block that is opened again goes on, or takes the place of the one before; a command takes statements away, or puts
some in. A form says what the commands of its texts do:

    {says = 'delete table (\S+) (\S+)', removes = 'table \1 \2', needs = true}
    {says = 'add rule (\S+) (\S+) (\S+) (.+)', at = ['table \1 \2', 'chain \3'], comes = '\4'}

What is left when all is done is read. A command that is none of these, or that the program would refuse, stays where
it is: no phrase understands it, and so nothing is claimed that it could decide.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Literal

import msgspec

from agile_lattice.dialects.surfaces import Statement


class Command(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    r"""What a command does to the statements that are there.

    In all but `says`, `\1` and so on are its groups.

    Attributes:
        says: The command, as a regular expression with groups.
        at: The blocks in which it works, outermost first: their texts. Empty for those where it stands itself.
        removes: The statements that it takes away there, as a regular expression.
        deep: Whether it takes away what is inside the blocks there, too.
        needs: Whether the program refuses it if there is nothing that it could take away.
        unless: What it refuses it for if that is there, as a regular expression.
        comes: The statement that comes in; empty for none.
        inside: What stands inside that statement, with semicolons between, if the command has no block of its own.
        before: Ahead of which statement there it comes in, as a regular expression: the first one; else behind all.
    """

    says: str
    at: tuple[str, ...] = ()
    removes: str = ""
    deep: bool = False
    needs: bool = False
    unless: str = ""
    comes: str = ""
    inside: str | None = None
    before: str = ""


class Wanted(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    r"""What a statement in a block has to have beside it, or else what the program had before decides.

    Attributes:
        block: The block, as a regular expression.
        says: What is found in the statement, likewise, with groups.
        wants: The other one, likewise; `\1` and so on are those groups.
        missing: What is said where it is not there.
        ahead: Whether it need not be there, but has to stand ahead if it is.
    """

    block: str
    says: str
    wants: str
    missing: str
    ahead: bool = False


class Execution(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the statements of a text act on one another.

    Attributes:
        again: What becomes of a block that is opened again: it `continues`, or the second one `replaces` it.
        last: Statements of which in a block only the last holds, as a regular expression: two are alike if it finds
            the same in them.
        alike: Statements that a block has again whenever it is opened again, as a regular expression; else what comes
            of it is not told.
        first: Statements that a block has from when it is first opened, or not at all, likewise.
        commands: What commands do, at the top of a text.
        within: What commands do that stand in a block.
        wanted: What statements have to have beside them.
    """

    again: Literal["", "continues", "replaces"] = ""
    last: str = ""
    alike: str = ""
    first: str = ""
    commands: tuple[Command, ...] = ()
    within: tuple[Command, ...] = ()
    wanted: tuple[Wanted, ...] = ()

    @property
    def expressions(self) -> tuple[str, ...]:
        """All regular expressions in it that a text of a device is held against, without their groups."""
        said = [*(each.says for each in (*self.commands, *self.within)), *([self.last] if self.last else ())]
        said += [each for each in (self.alike, self.first) if each]
        said += [part for each in self.wanted for part in (each.block, each.says)]
        return tuple(re.sub(r"(?<!\\)\((?!\?)", "(?:", each) for each in said)


class Executed(msgspec.Struct, frozen=True):
    """What comes of statements.

    Attributes:
        kept: What is left when all are executed; those that nothing acts on are the same objects.
        gone: Blocks as they were before all or something of them was taken away: all the same a program reads them,
            and may refuse what stands in them.
        unclear: Blocks that are opened again in another way.
        became: Blocks, each with the one that it is, or is a part of, now.
    """

    kept: list[Statement]
    gone: Sequence[Statement] = ()
    unclear: Sequence[Statement] = ()
    became: Sequence[tuple[Statement, Statement]] = ()


def executed(statements: list[Statement], how: Execution) -> Executed:
    """Execute the statements of a text.

    Args:
        statements: All of them.
        how: How they act on one another.
    """
    if not how.again:
        return Executed(statements)
    executing = _Executing(how)
    return Executed(
        executing.run(statements, how.commands, top=True), executing.gone, executing.unclear, executing.became
    )


class _Executing:
    """Executes statements.

    Attributes:
        gone: Blocks of which all or something was taken away, as they were.
        taken: What was taken away in the block that is being executed.
        unclear: Blocks that are opened again in another way.
        became: Blocks, each with the one that takes its place, in the order in which that was done.
    """

    def __init__(self, how: Execution) -> None:
        self.how = how
        self.gone: list[Statement] = []
        self.taken: list[Statement] = []
        self.unclear: list[Statement] = []
        self.became: list[tuple[Statement, Statement]] = []

    def run(self, statements: Iterable[Statement], commands: Sequence[Command], top: bool = False) -> list[Statement]:
        """Execute statements that stand side by side."""
        done: list[Statement] = []
        any_of_them = re.compile("|".join(f"(?:{each.says})" for each in commands) or r"(?!)")
        for each in statements:
            if any_of_them.fullmatch(each.text) is None:
                self.put(done, self.inside(each) if top else each)
                continue
            command = next(one for one in commands if re.fullmatch(one.says, each.text))
            found = re.fullmatch(command.says, each.text)
            if found is None or not self.obey(done, command, found, each):
                done.append(each)
        return done

    def inside(self, statement: Statement) -> Statement:
        """Return a block with the commands in it executed, and blocks in it that are opened again as one."""
        if statement.children is None:
            return statement
        self.taken = []
        children = self.run(statement.children, self.how.within)
        if self.taken:
            self.gone.append(Statement(statement.text, statement.line, [*children, *self.taken]))
        unchanged = len(children) == len(statement.children) and all(map(_is, children, statement.children))
        return statement if unchanged else self.another(statement, children)

    def another(self, block: Statement, children: list[Statement], text: str = "") -> Statement:
        """Return a block that takes the place of another."""
        found = Statement(text or block.text, block.line, children)
        self.became.append((block, found))
        return found

    def put(self, among: list[Statement], new: Statement, at: int | None = None) -> None:
        """Let a statement come in among others: a block may be one of them already."""
        same = None
        if new.children is not None:
            same = next((number for number, each in enumerate(among) if _is_block(each, new.text)), None)
        if same is not None:
            old = among.pop(same)
            if self.how.again == "replaces":
                self.gone.append(old)
            among.insert(same, new if self.how.again == "replaces" else self.merged(old, new))
            return
        kept = re.match(self.how.last, new.text) if self.how.last and new.children is None else None
        if kept is not None:
            among[:] = [each for each in among if not self.alike(each, kept)]
        among.insert(len(among) if at is None else at, new)

    def alike(self, statement: Statement, kept: re.Match[str]) -> bool:
        found = re.match(self.how.last, statement.text) if statement.children is None else None
        return found is not None and found[0] == kept[0]

    def merged(self, old: Statement, new: Statement) -> Statement:
        """Return a block that goes on in another."""
        if self.opened_otherwise(old, new):
            self.unclear.append(new)
        children = list(old.children or ())
        for each in new.children or ():
            self.put(children, each)
        found = self.another(old, children)
        self.became.append((new, found))
        return found

    def opened_otherwise(self, old: Statement, new: Statement) -> bool:
        """Tell whether a block is opened again in another way than before."""

        def said(expression: str, block: Statement) -> set[str]:
            return {each.text for each in block.children or () if expression and re.fullmatch(expression, each.text)}

        alike, first = self.how.alike, self.how.first
        return said(alike, old) != said(alike, new) or not said(first, new) <= said(first, old)

    def obey(self, among: list[Statement], command: Command, found: re.Match[str], statement: Statement) -> bool:
        """Do what a command says to the statements before it; tell whether the program would."""
        path = [_filled(each, found) for each in command.at]
        block = next((each for each in among if path and _is_block(each, path[0])), None)
        here = self.opened(among, path)
        if here is None:
            return False
        there = re.compile(_filled(command.unless, found, re.escape)) if command.unless else None
        if there is not None and any(there.fullmatch(each.text) for each in here):
            return False
        if command.removes:
            going = re.compile(_filled(command.removes, found, re.escape))
            kept = _without(here, going, command.deep)
            if command.needs and len(kept) == len(here):
                return False
            going_here = [each for each in here if going.fullmatch(each.text)]
            self.gone += [block] if block is not None else [each for each in going_here if each.children is not None]
            self.taken += [each for each in going_here if each.children is None]
            here[:] = kept
        if command.comes:
            text = _filled(command.comes, found)
            children = statement.children
            if command.inside is not None and children is None:
                parts = (each.strip() for each in _filled(command.inside, found).split(";"))
                children = [Statement(each, statement.line) for each in parts if each]
            first = re.compile(_filled(command.before, found, re.escape)) if command.before else None
            at = next((n for n, each in enumerate(here) if first is not None and first.fullmatch(each.text)), None)
            if children is statement.children and text == statement.text:
                new = statement
            elif statement.children is not None:
                new = self.another(statement, statement.children, text)
            else:
                new = Statement(text, statement.line, children)
            self.put(here, self.inside(new), at)
        return True

    def opened(self, among: list[Statement], path: Sequence[str]) -> list[Statement] | None:
        """Return the statements inside a block, which can be changed from now on; `None` if it is not there."""
        for text in path:
            at = next((number for number, each in enumerate(among) if _is_block(each, text)), None)
            if at is None:
                return None
            children = list(among[at].children or ())
            among[at] = self.another(among[at], children)
            among = children
        return among


def lacking(statements: Iterable[Statement], how: Execution) -> Iterator[tuple[Statement, str]]:
    """Yield statements of blocks that lack what they want beside them, with what is said of it: the first of each."""
    for block in statements:
        for want in how.wanted if block.children else ():
            if re.fullmatch(want.block, block.text) is None:
                continue
            known: set[str] = set()
            beside = block.children or []
            for number, each in enumerate(beside):
                found = re.search(want.says, each.text)
                wanted = _filled(want.wants, found, re.escape) if found is not None else ""
                if not wanted or wanted in known:
                    continue
                known.add(wanted)
                there = [at for at, other in enumerate(beside) if re.fullmatch(wanted, other.text)]
                if min(there) > number if there and want.ahead else not (there or want.ahead):
                    yield each, want.missing


def _filled(template: str, found: re.Match[str], spelt: Callable[[str], str] = str) -> str:
    """Put groups into a template; in one that is an expression they are spelt as what matches only themselves."""
    return re.sub(r"\\([1-9])", lambda group: spelt(found[int(group[1])] or ""), template)


def _without(statements: Iterable[Statement], going: re.Pattern[str], deep: bool) -> list[Statement]:
    kept = []
    for each in statements:
        if deep and each.children is not None:
            kept.append(Statement(each.text, each.line, _without(each.children, going, deep)))
        elif not going.fullmatch(each.text):
            kept.append(each)
    return kept


def _is_block(statement: Statement, text: str) -> bool:
    return statement.children is not None and statement.text == text


def _is(one: object, other: object) -> bool:
    return one is other
