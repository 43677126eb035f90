"""The RESTCONF servers of stand-ins (RFC 8040): JSON and XML, entity tags, edits and YANG Patch (RFC 8072)."""

from __future__ import annotations

import base64
import hmac
import json
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cached_property
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, quote, urlsplit

from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.yang import Yang, yang_of
from agile_lattice.standin.certificates import certified
from agile_lattice.standin.datastore import Data, NotDone, Step, edited, found, steps_of
from agile_lattice.standin.device import SLOW, Moved, Refused, Standin

ROOT = "/restconf"
DATA, PATCH = "application/yang-data", "application/yang-patch"
STARTED = "2026-11-20T06:00:00+00:00"  # since when it counts errors
META = f"""<?xml version='1.0' encoding='UTF-8'?>
<XRD xmlns='http://docs.oasis-open.org/ns/xri/xrd-1.0'><Link rel='restconf' href='{ROOT}'/></XRD>
"""
API = {"ietf-restconf:restconf": {"data": {}, "operations": {}, "yang-library-version": "2016-06-21"}}
# What a client may count on (RFC 7895); revisions are those of the RFCs.
MODULES = {
    "iana-if-type": "2014-05-08", "ietf-interfaces": "2018-02-20", "ietf-ip": "2018-02-22",
    "ietf-routing": "2018-03-13", "ietf-ipv4-unicast-routing": "2018-03-13", "ietf-ipv6-unicast-routing": "2018-03-13",
    "ietf-yang-library": "2016-06-21",
}  # fmt: skip
LIBRARY = {
    "ietf-yang-library:modules-state": {
        "module-set-id": "1",
        "module": [
            {"name": name, "revision": revision, "namespace": f"urn:ietf:params:xml:ns:yang:{name}",
             "conformance-type": "implement"}
            for name, revision in MODULES.items()
        ],
    }
}  # fmt: skip
TAGS = {400: "malformed-message", 401: "access-denied", 404: "invalid-value", 405: "operation-not-supported",
        406: "operation-not-supported", 409: "operation-failed", 412: "operation-failed",
        415: "operation-not-supported"}  # fmt: skip
LONGEST = 16 * 2**20  # bytes of a request
POLL = 0.05  # seconds between two looks whether it has ended


class Failed(Exception):
    """A request that is not done, with the status of the answer."""

    def __init__(self, status: int, message: str) -> None:
        self.status = status
        super().__init__(message)


def serve(device: Standin, host: str, port: int, login: str, certificate: Path) -> ThreadingHTTPServer:
    """Let a device be reached by RESTCONF, from threads of its own.

    Args:
        device: The device.
        host: The address.
        port: The port.
        login: The user and the password, with a colon between.
        certificate: The file of its certificate, which is made unless it is there.

    Raises:
        OSError: If the address or the port cannot be had.
    """
    wanted = f"Basic {base64.b64encode(login.encode()).decode()}"
    handler = type("Handler", (_Handler,), {"device": device, "login": wanted, "lock": threading.Lock()})
    server = _Server((host, port), handler)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, certified(certificate, host))
    # The handshake is left to the thread of the connection: one that says nothing holds up no other.
    server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    threading.Thread(target=server.serve_forever, args=(POLL,), daemon=True).start()
    return server


class _Server(ThreadingHTTPServer):
    daemon_threads = True

    def handle_error(self, request: object, client_address: object) -> None:
        """Print nothing: a client that does not know the certificate, or goes away, is told so by its own program."""


