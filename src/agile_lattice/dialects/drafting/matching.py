"""Which facts a statement says: values of the intent are found in its words."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from agile_lattice.dialects.drafting.spelling import CONSTANT, Names, spellings
from agile_lattice.dialects.fact_types import FACTS
from agile_lattice.dialects.facts import Fact
from agile_lattice.dialects.passes import Facts
from agile_lattice.dialects.surfaces import Statement
from agile_lattice.intent.addresses import AddressSet
from agile_lattice.intent.permits import Passage
from agile_lattice.intent.routes import Route
from agile_lattice.intent.stages import Rule

WORDS = re.compile(
    r'"[^"]*"|\d+\.\d+\.\d+\.\d+(?:-\d+\.\d+\.\d+\.\d+|/\d+)?|(?=[0-9a-fA-F:]*:[0-9a-fA-F]*:)[0-9a-fA-F:.]+(?:/\d+)?'
    r"|\d+-\d+|[A-Za-z0-9_][A-Za-z0-9_.-]*|\S"
)
SINGLE = (
    "device", "route", "static-nat", "rule", "permit", "access", "address-set", "service", "proxy", "identity",
    "resolver", "host",
)  # fmt: skip
RULES = ("rule", "permit", "access")
LEAST = 3  # fields that a statement says which is a rule by itself, in a block that could be one as a whole
LEADS = ("interface", "address", "zone")  # what one statement may say together
# What a statement has to say of a fact, so that it is that fact; of others at least two fields.
TELLING = {
    "interface": {"interface"}, "address": {"address"}, "zone": {"zone"}, "route": {"to"}, "device": {"hostname"},
    "proxy": {"address"}, "identity": {"identity"}, "resolver": {"address"}, "address-set": {"name"},
    "service": {"name"}, "host": {"name"}, "static-nat": {"external", "internal"},
}  # fmt: skip


class Word(msgspec.Struct, frozen=True):
    """A word of a statement: text as it stands, or a placeholder in its place; glued if no blank is before it."""

    text: str
    glued: bool
    placeholder: str = ""
    field: str = ""


class Said(msgspec.Struct, frozen=True):
    """What a statement says.

    Attributes:
        kinds: The kinds of facts; none if it only adds to the fact of the statement around it.
        facts: The facts, one for each kind.
        words: Its words, those that are values with their placeholders.
        fields: The fields that they say.
    """

    kinds: tuple[str, ...]
    facts: tuple[Fact, ...]
    words: tuple[Word, ...]
    fields: frozenset[str]


def words_of(text: str) -> list[Word]:
    """Return the words of a statement."""
    return [
        Word(each.group(), each.start() > 0 and not text[each.start() - 1].isspace()) for each in WORDS.finditer(text)
    ]


class Matcher:
    """Finds the facts of statements.

    Args:
        facts: All that the sample should say.
        names: What goes by a name.
    """

    def __init__(self, facts: Facts, names: Names) -> None:
        self.facts, self.names = facts, names
        self.used: set[int] = set()

    def find(self, statement: Statement, around: Said | None) -> Said | None:
        """Return what a statement says; None if nothing of the intent is found in it."""
        words = words_of(statement.text)
        block = bool(statement.children)
        best: tuple[tuple[int, int, int], Said] | None = None
        for kinds, facts in self._candidates(around):
            inherited = _fields_of(around.facts) if around is not None else {}
            fields = {
                name: value for name, value in _fields_of(facts).items() if inherited.get(name) != value or not kinds
            }
            found = self._filled(words, fields)
            said = frozenset(each.field for each in found if each.field)
            own = _whole_fields(said)
            if not (_tells(kinds, own, {*inherited}) or (own == {"via"} and _is_default(facts[0]))):
                continue
            if kinds == ("interface",) and own == {"interface"} and not block and id(facts[0]) in self.used:
                continue  # it only names one that is described elsewhere
            fresh = sum(id(each) not in self.used for each in facts)
            score = len(said), fresh, -len(kinds)
            if best is None or score > best[0]:
                best = score, Said(kinds, facts, tuple(found), said)
        found_here = best[1] if best is not None else self._whole(statement, words) if block else None
        if found_here is not None:
            self.used.update(map(id, found_here.facts))
        return found_here

    def _whole(self, statement: Statement, words: list[Word]) -> Said | None:
        """Return what a block says as a whole: its first line may say little by itself."""
        leaves = [each for each in statement.children or () if each.children is None]
        if any(self._is_fact(each) for each in leaves):
            return None  # it only holds others
        inside = [word for each in leaves for word in words_of(each.text)]
        best: tuple[int, str, Fact] | None = None
        for kind in SINGLE:
            for fact in self.facts.get(kind, ()):
                said = _whole_fields(
                    each.field for each in self._filled([*words, *inside], _fields_of([fact])) if each.field
                )
                if (
                    _tells((kind,), said)
                    and len(said) > 1
                    and id(fact) not in self.used
                    and (best is None or len(said) > best[0])
                ):
                    best = len(said), kind, fact
        if best is None:
            return None
        filled = self._filled(words, _fields_of([best[2]]))
        return Said((best[1],), (best[2],), tuple(filled), frozenset(each.field for each in filled if each.field))

    def _is_fact(self, statement: Statement) -> bool:
        """Tell whether a statement is a fact by itself."""
        words = words_of(statement.text)
        for kind in SINGLE:
            for fact in self.facts.get(kind, ()):
                said = _whole_fields(each.field for each in self._filled(words, _fields_of([fact])) if each.field)
                if kind in RULES and len(said) < LEAST:
                    continue
                if _tells((kind,), said) or (said == {"via"} and _is_default(fact)):
                    return True
        return False

    def _candidates(self, around: Said | None) -> Iterator[tuple[tuple[str, ...], tuple[Fact, ...]]]:
        if around is not None and around.facts:
            yield (), around.facts  # it may only add to what is around it
            if any(isinstance(each, Rule | Passage) for each in around.facts):
                return  # all that stands in the block of a rule is the rule's
        for kind in SINGLE:
            for fact in self.facts.get(kind, ()):
                yield (kind,), (fact,)
        name = next((getattr(each, "interface", "") for each in around.facts), "") if around is not None else ""
        for one in self.facts.get("interface", ()):
            interface: Any = one
            if name and interface.interface != name:
                continue
            sets: list[list[tuple[str, Fact] | None]] = [[None], [None]]
            for at, kind in enumerate(LEADS[1:]):
                sets[at] += [(kind, each) for each in self.facts.get(kind, ()) if _of(each) == interface.interface]
            for address in sets[0]:
                for zone in sets[1]:
                    more = [each for each in (address, zone) if each is not None]
                    if not name:
                        yield ("interface", *(kind for kind, _ in more)), (one, *(fact for _, fact in more))
                    if len(more) == 1 or (more and not name):
                        yield tuple(kind for kind, _ in more), tuple(fact for _, fact in more)

    def _filled(self, words: Sequence[Word], fields: Mapping[str, Any]) -> list[Word]:
        """Put placeholders where values stand, each field once, in the order of its spellings."""
        found = list(words)
        said: set[str] = set()
        for text, placeholder, field in spellings(fields, self.names):
            whole = field.partition(".")[0]
            if (
                field in said
                or whole in said
                or (field == whole and f"{whole}.ip" in said)
                or (field.endswith(".ip") and f"{whole}.length" not in said)
            ):
                continue
            at = next((n for n, word in enumerate(found) if not word.field and _spelt(word.text, text)), None)
            if at is not None:
                quoted = found[at].text.startswith('"')
                placeholder = placeholder[:-1] + ":quoted>" if quoted and ":" not in placeholder else placeholder
                found[at] = msgspec.structs.replace(found[at], placeholder=placeholder, field=field)
                said.add(field)
            elif " " in text and field in ("description", "name", "hostname"):
                found = _rest(found, text, placeholder, field)
                said |= {word.field for word in found if word.field == field}
        for field, value in fields.items():
            if isinstance(value, AddressSet) and field not in said:
                found = _listed(found, field, value)
        return [_without_half(word, said) for word in found]


def _whole_fields(said: Iterable[str]) -> set[str]:
    """Return the fields that are said as a whole: of a prefix in two parts, both."""
    fields = set(said)
    return {each for each in fields if "." not in each} | {
        each[:-3] for each in fields if each.endswith(".ip") and f"{each[:-3]}.length" in fields
    }


def _spelt(word: str, text: str) -> bool:
    return word == text or word == f'"{text}"'


def _rest(words: list[Word], text: str, placeholder: str, field: str) -> list[Word]:
    """Put a placeholder for a text of several words at the end of a statement."""
    for at in range(len(words)):
        rest = "".join(("" if each.glued else " ") + each.text for each in words[at:]).strip()
        if rest == text and not any(each.field for each in words[at:]):
            return [*words[:at], Word(text, words[at].glued, placeholder[:-1] + ":line>", field)]
    return words


def _listed(words: list[Word], field: str, value: AddressSet) -> list[Word]:
    """Put one placeholder for a list of prefixes or ranges that are a set of addresses together."""
    members = [each for each in words if not each.field and ("." in each.text or ":" in each.text)]
    try:
        listed = AddressSet.of(*(AddressSet.parse(each.text) for each in members)) if len(members) > 1 else None
    except ValueError:
        return words
    if listed != value:
        return words
    first, last = words.index(members[0]), words.index(members[-1])
    if any(each not in members and each.text != "," for each in words[first:last]):
        return words
    placeholder = Word(members[0].text, members[0].glued, f"<{field}:span{value.family},>", field)
    return [*words[:first], placeholder, *words[last + 1 :]]


def _without_half(word: Word, said: Collection[str]) -> Word:
    """Return a word as it stands if it was taken for the length of a prefix that is not there."""
    whole, _, part = word.field.partition(".")
    return Word(word.text, word.glued) if part == "length" and f"{whole}.ip" not in said else word


def _is_default(fact: Fact) -> bool:
    """Tell whether it is a default route, of which the destination need not be spelt."""
    return isinstance(fact, Route) and not fact.to.length


def _fields_of(facts: Iterable[Fact]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for fact in facts:
        for name in fact.__struct_fields__:
            if name != "place" and name not in found:
                found[name] = getattr(fact, name)
    return found


def _of(fact: Fact) -> str:
    return str(getattr(fact, "interface", ""))


def _tells(kinds: tuple[str, ...], own: set[str], around: Collection[str] = ()) -> bool:
    """Tell whether enough of a fact was found for the statement to be it.

    Args:
        kinds: The kinds of facts; none if it only adds to what is around it.
        own: The fields that it says.
        around: Those that the statements around it say.
    """
    for kind in kinds:
        wanted = {name for name in FACTS[kind].fields if name not in FACTS[kind].defaults and name not in CONSTANT}
        if not (TELLING.get(kind, set()) <= own and wanted <= own | {*around}):
            return False
        if kind in RULES and not own - {"protocol", "ports", "name"}:
            return False
    return len(own) > (0 if all(kind in TELLING for kind in kinds) else 1)
