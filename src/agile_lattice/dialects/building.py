"""The table of phrases of a dialect file, compiled: lines become blocks of phrases, each checked as it is made."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from types import MappingProxyType
from typing import Any, cast, get_args

import msgspec

from agile_lattice.dialects.dialect import FIRST_WORDS, INSIDE, Again, Block, Phrase
from agile_lattice.dialects.errors import DefinitionError
from agile_lattice.dialects.fact_types import FACTS, PARTS, FactType
from agile_lattice.dialects.field_types import check_constant, check_kind
from agile_lattice.dialects.grammar import DROPPED, PASSED, Element, Hole, always_said, holes_of, parse_phrase
from agile_lattice.dialects.kinds import Kind
from agile_lattice.dialects.making import Maker
from agile_lattice.dialects.patterns import Pattern, kind_of
from agile_lattice.dialects.shapes import Shapes
from agile_lattice.dialects.together import together
from agile_lattice.intent.model import SECTIONS, Section

ASIDE, PASSED_OVER, ALWAYS, REQUIRED = "ignored", "passed-over", "always", "required"
NOTHING = "nothing"
GONE = "~>"
LISTS = ("", "permit", "access")
LET = ("replies", "itself", "neighbours")


class _Line(msgspec.Struct):
    number: int
    depth: int
    text: str
    inside: list[_Line]
    gone: str = ""

    @property
    def required(self) -> bool:
        """Whether it is a statement that has to stand inside the one around it."""
        return self.text.partition("=>")[2].strip() == REQUIRED


def with_shared(table: str, shared: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """Yield numbered lines; those of shared phrases stand where they are used, and have that line's number."""
    for number, line in enumerate(table.split("\n"), 1):
        if line.lstrip().startswith("&"):
            indent = line[: len(line) - len(line.lstrip())]
            for _, each in with_shared(shared[line.strip()[1:]], shared):
                yield number, indent + each
        else:
            yield number, line


def indented(lines: Iterable[tuple[int, str]]) -> Iterator[_Line]:
    """Nest the lines of a table of phrases by their indentation."""
    stack: list[_Line] = []
    for number, raw in lines:
        text = raw.split(" ## ", 1)[0].strip()
        if not text or text.startswith("##"):
            continue
        if text.startswith(GONE):
            stack[-1].gone = text.removeprefix(GONE).strip()
            continue
        line = _Line(number, len(raw) - len(raw.lstrip()), text, [])
        while stack and stack[-1].depth >= line.depth:
            top = stack.pop()
            if not stack:
                yield top
        if stack:
            stack[-1].inside.append(line)
        stack.append(line)
    if stack:
        yield stack[0]


def _all(head: tuple[Element, ...], conditions: Iterable[tuple[Element, ...]]) -> Iterator[Hole]:
    for elements in (head, *conditions):
        yield from holes_of(elements)


def _word(constants: dict[str, Any], name: str) -> str:
    """Take a constant that is a word, or several with `|` between them."""
    value = constants.pop(name, "")
    if not isinstance(value, str):
        raise ValueError(f"{name}= wants a word")
    return value


