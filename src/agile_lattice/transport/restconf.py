"""RESTCONF (RFC 8040) on devices: their configuration by resource, and changes as one YANG Patch (RFC 8072).

A change is bound by the entity tag of the datastore to the configuration that it was worked out for (RFC 8040, 3.5.2):
the device refuses it if that is not the running one any more. A patch is made as a whole or not at all.
"""

from __future__ import annotations

import base64
import hashlib
import http.client
import json
import re
import socket
import ssl
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from threading import Event, Timer
from typing import Any
from urllib.parse import urlsplit

import msgspec

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.yang import Yang
from agile_lattice.intent.connections import Connection
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.passwords import password_of
from agile_lattice.transport.yang_patch import edits

SECONDS = 60.0
LARGEST = 64 * 2**20  # bytes of an answer
TRIES = 3  # if somebody changes the configuration while it is fetched
DATA, PATCH = "application/yang-data", "application/yang-patch"
ACCEPT = f"{DATA}+json, {DATA}+xml;q=0.5"
LINK = re.compile(r"<Link\b[^>]*?\brel\s*=\s*[\"']restconf[\"'][^>]*>")
HREF = re.compile(r"\bhref\s*=\s*[\"']([^\"']+)[\"']")
# Which modules a device implements: RFC 8525, and RFC 7895 before it.
LIBRARIES = ("ietf-yang-library:yang-library", "ietf-yang-library:modules-state")
CAUSES = {
    401: ("the login was refused", "Check the user and the password."),
    403: ("the user may not do that", "Check what the device lets this user do."),
    412: ("it changed since the change was worked out", "Capture it again, and look at the difference."),
}


class Reply(msgspec.Struct, frozen=True):
    """What a device answered: the status, the entity tag of the resource, and the body."""

    status: int
    tag: str
    body: str


class RestconfError(TransportError):
    """A device answered, and did not do what it was asked.

    Attributes:
        status: The status of its answer.
    """

    def __init__(self, device: str, reply: Reply, asked: str) -> None:
        self.status = reply.status
        cause, remedy = CAUSES.get(reply.status, (f"{asked} failed", ""))
        super().__init__(device, cause, _said(reply), remedy)


