"""A surface of XML documents."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from xml.etree import ElementTree
from xml.parsers import expat

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.surfaces.documents import scalar
from agile_lattice.dialects.surfaces.statements import Statement, Surface
from agile_lattice.intent.places import Place


class Xml(Surface, frozen=True, tag="xml"):
    """XML: an element is a statement `name text`, or a block of those inside it.

    Attributes:
        root: Name of the element around everything, with its namespace before a colon; empty for none.
        namespaces: Namespaces by the names under which statements have them: `module:name`.
    """

    root: str = ""
    namespaces: Mapping[str, str] = msgspec.field(default_factory=dict)

    def parse(self, text: str, file: str) -> list[Statement]:
        """Cut a text into statements."""
        reader = _XmlReader({uri: name for name, uri in self.namespaces.items()})
        try:
            reader.parse(text)
        except expat.ExpatError as error:
            if error.lineno == 1 and not text.lstrip().startswith("<"):
                raise CaptureError(Place(file, 1), "this is not XML", other=True) from None
            raise CaptureError(
                Place(file, error.lineno), f"not well-formed XML: {expat.ErrorString(error.code)}",
                "It may be cut off: capture it again.",
            ) from None  # fmt: skip
        found = reader.top
        return found[0].children or [] if self.root and found and found[0].text == self.root else found

    def print(self, statements: Sequence[Statement]) -> str:
        """Lay statements out as text."""
        name, _, local = self.root.partition(":")
        top = ElementTree.Element(local or name or "config", xmlns=self.namespaces.get(name, ""))
        for prefix, uri in self.namespaces.items():
            if prefix != name:
                top.set(f"xmlns:{prefix}", uri)
        self._fill(top, statements, name)
        ElementTree.indent(top)
        return ElementTree.tostring(top, encoding="unicode") + "\n"

    def _fill(self, parent: ElementTree.Element, statements: Sequence[Statement], around: str) -> None:
        for statement in statements:
            head, _, value = statement.text.partition(" ")
            prefix, colon, local = head.partition(":")
            element = ElementTree.SubElement(parent, local if colon else head)
            inside = around
            if colon and prefix != around:
                element.set("xmlns", self.namespaces.get(prefix, prefix))
                inside = prefix
            if statement.children is None:
                element.text = value
            else:
                self._fill(element, statement.children, inside)


class _XmlReader:
    """Makes statements of elements; a name has its module before it where that is another one than around it."""

    def __init__(self, modules: dict[str, str]) -> None:
        self.modules = modules
        self.top: list[Statement] = []
        self.stack: list[tuple[Statement, str, list[str]]] = []
        self.parser = expat.ParserCreate(namespace_separator=" ")
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.characters
        # Entities of its own would let a small text grow without bound.
        self.parser.EntityDeclHandler = self.refuse

    def parse(self, text: str) -> None:
        self.parser.Parse(text, True)

    def refuse(self, *_: object) -> None:
        raise expat.ExpatError("entities are not read")

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
        if statement.children is None and value:
            statement.text = f"{statement.text} {scalar(value)}"
        elif statement.children is None:
            statement.children = []
