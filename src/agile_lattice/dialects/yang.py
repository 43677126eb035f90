"""YANG data as RESTCONF carries it (RFC 8040): in JSON (RFC 7951) and in XML (RFC 7950), and its lists with their keys.

A dialect that has a form for each of the two says all that is needed: what is a list, and which modules there are.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.surfaces import Json, Xml

# What is around the data: answers, errors and patches (RFC 8040, RFC 8072, RFC 7895, RFC 8525).
PROTOCOL = ("ietf-restconf", "ietf-yang-patch", "ietf-yang-library")
LISTS = ("edit", "error", "module", "module-set")
TEXTS = ("patch-id", "edit-id", "revision", "error-message", "content-id", "module-set-id")


class Yang(msgspec.Struct, frozen=True):
    """The encodings of some YANG data.

    Attributes:
        json: As JSON.
        xml: As XML.
        keys: By the name of a list, the names of its keys.
    """

    json: Json
    xml: Xml
    keys: Mapping[str, tuple[str, ...]]

    def to_xml(self, text: str) -> str:
        """Return a JSON document as XML.

        Raises:
            CaptureError: If it is not well-formed.
        """
        return self.xml.print(self.json.parse(text, "JSON"))

    def to_json(self, text: str) -> str:
        """Return an XML document as JSON.

        Raises:
            CaptureError: If it is not well-formed.
        """
        return self.json.print(self.xml.parse(text, "XML"))


def yang_of(dialects: Iterable[Dialect]) -> Yang | None:
    """Return how the YANG data of dialects is encoded; `None` if none of them has a form for JSON and one for XML."""
    for dialect in dialects:
        surfaces = [each.surface for each in dialect.forms]
        json = next((each for each in surfaces if isinstance(each, Json)), None)
        xml = next((each for each in surfaces if isinstance(each, Xml)), None)
        if json is not None and xml is not None:
            modules = {name: f"urn:ietf:params:xml:ns:yang:{name}" for name in PROTOCOL}
            return Yang(
                msgspec.structs.replace(json, lists=(*json.lists, *LISTS), texts=(*json.texts, *TEXTS)),
                msgspec.structs.replace(xml, namespaces={**xml.namespaces, **modules}, around=()),
                dialect.running.keys,
            )
    return None