class Restconf:
    """RESTCONF on a device. Each request is a connection of its own, so that a lost one is noticed.

    Args:
        device: The device's name.
        connection: How it is reached.
        folder: Where file names of the connection begin: that of the intent.
        yang: How its data is encoded.
    """

    def __init__(self, device: str, connection: Connection, folder: Path = Path(), yang: Yang | None = None) -> None:
        self.device, self.connection, self.folder, self.yang = device, connection, folder, yang
        self._root = ""
        self._in_xml = False  # whether it answered in XML: then it is told in XML, too

    def configuration(self, resources: Sequence[str]) -> tuple[str, str]:
        """Fetch top-level resources of the configuration.

        Args:
            resources: Their names, with the module: `ietf-interfaces:interfaces`.

        Returns:
            One JSON document of those that are there (RFC 7951), and the entity tag of the datastore.

        Raises:
            TransportError: If the device is not reached, does not answer as it should, or is changed all the time.
        """
        for _ in range(TRIES):
            tag, found = self.tag(), dict[str, Any]()
            for each in resources:
                reply = self._ask("GET", f"{self._api()}/data/{each}?content=config", missing=True)
                if reply.status == http.client.OK:
                    found |= self._document(reply.body, each)
                else:
                    self._is_empty(each)
            if self.tag() == tag:
                return json.dumps(found, indent=2) + "\n", tag
        raise TransportError(
            self.device, "it changes while it is looked at", remedy="Try again when nobody works on it."
        )

    def entries(self, resource: str) -> str:
        """Fetch a top-level resource with its state, and return the entries of its lists, each as a line.

        Args:
            resource: Its name, with the module.

        Returns:
            A line for each entry, with the names and values of all that stands in it (blanks in values are `_`);
            none if it is not there.

        Raises:
            TransportError: If the device is not reached, or does not answer as it should.
        """
        reply = self._ask("GET", f"{self._api()}/data/{resource}", missing=True)
        if reply.status != http.client.OK:
            return ""
        lists = self._document(reply.body, resource)[resource].values()
        return "".join(f"{_words(each)}\n" for one in lists if isinstance(one, list) for each in one)

    def _is_empty(self, resource: str) -> None:
        """Make sure that there is nothing, where a resource is not there: a module may not be known at all.

        Raises:
            TransportError: If the device does not implement the module, or does not say which it does.
        """
        module = resource.partition(":")[0]
        for library in LIBRARIES:
            reply = self._ask("GET", f"{self._api()}/data/{library}", missing=True)
            if reply.status == http.client.OK:
                if module not in _modules(self._document(reply.body, library)[library]):
                    raise TransportError(self.device, f"it does not implement {module}", resource)
                return
        raise TransportError(self.device, "it does not say which modules it implements", ", ".join(LIBRARIES))

    def tag(self) -> str:
        """Return the entity tag of the datastore: another one after every change; empty if the device tells none."""
        return self._ask("HEAD", f"{self._api()}/data").tag

    def replace(self, before: str, after: str, tag: str) -> str:
        """Put one configuration in the place of another, all of it or nothing; return its entity tag.

        Args:
            before: The document that was fetched.
            after: The one to be.
            tag: The entity tag of the datastore that `before` is of.

        Raises:
            RestconfError: If the device does not do it: it is as it was.
            TransportError: If the link was lost, and nothing is known.
        """
        if not tag:
            raise TransportError(self.device, "it tells no entity tag, to which a change could be bound")
        patch = {"patch-id": f"lattice-{hashlib.sha256(after.encode()).hexdigest()[:12]}",
                 "edit": edits(json.loads(before), json.loads(after), self.yang.keys if self.yang else {})}  # fmt: skip
        text, kind = json.dumps({"ietf-yang-patch:yang-patch": patch}), f"{PATCH}+json"
        if self._in_xml and self.yang is not None:
            text, kind = self.yang.to_xml(text), f"{PATCH}+xml"
        made = self._ask("PATCH", f"{self._api()}/data", text, {"Content-Type": kind, "If-Match": tag})
        return made.tag or self.tag()

    def _api(self) -> str:
        """Return where RESTCONF begins on the device (RFC 8040, 3.1)."""
        if not self._root:
            body = self._ask("GET", "/.well-known/host-meta", headers={"Accept": "application/xrd+xml"}).body
            link = LINK.search(body)
            href = HREF.search(link[0]) if link else None
            if href is None:
                raise TransportError(self.device, "it does not say where RESTCONF begins", "/.well-known/host-meta")
            self._root = urlsplit(href[1]).path.rstrip("/")  # on this host, whatever it names
        return self._root

    def _document(self, body: str, resource: str) -> dict[str, Any]:
        try:
            found = json.loads(body)
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, dict) or not isinstance(found.get(resource), dict) or not _is_text(found):
            raise TransportError(self.device, "its answer is neither JSON nor XML of YANG data", resource)
        return {resource: found[resource]}

    def _ask(
        self, method: str, path: str, body: str = "", headers: Mapping[str, str] | None = None, missing: bool = False
    ) -> Reply:
        """Make one request, and return the answer; one that says `not found` only if that may be."""
        sent = {"Accept": ACCEPT, "Authorization": self._login(), **(headers or {})}
        host, port = self.connection.to, self.connection.port
        link = http.client.HTTPSConnection(host, port, timeout=SECONDS, context=self._trusted())
        late = Event()
        timer = Timer(SECONDS, _cut, [link, late])  # over all: one that sends an octet a minute never ends
        timer.start()
        try:
            link.request(method, path, body.encode() or None, sent)
            answer = link.getresponse()
            text = answer.read(LARGEST + 1)
            body = text.decode(errors="replace")
            if answer.getheader("Content-Type", "").startswith(f"{DATA}+xml"):
                self._in_xml, body = True, self._as_json(body)
            reply = Reply(answer.status, answer.getheader("ETag", ""), body)
        except ssl.SSLCertVerificationError as error:
            said = self._fingerprint() or error.verify_message
            raise TransportError(
                self.device, "its certificate is not known, or is another one", said,
                "Compare the fingerprint by another way, and put the certificate into the file of `certificate`.",
            ) from None  # fmt: skip
        except TimeoutError:
            raise TransportError(self.device, "it did not answer in time") from None
        except ConnectionRefusedError:
            raise TransportError(self.device, "it refuses the connection") from None
        except (OSError, http.client.HTTPException, ValueError) as error:
            cause = "it did not answer in time" if late.is_set() else "the link was lost, or there is none"
            raise TransportError(self.device, cause, "" if late.is_set() else str(error)) from None
        finally:
            timer.cancel()
            link.close()
        if late.is_set():
            raise TransportError(self.device, "it did not answer in time")
        if len(text) > LARGEST:
            raise TransportError(self.device, "its answer is too long", f"more than {LARGEST // 2**20} MB")
        if reply.status >= http.client.BAD_REQUEST and not (missing and reply.status == http.client.NOT_FOUND):
            raise RestconfError(self.device, reply, f"{method} {path}")
        return reply

    def _as_json(self, text: str) -> str:
        try:
            return self.yang.to_json(text) if self.yang is not None and text else text
        except CaptureError:
            return ""  # what follows finds that it is no document

    def _trusted(self) -> ssl.SSLContext:
        name = self.connection.certificate
        try:
            return ssl.create_default_context(cafile=str(self.folder / Path(name).expanduser()) if name else None)
        except OSError as error:
            raise TransportError(
                self.device, "the file of its certificate cannot be used", f"{name}: {error}"
            ) from None

    def _fingerprint(self) -> str:
        try:
            pem = ssl.get_server_certificate((self.connection.to, self.connection.port), timeout=SECONDS)
        except OSError:
            return ""
        return f"SHA256 fingerprint {hashlib.sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest()}"

    def _login(self) -> str:
        password = password_of(self.device, self.connection, self.folder)
        login = f"{self.connection.user}:{password}"
        return f"Basic {base64.b64encode(login.encode()).decode()}"


