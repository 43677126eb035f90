"""A dialect file: TOML, with a table of statements for each form of text.

    dialect = "frr"
    title = "..."
    like = "iptables"                              # it has what that one has, but for what it says itself
    passes = ["loopback-is-lo"]                    # see `passes`

    [types]                                        # how values are spelt; see `kinds`
    distance = {is = "number"}

    [fragments]                                    # text used in several statements as @name
    gateway = "<via> [<interface>]"

    [shared]                                       # statements used in several blocks, as a line &name
    settings = '''
    STATEMENT ...
    '''

    [semantics]                                    # what the device does; see `semantics`
    order = "list"

    [execution]                                    # how statements act on others; see `reading.executing`
    again = "continues"

    [usual.ordinary]                               # conditions of rules that `--assume` takes for granted; see `usual`
    so = 'REGEX'
    never = 'REGEX'

    [cannot]                                       # why a field has no place in this syntax
    "interface.mtu" = "..."                        # or why a whole kind of fact has none: "interface-resolver"

    [[forms]]                                      # the first is written, all are read
    name = "configuration"
    file = "frr.conf"                              # what the text is called when it is written to a folder
    carries = ["interfaces", "routes"]             # sections that a text in this form speaks of
    syntax = {kind = "indent", comment = "!"}      # how text becomes nested statements; see `surfaces`
    before = ["..."]                               # statements written first, and passed over in reading
    only = "REGEX"                                 # a text in which this is not found is none of this form
    unless = "REGEX"                               # and one in which this is found neither
    elsewhere = "REGEX"                            # a line by which the system says that it has more than it shows
    expand = {several = ["dns "]}                   # what stands for other words; see `reading.expanding.Expansion`
    change = {how = "typed", without = "no %"}     # how it is changed; see `dialect.Change`
    missing = {word = "what is said where nothing gives it"}    # see `wants`
    loading = {command = "/usr/sbin/tool -f %"}    # if it is gone after a restart; see `lasting.Loading`
    statements = '''
    STATEMENT                  => FACT field=constant
    ~> WHAT IS TYPED TO TAKE IT AWAY
      STATEMENT INSIDE         => required
      STATEMENT INSIDE
    '''

A statement (see `grammar`) with `=> FACT` makes a fact (see `facts`), with `=> FACT, FACT` several that belong together
by the fields that they have in common; without, it adds to the fact of the block that it stands in. `=> required` is
for what has to stand inside the block, so that it is this statement. `=> ignored` is for what is legitimately there
and changes nothing that an intent speaks of; it takes nothing with it that stands inside, unless that is named, too.
`=> passed-over` is for what does change something, for which an intent has no word: that is told. `=> always` is for
what says nothing and has to be there all the same. Without `=>`, or with one of these alone, a block just holds others.
Statements inside a block inherit the block's fields by name.

Behind `=>` there can be, besides `field=constant`:

    covers=SECTION      its presence shows that the text speaks of a section
    needs=FACT|FACT     it is only written if there are such facts
    needs=*             it is only written if something stands inside
    written=never       it is only read
    first=true          a block has one of it at most: further ones of the same thing are other statements
    once=true           a text has one of it at most: which of several would decide is not known
    same=FIELD|FIELD    it takes the place of another statement with the same values in these fields
    again=HOW           said again with other values it `replaces` what was said before, `adds` to it, or is `refused`
    anew=true           it cannot be altered: what it made goes first
    denies=LIST         it opens a list of rules that drops what none of them lets pass
    lets=WHAT           what an `always` statement lets pass before the rules of a list are asked
    wants=WORD|WORD     it takes effect only if the text gives these, too: words of `missing`
    gives=WORD          it gives this
    about=SECTION|..    what it could be about that is passed over; `nothing` if that is no section of an intent
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from agile_lattice.dialects.base_kinds import BASE
from agile_lattice.dialects.building import Builder, indented, with_shared
from agile_lattice.dialects.dialect import Change, Dialect, Form, Running
from agile_lattice.dialects.errors import DefinitionError
from agile_lattice.dialects.expressions import checked, checked_sign
from agile_lattice.dialects.faults import explained, line_of, no_field
from agile_lattice.dialects.kinds import NUMBERS, Kind, negated, number_kind, set_of, spaced, text_kind, wild, worded
from agile_lattice.dialects.lasting import Loading
from agile_lattice.dialects.passes.named import PASSES
from agile_lattice.dialects.reading.executing import Execution
from agile_lattice.dialects.reading.expanding import Expansion
from agile_lattice.dialects.semantics import Semantics, passes_of
from agile_lattice.dialects.surfaces import AnySurface
from agile_lattice.dialects.traits import NAMED
from agile_lattice.dialects.usual import Usual
from agile_lattice.intent.model import Section

USUAL = {"word": r"\S+", "line": r"\S(?:.*\S)?", "quoted": '[^"]*'}
PLAIN_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]*")


class _FormText(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    carries: tuple[Section, ...]
    syntax: AnySurface
    statements: str
    before: tuple[str, ...] = ()
    file: str = ""
    change: Change = Change()
    only: str = ""
    unless: str = ""
    elsewhere: str = ""
    loading: Loading = Loading()
    expand: Expansion = Expansion()
    missing: Mapping[str, str] = {}


class _DialectText(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    dialect: str
    title: str
    forms: tuple[_FormText, ...]
    passes: tuple[str, ...] = ()
    types: dict[str, dict[str, Any]] = {}
    fragments: dict[str, str] = {}
    shared: dict[str, str] = {}
    cannot: dict[str, str] = {}
    semantics: Semantics = Semantics()
    running: Running = Running()
    execution: Execution = Execution()
    usual: dict[str, Usual] = {}


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
            file, line_of(text, "like"), f"there is no other dialect {error} for it to be like"
        ) from None
    except tomllib.TOMLDecodeError as error:
        place = re.search(r"at line (\d+)", str(error))
        raise DefinitionError(file, int(place[1]) if place else 0, str(error)) from None
    except msgspec.ValidationError as error:
        raise DefinitionError(file, *explained(str(error), text, _DialectText)) from None
    unknown = [name for name in raw.passes if name not in PASSES]
    if unknown:
        known_passes = ", ".join(PASSES)
        raise DefinitionError(
            file, line_of(text, "passes"), f"there is no pass {unknown[0]!r}; known are {known_passes}"
        )
    for name in raw.cannot:
        if problem := no_field(name):
            raise DefinitionError(file, line_of(text, name), f"[cannot] {name!r}: {problem}")
    kinds = dict(BASE)
    for name, description in raw.types.items():
        try:
            kinds[name] = _kind(name, description, kinds)
        except (ValueError, KeyError, TypeError, AttributeError, OSError) as error:
            raise DefinitionError(file, line_of(text, name), f"type {name!r}: {error}") from None
    forms = []
    for form in raw.forms:
        start = text.partition(form.statements)[0].count("\n") if form.statements in text else 0
        builder = Builder(file, start, kinds, raw.fragments, form.missing)
        try:
            lines = list(indented(with_shared(form.statements, raw.shared)))
        except KeyError as error:
            raise DefinitionError(file, start + 1, f"there are no shared statements {error}") from None
        block = builder.block(lines, None)
        try:
            signs = [
                re.compile(checked_sign(each)) if each else None for each in (form.only, form.unless, form.elsewhere)
            ]
            if prefix := getattr(form.syntax, "prefix", ""):
                checked(prefix)
            told = [expression for each in raw.usual.values() for expression in each.expressions]
            for expression in (*form.expand.expressions, *raw.execution.expressions, *told):
                checked(expression)
            for each in form.expand.named:
                if re.compile(each.stands).groups != 2:
                    raise ValueError(
                        f"{each.stands!r} needs two groups: one for the name, and one for what it stands for"
                    )
            if form.change.handle:
                checked(form.change.handle.replace("(", "(?:", 1))  # it has one group, the number
                re.compile(form.change.handle)
        except (ValueError, re.error) as error:
            raise DefinitionError(file, start, str(error)) from None
        if form.file and not PLAIN_NAME.fullmatch(form.file):
            line = line_of(text, "file")
            raise DefinitionError(file, line, f"file = {form.file!r} is no plain name: letters, digits, dots, - and _")
        only, unless, elsewhere = signs
        about = form.name, form.carries, form.syntax, form.before, block, form.file, form.change
        forms.append(Form(*about, only, unless, elsewhere, form.loading, form.expand, form.missing, raw.execution))
    passes = passes_of(raw.semantics, raw.passes)
    for secret in filter(None, (*raw.running.secrets, raw.running.hits)):
        try:
            checked(re.sub(r"(?<!\\)\((?!\?)", "(?:", secret, count=1))  # it has one group, the secret
            re.compile(secret)
        except (ValueError, re.error) as error:
            raise DefinitionError(file, line_of(text, "secrets"), str(error)) from None
    for what, asked in raw.running.observe.items():
        try:
            asked.check(what)
        except ValueError as error:
            raise DefinitionError(file, line_of(text, what), str(error)) from None
    return Dialect(
        raw.dialect, raw.title, tuple(forms), raw.semantics, passes, raw.cannot, file, raw.running, raw.usual
    )


def plain_definition(text: str, known: Callable[[str], str]) -> dict[str, Any]:
    """Return what a dialect's file says, as it stands there: quick, since nothing of it is compiled.

    Args:
        text: Its file.
        known: Gives the text of another dialect that it may be like.

    Raises:
        ValueError: If it is no TOML.
        KeyError: If it is like a dialect that is not known.
    """
    return _whole(tomllib.loads(text), known)


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


def _kind(name: str, raw: dict[str, Any], kinds: Mapping[str, Kind]) -> Kind:
    known = {
        "is", "words", "also", "pattern", "most", "offset", "less", "least", "set", "quote", "named", "join", "between",
        "negated", "before", "wild",
    }  # fmt: skip
    if not raw.keys() <= known:
        raise ValueError(f"unknown key {min(raw.keys() - known)!r}; known are {', '.join(sorted(known))}")
    base = raw.get("is")
    if base is not None and base not in kinds:
        raise ValueError(f"there is no type {base!r}; known are {', '.join(sorted(kinds))}")
    kind = kinds[base] if base else None
    if base in ("word", "line", "quoted"):
        quote = raw.get("quote", '"' if base == "quoted" else "")
        pattern = checked(raw["pattern"]) if "pattern" in raw else USUAL[base]
        before = raw.get("before", "")
        kind = text_kind(
            name, pattern, raw.get("most"), before + quote, quote, base == "word" and not (quote or before)
        )
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
    kind = wild(kind, raw["wild"]) if "wild" in raw else kind
    kind = negated(kind) if raw.get("negated") else kind
    kind = set_of(kind) if raw.get("set") else kind
    return msgspec.structs.replace(kind, join=raw["join"]) if "join" in raw else kind
