"""A dialect file: TOML, with a table of phrases for each form of text.

    dialect = "frr"
    title = "..."
    like = "iptables"                              # it has what that one has, but for what it says itself
    passes = ["loopback-is-lo"]                    # see `passes`

    [kinds]                                        # see `kinds`
    distance = {is = "number"}

    [parts]                                        # text used in several phrases as @name
    gateway = "<via> [<interface>]"

    [shared]                                       # phrases used in several blocks, as a line &name
    settings = '''
    PHRASE ...
    '''

    [semantics]                                    # what the device does; see `semantics`
    order = "list"

    [cannot]                                       # why a field has no place in this syntax
    "interface.mtu" = "..."                        # or why a whole kind of fact has none: "resolver"

    [[forms]]                                      # the first is written, all are read
    name = "configuration"
    file = "frr.conf"                              # what the text is called when it is written to a folder
    carries = ["interfaces", "routes"]             # sections that a text in this form speaks of
    surface = {kind = "indent", comment = "!"}     # see `surfaces`
    before = ["..."]                               # statements written first, and passed over in reading
    only = "REGEX"                                 # a text in which this is not found is none of this form
    unless = "REGEX"                               # and one in which this is found neither
    change = {how = "typed", without = "no %"}     # how it is changed; see `dialect.Change`
    loading = {command = "/usr/sbin/tool -f %"}    # if it is gone after a restart; see `lasting.Loading`
    phrases = '''
    PHRASE / CONDITION         => FACT field=constant
    ~> WHAT IS TYPED TO TAKE IT AWAY
      PHRASE OF A STATEMENT INSIDE
    '''

A phrase (see `grammar`) with `=> FACT` makes a fact (see `facts`); without, it adds to the fact
of the block that it stands in. `=> aside` is for what is legitimately there and not ours, `=> always`
for what says nothing and has to be there all the same. Without `=>`, or with one of these alone, a
block just holds others. Statements inside a block inherit the block's fields by name. A condition after ` / ` is a
statement that must stand directly inside the block.

Behind `=>` there can be, besides `field=constant`:

    covers=SECTION      its presence shows that the text speaks of a section
    needs=FACT|FACT     it is only written if there are such facts
    needs=*             it is only written if something stands inside
    written=never       it is only read
    same=FIELD|FIELD    it takes the place of another statement with the same values in these fields
    anew=true           it cannot be altered: what it made goes first
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from agile_lattice.dialects.base_kinds import BASE
from agile_lattice.dialects.dialect import FIRST_WORDS, INSIDE, Block, Change, Dialect, Form, Phrase
from agile_lattice.dialects.errors import DefinitionError
from agile_lattice.dialects.expressions import checked
from agile_lattice.dialects.fact_types import FACTS, PARTS, FactType
from agile_lattice.dialects.field_types import check_constant, check_kind
from agile_lattice.dialects.grammar import Element, Hole, holes_of, parse_phrase
from agile_lattice.dialects.kinds import NUMBERS, Kind, number_kind, set_of, spaced, text_kind, worded
from agile_lattice.dialects.lasting import Loading
from agile_lattice.dialects.moulds import Moulds
from agile_lattice.dialects.passes.named import PASSES
from agile_lattice.dialects.patterns import Pattern, kind_of
from agile_lattice.dialects.semantics import Semantics, passes_of
from agile_lattice.dialects.shapes import Shapes
from agile_lattice.dialects.surfaces import AnySurface
from agile_lattice.dialects.traits import NAMED
from agile_lattice.intent.model import Section

USUAL = {"word": r"\S+", "line": r"\S(?:.*\S)?", "quoted": '[^"]*'}
PLAIN_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]*")
ASIDE, ALWAYS = "aside", "always"
GONE = "~>"
LISTS = ("", "permit", "access")
LET = ("replies", "itself", "neighbours")


class _FormText(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    carries: tuple[Section, ...]
    surface: AnySurface
    phrases: str
    before: tuple[str, ...] = ()
    file: str = ""
    change: Change = Change()
    only: str = ""
    unless: str = ""
    loading: Loading = Loading()


class _DialectText(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    dialect: str
    title: str
    forms: tuple[_FormText, ...]
    passes: tuple[str, ...] = ()
    kinds: dict[str, dict[str, Any]] = {}
    parts: dict[str, str] = {}
    shared: dict[str, str] = {}
    cannot: dict[str, str] = {}
    semantics: Semantics = Semantics()


def parse_dialect(text: str, file: str, known: Callable[[str], str] | None = None) -> Dialect:
    """Compile a dialect file.

    Args:
        text: The TOML text.
        file: Its name, for messages.
        known: Returns the text of another dialect by its name, if there are others that it may be `like`; raises
            `KeyError` for a name that there is not.

    Raises:
        DefinitionError: With the line, if anything in it is wrong.
    """
    try:
        raw = msgspec.convert(_whole(tomllib.loads(text), known), _DialectText)
    except KeyError as error:
        raise DefinitionError(
            file, _line_of(text, "like"), f"there is no other dialect {error} for it to be like"
        ) from None
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise DefinitionError(file, 0, str(error)) from None
    unknown = [name for name in raw.passes if name not in PASSES]
    if unknown:
        raise DefinitionError(file, 0, f"there is no pass {unknown[0]!r}; known are {', '.join(PASSES)}")
    kinds = dict(BASE)
    for name, description in raw.kinds.items():
        try:
            kinds[name] = _kind(name, description, kinds)
        except (ValueError, KeyError, TypeError, AttributeError, OSError) as error:
            raise DefinitionError(file, _line_of(text, name), f"kind {name!r}: {error}") from None
    forms = []
    for form in raw.forms:
        start = text.partition(form.phrases)[0].count("\n") if form.phrases in text else 0
        builder = _Builder(file, start, kinds, raw.parts)
        try:
            lines = list(_indented(_with_shared(form.phrases, raw.shared)))
        except KeyError as error:
            raise DefinitionError(file, start + 1, f"there are no shared phrases {error}") from None
        block = builder.block(lines, None)
        try:
            signs = [re.compile(checked(each)) if each else None for each in (form.only, form.unless)]
            if form.change.handle:
                re.compile(form.change.handle)
        except (ValueError, re.error) as error:
            raise DefinitionError(file, start, str(error)) from None
        if form.file and not PLAIN_NAME.fullmatch(form.file):
            line = _line_of(text, "file")
            raise DefinitionError(file, line, f"file = {form.file!r} is no plain name: letters, digits, dots, - and _")
        only, unless = signs
        about = form.name, form.carries, form.surface, form.before, block, form.file, form.change
        forms.append(Form(*about, only, unless, form.loading))
    passes = passes_of(raw.semantics, raw.passes)
    return Dialect(raw.dialect, raw.title, tuple(forms), raw.semantics, passes, raw.cannot, file)


def _whole(raw: dict[str, Any], known: Callable[[str], str] | None, around: tuple[str, ...] = ()) -> dict[str, Any]:
    """Return what a file says, with what it takes from the dialect that it is like."""
    name = raw.pop("like", None)
    if name is None:
        return raw
    if known is None or name in around or name == raw.get("dialect"):
        raise KeyError(name)
    base = _whole(tomllib.loads(known(name)), known, (*around, name))
    tables = {key: {**base[key], **raw.get(key, {})} for key in base if isinstance(base[key], dict)}
    return {**base, **raw, **tables}


def _line_of(text: str, word: str) -> int:
    return next((n for n, line in enumerate(text.splitlines(), 1) if line.startswith(word)), 0)


def _kind(name: str, raw: dict[str, Any], kinds: Mapping[str, Kind]) -> Kind:
    known = {
        "is", "words", "also", "pattern", "most", "offset", "less", "least", "set", "quote", "named", "join", "between",
    }  # fmt: skip
    if not raw.keys() <= known:
        raise ValueError(f"unknown key {min(raw.keys() - known)!r}; known are {', '.join(sorted(known))}")
    base = raw.get("is")
    if base is not None and base not in kinds:
        raise ValueError(f"there is no kind {base!r}; known are {', '.join(sorted(kinds))}")
    kind = kinds[base] if base else None
    if base in ("word", "line", "quoted"):
        quote = raw.get("quote", '"' if base == "quoted" else "")
        pattern = checked(raw["pattern"]) if "pattern" in raw else USUAL[base]
        kind = text_kind(name, pattern, raw.get("most"), quote, quote, base == "word" and not quote)
    elif base == "number":
        offset, less = raw.get("offset", 0), raw.get("less")
        kind = number_kind(name, offset, raw.get("least", 0), raw.get("most", NUMBERS - offset), less)
    if "words" in raw or "also" in raw:
        kind = worded(name, raw.get("words", {}), raw.get("also", {}), kind)
    if kind is None:
        raise ValueError("say what it `is`, or give its `words`")
    if "between" in raw:
        kind = spaced(kind, raw["between"])
    if raw.get("named"):
        kind = msgspec.structs.replace(kind, accepts=lambda trait: trait == NAMED, gives=None)
    kind = set_of(kind) if raw.get("set") else kind
    return msgspec.structs.replace(kind, join=raw["join"]) if "join" in raw else kind


class _Line(msgspec.Struct):
    number: int
    depth: int
    text: str
    inside: list[_Line]
    gone: str = ""


def _with_shared(table: str, shared: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """Yield numbered lines; those of shared phrases stand where they are used, and have that line's number."""
    for number, line in enumerate(table.split("\n"), 1):
        if line.lstrip().startswith("&"):
            indent = line[: len(line) - len(line.lstrip())]
            for _, each in _with_shared(shared[line.strip()[1:]], shared):
                yield number, indent + each
        else:
            yield number, line


