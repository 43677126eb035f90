"""A surface of XML documents."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar
from xml.etree import ElementTree
from xml.parsers import expat

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.documents import scalar
from agile_lattice.dialects.surfaces.statements import Statement, Surface
from agile_lattice.intent.places import Place

_DECLARATION = re.compile(r"^\s*<\?xml[^>]*\?>")
WRAPPER = "lattice"


class Xml(Surface, frozen=True, tag="xml"):
    """XML: an element is a statement `name text`, or a block of those inside it.

    Attributes:
        around: Names of elements that may stand around everything, and say nothing: `module:name`.
        namespaces: Namespaces by the names under which statements have them: `module:name`.
        identities: Elements whose text names an identity, with a prefix that each writer chooses.
    """

    around: tuple[str, ...] = ()
    namespaces: Mapping[str, str] = msgspec.field(default_factory=dict)
    identities: tuple[str, ...] = ()
    closed: ClassVar[bool] = True
    parted: ClassVar[bool] = True

    @property
    def inner(self) -> str:
        """What a block is indented by."""
        return "  "

    def closes(self, line: str) -> bool:
        """Tell whether a line ends a block, and holds nothing else."""
        return re.fullmatch(r"\s*</[^<>]+>\s*", line) is not None

    def closes_all(self, last: str) -> bool:
        """Tell whether an element that says nothing stands around everything."""
        names = "|".join(each.partition(":")[2] for each in self.around)
        return re.fullmatch(rf"\s*</(\w+:)?({names})>\s*", last) is not None

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        if not text.lstrip().startswith("<"):
            raise CaptureError(Place(file, 1), "this is not XML", other=True)
        reader = _XmlReader({uri: name for name, uri in self.namespaces.items()}, self.identities)
        # Data may have several elements at the top: an element of ours around them makes them a document.
        # Inside it no DOCTYPE is well-formed, so there are no entities that would let a small text grow without bound.
        body = _DECLARATION.sub("", text, count=1)
        try:
            reader.parse(f"<{WRAPPER}>{body}</{WRAPPER}>")
        except expat.ExpatError as error:
            raise CaptureError(
                Place(file, error.lineno), f"not well-formed XML: {expat.ErrorString(error.code)}",
                "It may be cut off: capture it again.",
            ) from None  # fmt: skip
        found = reader.top[0].children or []
        return found[0].children or [] if len(found) == 1 and found[0].text in self.around else found

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        elements = [self._element(each, "") for each in statements]
        for element in elements:
            ElementTree.indent(element)
        return "".join(f"{ElementTree.tostring(element, encoding='unicode')}\n" for element in elements)

    def _element(self, statement: Statement, around: str) -> ElementTree.Element:
        head, _, value = statement.text.partition(" ")
        prefix, colon, local = head.partition(":")
        element = ElementTree.Element(local if colon else head)
        module = prefix if colon else around
        if module != around:
            element.set("xmlns", self.namespaces.get(module, module))
        if statement.children is None:
            element.text = value
            named = value.partition(":")[0]
            if named in self.namespaces:  # an identity of another module
                element.set(f"xmlns:{named}", self.namespaces[named])
        else:
            element.extend(self._element(each, module) for each in statement.children)
        return element


class _XmlReader:
    """Makes statements of elements; a name has its module before it where that is another one than around it."""

    def __init__(self, modules: dict[str, str], identities: tuple[str, ...]) -> None:
        self.modules = modules
        self.identities = identities
        self.top: list[Statement] = []
        self.stack: list[tuple[Statement, str, list[str]]] = []
        self.prefixes: dict[str, str] = {}
        self.parser = expat.ParserCreate(namespace_separator=" ")
        self.parser.StartNamespaceDeclHandler = self.declare
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.characters

    def parse(self, text: str) -> None:
        self.parser.Parse(text, True)

    def declare(self, prefix: str | None, uri: str) -> None:
        if prefix and uri in self.modules:
            self.prefixes[prefix] = self.modules[uri]

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        uri, _, name = tag.rpartition(" ")
        module = self.modules.get(uri, uri)
        around = self.stack[-1][1] if self.stack else ""
        text = f"{module}:{name}" if module and module != around else name
        statement = Statement(text, self.parser.CurrentLineNumber)
        if not self.stack:
            self.top.append(statement)
        else:
            parent = self.stack[-1][0]
            parent.children = parent.children or []
            parent.children.append(statement)
        self.stack.append((statement, module, []))

    def characters(self, data: str) -> None:
        if self.stack:
            self.stack[-1][2].append(data)

    def end(self, _: str) -> None:
        statement, _, data = self.stack.pop()
        value = "".join(data).strip()
        prefix, _, identity = value.partition(":")
        # The writer chose the prefix: RFC 7950, section 9.10.3.
        if statement.text in self.identities and prefix in self.prefixes:
            value = f"{self.prefixes[prefix]}:{identity}"
        if statement.children is None and value:
            statement.text = f"{statement.text} {scalar(value)}"
        elif statement.children is None:
            statement.children = []