class Builder:
    """Makes blocks of phrases.

    Args:
        file: The name of the dialect file, for messages.
        start: The line before the table.
        kinds: What placeholders may be.
        parts: Texts of named parts.
        missing: What is said where a text lacks what its facts want, by the word for it.
    """

    def __init__(
        self,
        file: str,
        start: int,
        kinds: Mapping[str, Kind],
        parts: Mapping[str, str],
        missing: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        self.file, self.start, self.kinds, self.parts, self.missing = file, start, kinds, parts, missing

    def block(self, lines: list[_Line], owner: FactType | None, denying: str = "") -> Block:
        """Make a block of lines that stand side by side."""
        phrases = tuple(self.phrase(line, owner, denying) for line in lines)
        words = {word for phrase in phrases for word in phrase.pattern.firsts}
        loose = tuple(phrase for phrase in phrases if not phrase.pattern.firsts)
        by_word = {word: tuple(phrase for phrase in phrases if phrase.pattern.may_begin(word)) for word in words}
        makers: dict[tuple[str, ...], tuple[Phrase, ...]] = {(): ()}
        for each in phrases:
            if each.makes is not None:
                for key in ((), tuple(each.text.split()[:FIRST_WORDS])):
                    makers[key] = (*makers.get(key, ()), each)
        return Block(phrases, by_word, loose, makers)

    def phrase(self, line: _Line, owner: FactType | None, denying: str) -> Phrase:
        """Make a phrase of a line and what stands inside it."""
        try:
            return self._phrase(line, owner, denying)
        except (ValueError, OSError, KeyError) as error:
            raise DefinitionError(self.file, self.start + line.number, f"{error}, in: {line.text}") from None

    def _phrase(self, line: _Line, owner: FactType | None, denying: str) -> Phrase:
        left, arrow, right = line.text.partition("=>")
        words = right.split()
        aside, always = words[:1] in ([ASIDE], [PASSED_OVER]), words[:1] == [ALWAYS]
        makes, constants = self.result(right) if arrow else (None, {})
        covers, written = constants.pop("covers", None), constants.pop("written", "") != "never"
        needs = tuple(kind for kind in _word(constants, "needs").split("|") if kind)
        if needs != (INSIDE,) and not FACTS.keys() >= {*needs}:
            raise ValueError(f"needs={'|'.join(needs)}: the facts are {', '.join(FACTS)}")
        denies, once, first = _word(constants, "denies"), constants.pop("once", False), constants.pop("first", False)
        lets = (denying or next(iter(needs), ""), _word(constants, "lets"))
        if denies not in LISTS or (lets[1] and not (lets[0] in LISTS and lets[1] in LET)):
            raise ValueError(f"denies= wants {' or '.join(LISTS[1:])}, and lets=, for one of these, {' or '.join(LET)}")
        wants, same = (tuple(each for each in _word(constants, name).split("|") if each) for name in ("wants", "same"))
        gives, about = _word(constants, "gives"), self.sections(_word(constants, "about"))
        for word in filter(None, (*wants, gives)):
            if word not in self.missing:
                raise ValueError(
                    f"{word!r}: `missing` says nothing of it; it has {', '.join(self.missing) or 'nothing'}"
                )
        anew, again = constants.pop("anew", False), _word(constants, "again")
        if again not in get_args(Again):
            raise ValueError(f"again= wants {' or '.join(filter(None, get_args(Again)))}")
        target = None if always else makes or owner
        head = parse_phrase(left, self.parts)
        required = [each for each in line.inside if each.required]
        wanted = [each.text.partition("=>")[0].strip() for each in required]
        conditions = [parse_phrase(each, self.parts) for each in wanted]
        rest = [each for each in line.inside if not each.required]
        gone = parse_phrase(line.gone, self.parts)
        twice = next((hole.field for hole in _all(head, conditions) if hole.field in constants), None)
        if twice is not None:
            raise ValueError(f"{twice} is said twice, by <{twice}> and by {twice}=: take one of them away")
        for elements in (head, *conditions, gone) if target or written else ():  # what is only read may just hand on
            self.check(elements, target, dict.fromkeys(same) | constants)
        block = self.block(rest, target, denies) if rest else None
        if makes is not None and not (
            constants or line.inside or any(hole.field not in (DROPPED, PASSED) for hole in _all(head, conditions))
        ):
            raise ValueError(f"nothing in it says anything of {makes.name}")
        pattern = Pattern(head, self.kinds)
        compiled = tuple(
            (Pattern(each, self.kinds, text), Shapes(each, self.kinds, target))
            for each, text in zip(conditions, wanted, strict=True)
        )
        whole = None
        if makes is not None and not (
            makes.key or makes.parts or line.inside or conditions or once or first or covers or lets[1] or gives
        ):
            parted = any(hole.part or hole.field == PASSED for hole in holes_of(head))
            certain = {*makes.fields} <= {*makes.defaults, *constants} | always_said(head)
            whole = Maker(pattern, makes.record, constants) if certain and not parted else None
        return Phrase(
            self.start + line.number,
            line.text,
            pattern,
            Shapes(head, self.kinds, target),
            compiled,
            makes,
            aside,
            always,
            written and not aside,
            needs,
            denies,
            lets,
            wants,
            gives,
            once,
            first,
            constants,
            covers,
            same,
            cast(Again, again),
            anew,
            Shapes(gone, self.kinds, target) if line.gone else None,
            block,
            makes is None
            and block is not None
            and all(each.makes or each.aside or each.hands_on for each in block.phrases),
            tuple(each.firsts for each, _ in compiled if each.firsts),
            {number: self.alone(each) for number, each in enumerate(required) if each.inside},
            whole,
            words[:1] == [PASSED_OVER],
            about,
        )

    def sections(self, names: str) -> tuple[Section, ...] | None:
        """Return the sections of `about=`; `None` if it is not said."""
        found = tuple(each for each in names.split("|") if each)
        if not found or found == (NOTHING,):
            return () if found else None
        if not {*SECTIONS} >= {*found}:
            raise ValueError(f"about= wants {NOTHING}, or sections: {', '.join(SECTIONS)}")
        return cast(tuple[Section, ...], found)

    def alone(self, line: _Line) -> Block:
        """Make a block in which there may be nothing but one statement that is required, and what stands inside it."""
        passed = msgspec.structs.replace(line, text=line.text.replace(f"=> {REQUIRED}", f"=> {ASIDE}"))
        return self.block([passed], None, "")

    def result(self, text: str) -> tuple[FactType | None, dict[str, Any]]:
        """Understand what stands to the right of `=>`: facts with commas between them, and constants."""
        named, words = list[str](), list[str]()
        for each in text.split(","):
            first, *rest = each.split() or [""]
            named += [first] * ("=" not in first)
            words += [*([first] * ("=" in first)), *rest]
        if len(named) > 1 and not FACTS.keys() >= {*named}:
            raise ValueError(f"{text.strip()!r}: the facts are {', '.join(FACTS)}")
        if named and named[0] not in (ASIDE, PASSED_OVER, ALWAYS, *FACTS):
            raise ValueError(
                f"`=>` wants field=value, {ASIDE}, {PASSED_OVER}, {ALWAYS}, {REQUIRED}, or a fact: {', '.join(FACTS)}"
            )
        makes = together(tuple(named)) if len(named) > 1 else FACTS.get(named[0]) if named else None
        constants: dict[str, Any] = {}
        for word in words:
            field, equals, value = word.partition("=")
            if not equals:
                raise ValueError(f"{word!r} is not field=value")
            kind, colon, spelt = value.partition(":")
            if colon and kind in self.kinds:
                constants[field] = self.kinds[kind].read(spelt)
            else:
                constants[field] = {"true": True, "false": False}.get(value, value)
        return makes, constants

    def check(self, elements: tuple[Element, ...], target: FactType | None, constants: Mapping[str, Any]) -> None:
        """Make sure that every field a phrase speaks of is one of the fact's."""
        fields = [(hole.field, hole.part) for hole in holes_of(elements) if hole.field not in (DROPPED, PASSED)]
        for field, part in [*fields, *((name, "") for name in constants)]:
            if target is None or field not in target.fields:
                raise ValueError(f"<{field}> is no field of {target.name if target else 'anything here'}")
            if part and part not in PARTS:
                raise ValueError(f"<{field}.{part}>: parts are {', '.join(PARTS)}")
        for field, value in constants.items():
            if target is not None and value is not None:
                check_constant(target, field, value)
        for hole in holes_of(elements):
            if target is not None and hole.field not in (DROPPED, PASSED):
                check_kind(target, hole.field, hole.part, kind_of(hole, self.kinds), hole.many)