def _indented(lines: Iterable[tuple[int, str]]) -> Iterator[_Line]:
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


class _Builder:
    def __init__(self, file: str, start: int, kinds: Mapping[str, Kind], parts: Mapping[str, str]) -> None:
        self.file, self.start, self.kinds, self.parts = file, start, kinds, parts

    def block(self, lines: list[_Line], owner: FactType | None, denying: str = "") -> Block:
        made: list[Phrase] = []
        for line in lines:
            made.append(self.phrase(line, owner, [each.pattern for each in made], denying))
        phrases = tuple(made)
        words = {phrase.pattern.first for phrase in phrases} - {""}
        loose = tuple(phrase for phrase in phrases if not phrase.pattern.first)
        by_word = {word: tuple(phrase for phrase in phrases if phrase.pattern.may_begin(word)) for word in words}
        makers: dict[tuple[str, ...], tuple[Phrase, ...]] = {(): ()}
        for each in phrases:
            if each.makes is not None:
                for key in ((), tuple(each.text.split()[:FIRST_WORDS])):
                    makers[key] = (*makers.get(key, ()), each)
        return Block(phrases, by_word, loose, makers)

    def phrase(self, line: _Line, owner: FactType | None, before: Sequence[Pattern], denying: str) -> Phrase:
        try:
            return self._phrase(line, owner, before, denying)
        except (ValueError, OSError, KeyError) as error:
            raise DefinitionError(self.file, self.start + line.number, f"{error}, in: {line.text}") from None

    def _phrase(self, line: _Line, owner: FactType | None, before: Sequence[Pattern], denying: str) -> Phrase:
        left, arrow, right = line.text.partition("=>")
        words = right.split()
        aside, always = words[:1] == [ASIDE], words[:1] == [ALWAYS]
        makes, constants = self.result(words) if arrow else (None, {})
        covers, written = constants.pop("covers", None), constants.pop("written", "") != "never"
        needs = tuple(kind for kind in _word(constants, "needs").split("|") if kind)
        if needs != (INSIDE,) and not FACTS.keys() >= {*needs}:
            raise ValueError(f"needs={'|'.join(needs)}: the facts are {', '.join(FACTS)}")
        denies, once = _word(constants, "denies"), constants.pop("once", False)
        lets = (denying or next(iter(needs), ""), _word(constants, "lets"))
        if denies not in LISTS or (lets[1] and not (lets[0] in LISTS and lets[1] in LET)):
            raise ValueError(f"denies= wants {' or '.join(LISTS[1:])}, and lets=, for one of these, {' or '.join(LET)}")
        same = tuple(each for each in _word(constants, "same").split("|") if each)
        anew = constants.pop("anew", False)
        target = None if always else makes or owner
        head, *conditions = [parse_phrase(each, self.parts) for each in left.split(" / ")]
        gone = parse_phrase(line.gone, self.parts)
        for elements in (head, *conditions, gone):
            self.check(elements, target, dict.fromkeys(same) | constants)
        block = self.block(line.inside, target, denies) if line.inside else None
        if makes is not None and not (
            constants or line.inside or any(hole.field != "_" for hole in _all(head, conditions))
        ):
            raise ValueError(f"nothing in it says anything of {makes.name}")
        pattern = Pattern(head, self.kinds)
        whole = (
            makes is not None
            and not makes.key
            and not (line.inside or conditions or any(hole.part for hole in holes_of(head)))
        )
        return Phrase(
            self.start + line.number,
            line.text,
            pattern,
            Shapes(head, self.kinds, target),
            tuple((Pattern(each, self.kinds), Shapes(each, self.kinds, target)) for each in conditions),
            makes,
            aside,
            always,
            written and not aside,
            needs,
            denies,
            lets,
            once,
            constants,
            covers,
            same,
            anew,
            Shapes(gone, self.kinds, target) if line.gone else None,
            block,
            Moulds(pattern, makes.record, constants, before) if makes and not makes.key and whole else None,
        )

    def result(self, words: list[str]) -> tuple[FactType | None, dict[str, Any]]:
        """Understand what stands to the right of `=>`."""
        named = words[:1] if words and "=" not in words[0] else []
        if not words or (named and named[0] not in (ASIDE, ALWAYS, *FACTS)):
            raise ValueError(f"`=>` wants field=value, {ASIDE}, {ALWAYS}, or a fact: {', '.join(FACTS)}")
        makes = FACTS.get(words[0])
        constants: dict[str, Any] = {}
        for word in words[len(named) :]:
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
        fields = [(hole.field, hole.part) for hole in holes_of(elements) if hole.field != "_"]
        for field, part in [*fields, *((name, "") for name in constants)]:
            if target is None or field not in target.fields:
                raise ValueError(f"<{field}> is no field of {target.name if target else 'anything here'}")
            if part and part not in PARTS:
                raise ValueError(f"<{field}.{part}>: parts are {', '.join(PARTS)}")
        for field, value in constants.items():
            if target is not None and value is not None:
                check_constant(target, field, value)
        for hole in holes_of(elements):
            if target is not None and hole.field != "_":
                check_kind(target, hole.field, hole.part, kind_of(hole, self.kinds), hole.many)