def _cut(link: http.client.HTTPSConnection, late: Event) -> None:
    """End a connection that takes too long."""
    late.set()
    with suppress(OSError, AttributeError):
        link.sock.shutdown(socket.SHUT_RDWR)


def _is_text(found: Any) -> bool:
    """Tell whether all in a document is text: half of a pair of surrogates is none (RFC 8259, section 8.2)."""
    try:
        json.dumps(found, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return False
    return True


def _words(value: Any) -> str:
    """Return the names and values in a part of a document."""
    if isinstance(value, dict):
        return " ".join(f"{name} {_words(each)}" for name, each in value.items())
    return " ".join(map(_words, value)) if isinstance(value, list) else re.sub(r"\s+", "_", str(value))


def _modules(library: Any) -> set[str]:
    """Return the names of the modules in a library of RFC 8525 or RFC 7895."""
    sets = _listed(library.get("module-set", [library]) if isinstance(library, dict) else None)
    members = [each for one in sets if isinstance(one, dict) for each in _listed(one.get("module"))]
    return {str(each["name"]) for each in members if isinstance(each, dict) and "name" in each}


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _said(reply: Reply) -> str:
    """Return the first message of the errors in an answer (RFC 8040, 7.1)."""
    for key in ("error-message", "error-tag"):
        found = re.search(rf'"{key}"\s*:\s*"((?:[^"\\]|\\.)*)"', reply.body)
        if found:
            with suppress(ValueError):  # what it escapes wrongly is told as it is
                return str(json.loads(f'"{found[1]}"')).encode(errors="backslashreplace").decode()
            return found[1]
    return f"status {reply.status}"
