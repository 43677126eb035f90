"""Collections in statements: each stands for one statement a member, or, if its members are made of parts, a test each.

`ip saddr . tcp dport { 10.0.0.1 . 80, 10.0.0.2 . 443 } accept` is two statements, `ip saddr 10.0.0.1 tcp dport 80
accept` and one more; so is `meta l4proto { tcp, udp } accept`. A map is looked up: `tcp dport vmap { 22 : accept }` is
`tcp dport 22 accept`. A collection may be declared apart, in the same block, and used by its name.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Iterable, Iterator

import msgspec

from agile_lattice.dialects.surfaces import Statement, rewritten

MOST = 20_000  # members of one collection
MOST_LETTERS = 16 * 2**20  # that come in place of names, in one text


class Mapped(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a map is written in a statement.

    Attributes:
        word: What stands before it, behind the field that is looked up: `tcp dport vmap { 22 : accept }` is
            `tcp dport 22 accept`.
        action: What begins an action into which the value is put, as a regular expression: `dnat to tcp dport map
            { 80 : 10.0.0.1 }` is `tcp dport 80 dnat to 10.0.0.1`. Empty if the value is the action.
        ends: What in an action may say that values are an address and a port, ` . ` between them, as they can be: it is
            left out, and such values are written as one end. Empty if they cannot.
    """

    word: str
    action: str = ""
    ends: str = ""