class _Handler(BaseHTTPRequestHandler):
    device: Standin
    login: str
    lock: threading.Lock
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        """Answer with a resource."""
        self._answered(self._get)

    def do_HEAD(self) -> None:
        """Answer as to GET, without the body."""
        self._answered(self._get)

    def do_PATCH(self) -> None:
        """Make a YANG Patch, or lay data over what is there."""
        self._answered(self._patch)

    def do_PUT(self) -> None:
        """Put a resource in place of what is there."""
        self._answered(lambda: self._edit("replace"))

    def do_POST(self) -> None:
        """Create a resource inside another."""
        self._answered(lambda: self._edit("create"))

    def do_DELETE(self) -> None:
        """Take a resource away."""
        self._answered(lambda: self._edit("delete"))

    def log_message(self, format: str, *args: object) -> None:
        """Print nothing: a request can hold what is nobody's business."""

    @cached_property
    def yang(self) -> Yang:
        """The encodings of its data."""
        yang = yang_of([BUILT_IN.dialect(self.device.dialect)])
        assert yang is not None
        return yang

    @property
    def steps(self) -> list[Step]:
        """The resource that the request is about."""
        path = urlsplit(self.path).path
        if path != f"{ROOT}/data" and not path.startswith(f"{ROOT}/data/"):
            raise Failed(HTTPStatus.NOT_FOUND, f"there is nothing at {path}")
        return steps_of(path.removeprefix(f"{ROOT}/data"))

    def _answered(self, do: Callable[[], None]) -> None:
        """Do what is asked, and answer."""
        faults = self.device.faults
        if "silent" in faults:
            threading.Event().wait()
        if "slow" in faults:
            time.sleep(SLOW)
        try:
            if not hmac.compare_digest(self.headers.get("Authorization", ""), self.login):
                raise Failed(HTTPStatus.UNAUTHORIZED, "who are you?")
            do()
        except Failed as failed:
            error = {"error-type": "protocol", "error-tag": TAGS[failed.status], "error-message": str(failed)}
            self._send(failed.status, {"ietf-restconf:errors": {"error": [error]}})

    def _get(self) -> None:
        path, _, query = self.path.partition("?")
        if path == "/.well-known/host-meta":
            self._written(HTTPStatus.OK, META, "application/xrd+xml", "")
            return
        if not self._encoding:
            raise Failed(HTTPStatus.NOT_ACCEPTABLE, f"only {DATA}+json and {DATA}+xml are to be had")
        if path == ROOT:
            self._send(HTTPStatus.OK, API)
            return
        steps = self.steps
        with self.lock:
            tag = self.device.revision
            document = json.loads(self.device.printed(self.device.running))
        if "config" not in parse_qs(query).get("content", ["all"]):
            _with_state(document, self.device)
        if not steps:
            self._send(HTTPStatus.OK, {"ietf-restconf:data": document}, tag)
            return
        with _as_failure():
            resource = found({**document, **LIBRARY}, steps, {**self.yang.keys, "module": ("name", "revision")})
        several = [each for each in resource.values() if isinstance(each, list) and len(each) > 1]
        if several and self._encoding == "xml":
            raise Failed(HTTPStatus.BAD_REQUEST, "several entries are no XML document (RFC 8040, 4.3): ask for one")
        self._send(HTTPStatus.OK, resource, tag)

    def _patch(self) -> None:
        if self._is_of(DATA):
            self._edit("merge")
            return
        if not self._is_of(PATCH):
            raise Failed(HTTPStatus.UNSUPPORTED_MEDIA_TYPE, f"a patch is {PATCH}+json, {PATCH}+xml, or data")
        patch = self._body().get("ietf-yang-patch:yang-patch", {})
        try:
            name = str(patch["patch-id"])
            edits = [(str(each["operation"]), str(each["target"]), each.get("value")) for each in patch["edit"]]
        except (KeyError, TypeError, AttributeError):
            raise Failed(HTTPStatus.BAD_REQUEST, "this is no YANG Patch (RFC 8072)") from None
        around = self.steps
        made = edits[: len(edits) // 2] if "half" in self.device.faults else edits
        tag = self._change([(operation, steps_of(target, around), value) for operation, target, value in made])
        if tag:
            status = {"patch-id": name, "ok": {} if self._encoding == "xml" else [None]}
            self._send(HTTPStatus.OK, {"ietf-yang-patch:yang-patch-status": status}, tag)

    def _edit(self, operation: str) -> None:
        """Make one edit of the resource that the request is about; a new one is created inside it."""
        steps = self.steps
        value = self._body() if operation != "delete" else None
        if operation == "create" and value is not None:
            for name, each in value.items():
                entry = each[0] if isinstance(each, list) and each else each
                keys = self.yang.keys.get(name.rpartition(":")[2], ())
                named = [str(entry.get(key)) for key in keys] if isinstance(entry, dict) else []
                steps = steps_of(name + (f"={','.join(quote(one, safe='') for one in named)}" if named else ""), steps)
        tag = self._change([(operation, steps, value)])
        if tag:
            self._written(HTTPStatus.CREATED if operation == "create" else HTTPStatus.NO_CONTENT, "", "", tag)

    def _change(self, edits: Sequence[tuple[str, Sequence[Step], Any]]) -> str:
        """Make edits, all or none; return the entity tag after them, or nothing if the connection is to be dropped."""
        with self.lock:
            document: Data = json.loads(self.device.running)
            with _as_failure():
                for operation, steps, value in edits:
                    document = edited(document, steps, operation, value, self.yang.keys)
            try:
                wanted = self.headers.get("If-Match", "*").strip('"')
                revision = self.device.revision if wanted == "*" else wanted
                self.device.replace(json.dumps(document, indent=2) + "\n", revision)
            except Moved as moved:
                raise Failed(HTTPStatus.PRECONDITION_FAILED, str(moved)) from None
            except Refused as refused:
                raise Failed(HTTPStatus.CONFLICT, str(refused)) from None
            tag = self.device.revision
        if "drop" in self.device.faults:
            self.close_connection = True
            return ""
        return tag

    def _is_of(self, kind: str) -> bool:
        """Tell whether the request has a body of a kind, in one of the encodings."""
        return self.headers.get("Content-Type", "").partition(";")[0] in (f"{kind}+json", f"{kind}+xml")

    def _body(self) -> Data:
        if not (self._is_of(DATA) or self._is_of(PATCH)):
            raise Failed(HTTPStatus.UNSUPPORTED_MEDIA_TYPE, f"data is {DATA}+json or {DATA}+xml")
        try:
            length = int(self.headers.get("Content-Length", ""))
            if not 0 <= length <= LONGEST:
                raise ValueError
            text = self.rfile.read(length).decode()
            if self.headers.get("Content-Type", "").partition(";")[0].endswith("+xml"):
                text = self.yang.to_json(text)
            return dict(json.loads(text))
        except (ValueError, TypeError, RecursionError, CaptureError):
            raise Failed(HTTPStatus.BAD_REQUEST, "its body cannot be read") from None

    @property
    def _encoding(self) -> str:
        """The encoding of what is answered: that which is asked for; nothing if that is none of them."""
        accepted = self.headers.get("Accept", "*/*")
        spoken = ("xml",) if "xml-only" in self.device.faults else ("json", "xml")
        wanted = [each for each in spoken if f"{DATA}+{each}" in accepted]
        anything = any(each in accepted for each in ("application/*", "*/*"))
        return next(iter(wanted), spoken[0] if anything else "")

    def _send(self, status: int, content: Mapping[str, Any], tag: str = "") -> None:
        text, encoding = json.dumps(content), self._encoding or "json"
        self._written(status, self.yang.to_xml(text) if encoding == "xml" else text, f"{DATA}+{encoding}", tag)

    def _written(self, status: int, text: str, kind: str, tag: str) -> None:
        body = text.encode()
        self.send_response(status)
        if kind:
            self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Cache-Control", "no-cache")
        if tag:
            self.send_header("ETag", f'"{tag}"')
        if status == HTTPStatus.UNAUTHORIZED:
            self.send_header("WWW-Authenticate", 'Basic realm="stand-in"')
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)


@contextmanager
def _as_failure() -> Iterator[None]:
    try:
        yield
    except NotDone as error:
        raise Failed(HTTPStatus.NOT_FOUND if error.missing else HTTPStatus.CONFLICT, str(error)) from None


def _with_state(document: Data, device: Standin) -> None:
    """Add to a configuration what the device tells of its interfaces (RFC 8343)."""
    ports = {str(each["interface"]): each for each in device.doing("interfaces")}
    for each in document.get("ietf-interfaces:interfaces", {}).get("interface", ()):
        port = ports.get(each.get("name"), {})
        each["oper-status"] = port.get("carrier", "unknown")
        each["statistics"] = {
            "discontinuity-time": STARTED,
            "in-errors": port.get("received_errors", 0), "out-errors": port.get("sent_errors", 0),
        }  # fmt: skip
