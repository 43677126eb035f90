"""Rules put into chains that somebody else wrote, and taken out of them: all other lines stay as they are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec
from msgspec.structs import replace

from agile_lattice.dialects.changes.alignment import Step
from agile_lattice.dialects.changes.filling import handles_of
from agile_lattice.dialects.changes.outline import Node
from agile_lattice.dialects.dialect import Form
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.program_facts import BaseChainFact, ChainFact, PolicyFact, StepFact
from agile_lattice.dialects.reading.expanding import with_values
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.dialects.together import parted
from agile_lattice.intent.places import Place

ChainName = tuple[str, int, str]  # its table, the family of that, and its name


class Putting(msgspec.Struct, frozen=True):
    """A rule that is put before another one of its chain, or a rule that is taken away.

    Attributes:
        chain: The chain.
        at: Before which of its rules it comes, from 0, or which one goes: as the chain is before any change.
        text: The rule that comes in; empty for one that goes.
    """

    chain: ChainName
    at: int
    text: str = ""


class Chains:
    """The chains of a ruleset, as its text has them.

    Args:
        form: The form of the text.
        nodes: Its outline.
    """

    def __init__(self, form: Form, nodes: Sequence[Node]) -> None:
        self.change = form.change
        self.nodes = list(nodes)
        self._values = with_values([each.statement for each in self.nodes], form.expand)
        self.bases: list[BaseChainFact] = []
        self._blocks: dict[ChainName, list[tuple[Node, ...]]] = {}  # those around its rules: a chain may be in several
        self._steps: dict[ChainName, list[StepFact]] = {}
        for node, around in _all(self.nodes, ()):
            for fact in _facts(node):
                if not isinstance(fact, StepFact | BaseChainFact | ChainFact):
                    continue
                name = fact.table, fact.family, fact.chain
                if isinstance(fact, ChainFact):
                    if node.children is not None:
                        self._found(name, (*around, node))
                    continue
                self._found(name, around)
                steps = self._steps.setdefault(name, [])
                if isinstance(fact, BaseChainFact):
                    self.bases.append(fact)
                else:
                    steps.append(fact)

    def _found(self, chain: ChainName, around: tuple[Node, ...]) -> None:
        blocks = self._blocks.setdefault(chain, [])
        if not blocks or (around and all(each[-1] is not around[-1] for each in blocks)):
            blocks.append(around)

    def rules(self, chain: ChainName) -> list[Node]:
        """Return the statements of a chain that are rules, whether they are understood or not."""
        blocks = self._blocks[chain]
        inside = [each for around in blocks for each in (around[-1].children or ())] if blocks[0] else self.nodes
        if self.change.own:
            return [each for each in inside if each.statement.text.startswith(self._own(chain))]
        return [each for each in inside if not each.head and not isinstance(each.fact, BaseChainFact | PolicyFact)]

    def _own(self, chain: ChainName) -> str:
        return self.change.own.replace("%chain", chain[2])

    def index_of(self, chain: ChainName, place: Place) -> int | None:
        """Return which rule of a chain is a line, or comes to it by a jump; `None` if none does."""
        rules = self.rules(chain)
        lines = {each.place.line for each in self._steps.get(chain, ()) if self._comes_to(each, place, {chain})}
        lines |= {each.statement.line for each in rules if (each.file, each.statement.line) == (place.file, place.line)}
        return next((at for at, each in enumerate(rules) if each.statement.line in lines), None)

    def _comes_to(self, step: StepFact, place: Place, seen: set[ChainName]) -> bool:
        if (step.place.file, step.place.line) == (place.file, place.line):
            return True
        target = step.table, step.family, step.target
        if not step.target or target in seen:
            return False
        return any(self._comes_to(each, place, {*seen, target}) for each in self._steps.get(target, ()))

    def behind_replies(self, chain: ChainName) -> int:
        """Return before which rule of a chain new connections are first looked at."""
        states = {step.place.line: step.state for step in self._steps.get(chain, ())}
        for at, each in enumerate(self.rules(chain)):
            state = states.get(each.statement.line)
            if state is None or "new" in state:
                return at
        return len(self.rules(chain))

    def holding(self, place: Place) -> tuple[ChainName, int] | None:
        """Return the chain in which a line stands, and which of its rules it is."""
        for chain in self._blocks:
            for at, each in enumerate(self.rules(chain)):
                if (each.file, each.statement.line) == (place.file, place.line):
                    return chain, at
        return None

    def steps(self, puttings: Iterable[Putting]) -> list[Step]:
        """Return the steps of a whole text in which rules come in and go."""
        coming: dict[int, list[Step]] = {}
        last: dict[int, list[Step]] = {}
        gone: set[int] = set()
        for each in puttings:
            rules = self.rules(each.chain)
            if not each.text:
                gone.add(id(rules[each.at]))
                continue
            block = self._blocks[each.chain][-1][-1]
            new = Statement(f"{self._own(each.chain)}{each.text}" if self.change.own else each.text, 0)
            step = Step(None, Node(new, block.file, None, None, {}, None, False, None))
            if each.at < len(rules):
                coming.setdefault(id(rules[each.at]), []).append(step)
            else:
                last.setdefault(id((rules or block.children or [block])[-1]), []).append(step)
        return list(_stepped(self.nodes, coming, last, gone))

    def commands(self, form: Form, puttings: Sequence[Putting], texts: Mapping[str, str]) -> tuple[str, str]:
        """Return the transaction that makes changes, and the one that takes them back.

        Raises:
            KeyError: If a rule is to go by its number, and the capture does not tell that.
        """
        handles = handles_of(self.change, self.nodes, texts)
        # From the end, so that the numbers of the capture hold; what comes in at one place keeps its order.
        numbered = sorted(enumerate(puttings), key=lambda pair: (pair[1].at, not pair[1].text, pair[0]))
        appended = [each for _, each in numbered if self._is_appended(each)]
        ordered = [*appended, *(each for _, each in reversed(numbered) if not self._is_appended(each))]
        there, back = [], []
        for each in ordered:
            rules = self.rules(each.chain)
            number = "" if each.text or "%handle" not in self.change.remove else handles[id(rules[each.at].statement)]
            there.append((each.chain, self._said(each, number)))
            if not self.change.empty:
                own = self._own(each.chain)
                text = "" if each.text else rules[each.at].statement.text.removeprefix(own)
                back.append((each.chain, self._said(replace(each, text=text), "")))
        if self.change.empty:
            by_chain: dict[ChainName, list[Putting]] = {}
            for each in puttings:
                by_chain.setdefault(each.chain, []).append(each)
            back = [(chain, text) for chain, mine in by_chain.items() for text in self._back(chain, mine)]
        else:
            back.reverse()
        return form.surface.print(self._around(there)), form.surface.print(self._around(back))

    def _is_appended(self, one: Putting) -> bool:
        return bool(one.text and self.change.fill) and one.at == len(self.rules(one.chain))

    def _said(self, one: Putting, handle: str) -> str:
        if not one.text:
            return self._filled(self.change.remove, one).replace("%handle", handle)
        template = self.change.fill if self._is_appended(one) else self.change.insert
        return self._filled(template, one).replace("%", one.text)

    def _filled(self, template: str, one: Putting) -> str:
        places = {"%block": self._block(one.chain), "%chain": one.chain[2], "%index": str(one.at),
                  "%number": str(one.at + 1)}  # fmt: skip
        for word, value in places.items():
            template = template.replace(word, value)
        return template

    def _block(self, chain: ChainName) -> str:
        return " ".join(each.statement.text.partition(" ")[2] for each in self._blocks[chain][0])

    def _back(self, chain: ChainName, puttings: Sequence[Putting]) -> Iterator[str]:
        """Yield what makes a chain as it was.

        Rules that went come back where they were, and all others stay. A rule that came in has a number that nobody
        knows beforehand: then the chain is emptied and filled.
        """
        rules = self.rules(chain)
        texts = [self._values.get(id(each.statement), each.statement.text) for each in rules]  # without variables
        gone = sorted(each.at for each in puttings if not each.text)
        if len(gone) < len(puttings):
            yield self._filled(self.change.empty, Putting(chain, 0))
            gone = [*range(len(rules))]
        for at in gone:
            behind = len(rules) - at - sum(other >= at for other in gone)  # those that are there already
            template = self.change.insert if behind else self.change.fill
            yield self._filled(template, Putting(chain, at)).replace("%", texts[at])

    def _around(self, said: Sequence[tuple[ChainName, str]]) -> list[Statement]:
        """Return commands in the blocks in which they are given, if they are."""
        if not self.change.own:
            return [Statement(text, 0) for _, text in said]
        by_head: dict[str, list[Statement]] = {}
        for chain, text in said:
            by_head.setdefault(self._blocks[chain][0][-1].statement.text, []).append(Statement(text, 0))
        return [Statement(head, 0, inside) for head, inside in by_head.items()]


def _facts(node: Node) -> Iterator[Fact]:
    """Yield the facts that a statement says, be they one or several together."""
    if node.fact is not None:
        yield node.fact
    elif node.kind is not None:
        for kind, fields in parted(node.kind.parts, node.fields) if node.kind.parts else ():
            yield kind.record(**fields, place=Place(node.file, node.statement.line))


def _all(nodes: Iterable[Node], around: tuple[Node, ...]) -> Iterator[tuple[Node, tuple[Node, ...]]]:
    for node in nodes:
        yield node, around
        yield from _all(node.children or (), (*around, node))


def _stepped(
    nodes: Iterable[Node], coming: Mapping[int, list[Step]], last: Mapping[int, list[Step]], gone: set[int]
) -> Iterator[Step]:
    for node in nodes:
        yield from coming.get(id(node), ())
        inside = None if node.children is None else list(_stepped(node.children, coming, last, gone))
        yield Step(node, None if id(node) in gone else node, inside)
        yield from last.get(id(node), ())