class Joined(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a test of several fields at once is written.

    Attributes:
        between: What stands between the fields, and between the parts of a member.
        field: What a field is, as a regular expression without groups.
    """

    between: str
    field: str


class Declared(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a collection is declared apart.

    Attributes:
        blocks: The words that begin its block, before its name.
        members: What begins the statement with its members, in braces.
        use: What stands before its name where it is used.
        unless: What a statement in it begins with if its members are not all that it may hold.
        kept: What a statement in it begins with if phrases know it by its name; of others the members are put in place
            of the name.
        remarks: What may stand behind a member and says nothing of it, as a regular expression.
    """

    blocks: tuple[str, ...]
    members: str
    use: str
    unless: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    remarks: str = ""


def put_in_place(statements: Iterable[Statement], how: Declared, between: str) -> Iterator[Statement]:
    """Yield statements with the members of maps, and of sets that phrases do not know, in place of their names."""
    remarks = re.compile(how.remarks) if how.remarks else None
    for each in statements:
        if not each.children:
            yield each
            continue
        known: dict[str, str] = {}
        children = []
        for child in each.children:
            name = _name_of(child, how)
            if name and remarks is not None:
                child = _plain(child, how.members, remarks)
            members = _members(child, how) if name else None
            if name and members is not None and not _is_kept(child, members, how, between):
                known[name] = members
            else:
                children.append(child)
        if known:
            children = [*_used(children, how.use, known)]
        same = len(children) == len(each.children) and all(map(operator.is_, children, each.children))
        yield each if same else Statement(each.text, each.line, children)


def _name_of(block: Statement, how: Declared) -> str:
    words = block.text.split()
    return words[1] if block.children and len(words) == 2 and words[0] in how.blocks else ""


def _plain(block: Statement, begins: str, remarks: re.Pattern[str]) -> Statement:
    """Return a collection without what stands behind its members and says nothing of them."""
    children = [
        Statement(remarks.sub("", each.text), each.line, each.children) if each.text.startswith(begins) else each
        for each in block.children or ()
    ]
    return Statement(block.text, block.line, children) if children != block.children else block


def _members(block: Statement, how: Declared) -> str | None:
    """Return the members of a collection, in braces; None if these are not all, or are not told."""
    texts = [each.text for each in block.children or () if each.children is None]
    if any(text.startswith(how.unless) for text in texts) or len(texts) < len(block.children or ()):
        return None
    return next((text.removeprefix(how.members).strip() for text in texts if text.startswith(how.members)), None)


def _is_kept(block: Statement, members: str, how: Declared, between: str) -> bool:
    """Tell whether phrases know a collection by its name."""
    if f" {between} " in members or " : " in members:
        return False
    return not how.kept or any(each.text.startswith(how.kept) for each in block.children or ())


def _used(statements: Iterable[Statement], use: str, known: dict[str, str]) -> Iterator[Statement]:
    names = re.compile(rf"(?<!\S){re.escape(use)}({'|'.join(map(re.escape, known))})(?!\S)")
    room = MOST_LETTERS

    def put(found: re.Match[str]) -> str:
        nonlocal room
        room -= len(known[found[1]])
        return known[found[1]] if room >= 0 else found[0]

    def one(statement: Statement) -> list[Statement] | None:
        text = names.sub(put, statement.text)
        return [Statement(text, statement.line)] if text != statement.text else None

    return rewritten(statements, one)


class Parting:
    """Parts statements with collections into one for each member.

    Args:
        maps: How maps are written.
        joined: How tests of several fields at once are written, if they are.
        apart: Fields of which a statement that names several values stands for one with each.
    """

    def __init__(self, maps: tuple[Mapped, ...], joined: Joined | None, apart: tuple[str, ...]) -> None:
        self.maps, self.joined = maps, joined
        words = "|".join(map(re.escape, apart))
        self.apart = re.compile(rf"(?<!\S)({words}) \{{ ([^{{}}]*) \}}") if apart else None
        if joined is not None:
            link = rf" {re.escape(joined.between)} "
            member = rf"\S+(?:{link}\S+)+"
            self.fields = re.compile(
                rf"(?<!\S)({joined.field}(?:{link}{joined.field})+) (?:\{{ ([^{{}}]*) \}}|({member}))(?!\S)"
            )

    def each(self, statements: Iterable[Statement]) -> Iterator[Statement]:
        """Return statements without collections; those that had none are the same objects."""
        return rewritten(statements, self._arms)

    def _arms(self, statement: Statement) -> Iterator[Statement] | None:
        """Return the statements that one stands for, of which at most one applies."""
        texts = self.parted(statement.text)
        if texts is None:
            return None
        return (Statement(text, statement.line, arm=number) for number, text in enumerate(texts, 1))

    def parted(self, text: str) -> list[str] | None:
        """Return the statements that one stands for; None if it stands for itself, or they are too many."""
        found = next((found for one in self.maps if (found := _looked_up(text, one)) is not None), None)
        for part in (self._fields, self._values):
            pieces = [part(each) for each in found or [text]]
            if any(each is not None for each in pieces):
                found = [one for each, old in zip(pieces, found or [text], strict=True) for one in each or [old]]
        return found if found is None or len(found) <= MOST else None

    def _fields(self, text: str) -> list[str] | None:
        """Return the statements with one test for each field; None if no fields are tested at once."""
        match = self.fields.search(text) if self.joined is not None else None
        if match is None or self.joined is None:
            return None
        link = f" {self.joined.between} "
        fields = match[1].split(link)
        texts = []
        for member in (match[2] or match[3]).split(","):
            values = member.strip().split(link)
            if len(values) != len(fields):
                return None
            tests = " ".join(f"{field} {value}" for field, value in zip(fields, values, strict=True))
            texts.append(f"{text[: match.start()]}{tests}{text[match.end() :]}")
        return texts

    def _values(self, text: str) -> list[str] | None:
        """Return the statements with one value each; None if there are not several."""
        match = self.apart.search(text) if self.apart is not None else None
        if match is None:
            return None
        values = (each.strip() for each in match[2].split(","))
        return [f"{text[: match.start()]}{match[1]} {value}{text[match.end() :]}" for value in values]


def _looked_up(text: str, how: Mapped) -> list[str] | None:
    """Return the statements that one with a map stands for; None if it has none that is written out."""
    before, word, rest = text.partition(f" {how.word} {{")
    inside, closed, after = rest.partition("}")
    if not word or not closed or "{" in inside:
        return None
    action = re.search(how.action, before) if how.action else None
    if how.action and action is None:
        return None
    found = []
    for element in inside.split(","):
        key, colon, value = (each.strip() for each in element.partition(" : "))
        if not colon:
            return None
        if action is None:
            found.append(f"{before} {key} {value}{after}")
        else:
            field, does = before[action.end() :].strip(), action[0]
            head = _besides(before[: action.start()], field, key)
            if head is None:
                continue
            address, both, port = value.partition(" . ")
            if how.ends and both:
                does = does.replace(how.ends, "")
                value = f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
            found.append(f"{head}{field} {key} {does} {value}{after}".strip())
    return found


def _besides(tests: str, field: str, key: str) -> str | None:
    """Return tests without one of a field of which one value is known; None if it is another value."""
    value = r"(?:\{ ([^{}]*) \}|([0-9][0-9.:/-]*)) "
    # Behind such words it is another field of the same name.
    behind = r"(?<!\S)(?<!original )(?<!reply )(?<!in )(?<!out )"
    same = re.search(behind + re.escape(field) + " " + value, tests) if field else None
    if same is None:
        return tests
    values = [each.strip() for each in (same[1] or same[2]).split(",")]
    if key in values:
        return tests[: same.start()] + tests[same.end() :]
    return None if all(map(str.isdecimal, (key, *values))) else tests
