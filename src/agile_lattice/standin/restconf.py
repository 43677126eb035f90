"""The RESTCONF servers of stand-ins (RFC 8040): JSON, entity tags, and YANG Patch (RFC 8072) on the datastore."""

from __future__ import annotations

import base64
import hmac
import ipaddress
import json
import secrets
import ssl
import threading
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from agile_lattice.standin.device import SLOW, Moved, Refused, Standin

ROOT = "/restconf"
DATA, PATCH = "application/yang-data+json", "application/yang-patch+json"
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
KEYS = {"interface": ("name",), "address": ("ip",), "control-plane-protocol": ("type", "name"),
        "route": ("destination-prefix",)}  # fmt: skip
TAGS = {400: "malformed-message", 401: "access-denied", 404: "invalid-value", 405: "operation-not-supported",
        406: "operation-not-supported", 409: "operation-failed", 412: "operation-failed",
        415: "operation-not-supported"}  # fmt: skip
LONGEST = 16 * 2**20  # bytes of a request
DAYS = 3650
POLL = 0.05  # seconds between two looks whether it has ended


class Failed(Exception):
    """A request that is not done, with the status of the answer."""

    def __init__(self, status: int, message: str) -> None:
        self.status = status
        super().__init__(message)


def certified(certificate: Path, host: str) -> Path:
    """Make the certificate of a host that signs for itself, unless it is there; return the file of its key."""
    key_file = certificate.with_name(f"{certificate.name}.key")
    if certificate.exists() and key_file.exists():
        return key_file
    certificate.parent.mkdir(parents=True, exist_ok=True)
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "a stand-in to practise on")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=DAYS))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(host))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    key_file.touch(0o600)
    key_file.write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    )  # fmt: skip
    certificate.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return key_file


def password_in(file: Path) -> str:
    """Return the password in a file, which is made unless it is there."""
    if not file.exists():
        file.parent.mkdir(parents=True, exist_ok=True)
        file.touch(0o600)
        file.write_text(f"{secrets.token_urlsafe(16)}\n", encoding="utf-8")
    return file.read_text(encoding="utf-8").strip()


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
        """Change the datastore."""
        self._answered(self._patch)

    def do_PUT(self) -> None:
        """Say how the device is changed."""
        self._answered(self._not_done)

    def do_POST(self) -> None:
        """Say how the device is changed."""
        self._answered(self._not_done)

    def do_DELETE(self) -> None:
        """Say how the device is changed."""
        self._answered(self._not_done)

    def log_message(self, format: str, *args: object) -> None:
        """Print nothing: a request can hold what is nobody's business."""

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
        path = urlsplit(self.path).path
        if path == "/.well-known/host-meta":
            self._send(HTTPStatus.OK, META, "application/xrd+xml")
            return
        accepted = self.headers.get("Accept", "*/*")
        if not any(each in accepted for each in (DATA, "application/*", "*/*")):
            raise Failed(HTTPStatus.NOT_ACCEPTABLE, f"only {DATA} is to be had")
        if path == ROOT:
            self._send(HTTPStatus.OK, API)
            return
        with self.lock:
            tag = self.device.revision
            document = json.loads(self.device.printed(self.device.running))
        steps = [unquote(each) for each in path.removeprefix(f"{ROOT}/data").strip("/").split("/") if each]
        if not path.startswith(f"{ROOT}/data"):
            raise Failed(HTTPStatus.NOT_FOUND, f"there is nothing at {path}")
        self._send(HTTPStatus.OK, _found({**document, **LIBRARY} if steps else document, steps), tag=tag)

    def _patch(self) -> None:
        """Make a patch of the datastore, all of it or nothing."""
        if urlsplit(self.path).path != f"{ROOT}/data":
            raise Failed(HTTPStatus.METHOD_NOT_ALLOWED, "a patch is for the datastore, /restconf/data")
        if self.headers.get("Content-Type", "").partition(";")[0] != PATCH:
            raise Failed(HTTPStatus.UNSUPPORTED_MEDIA_TYPE, f"a patch is {PATCH}")
        patch = self._body()
        with self.lock:
            text = self.device.running
            made = _patched(json.loads(text), patch, half="half" in self.device.faults)
            try:
                revision = self.headers.get("If-Match", "").strip('"') or self.device.revision
                self.device.replace(json.dumps(made, indent=2) + "\n", revision)
            except Moved as moved:
                raise Failed(HTTPStatus.PRECONDITION_FAILED, str(moved)) from None
            except Refused as refused:
                raise Failed(HTTPStatus.CONFLICT, str(refused)) from None
            tag = self.device.revision
        if "drop" in self.device.faults:
            self.close_connection = True
            return
        status = {"patch-id": patch["patch-id"], "ok": [None]}
        self._send(HTTPStatus.OK, {"ietf-yang-patch:yang-patch-status": status}, tag=tag)

    def _body(self) -> dict[str, Any]:
        try:
            length = int(self.headers.get("Content-Length", ""))
            if not 0 <= length <= LONGEST:
                raise ValueError
            patch = json.loads(self.rfile.read(length))["ietf-yang-patch:yang-patch"]
            return {"patch-id": str(patch["patch-id"]), "edit": [dict(each) for each in patch["edit"]]}
        except (ValueError, TypeError, KeyError, RecursionError):
            raise Failed(HTTPStatus.BAD_REQUEST, "this is no YANG Patch (RFC 8072)") from None

    def _not_done(self) -> None:
        raise Failed(HTTPStatus.METHOD_NOT_ALLOWED, "this device is changed with a YANG Patch of the datastore")

    def _send(self, status: int, content: Mapping[str, Any] | str, kind: str = DATA, tag: str = "") -> None:
        body = (content if isinstance(content, str) else json.dumps(content)).encode()
        self.send_response(status)
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


def _found(document: dict[str, Any], steps: list[str]) -> dict[str, Any]:
    """Return the resource that a path leads to (RFC 8040, 3.5.3)."""
    if not steps:
        return {"ietf-restconf:data": document}
    module, here = "", [document]
    for step in steps:
        name, _, keys = step.partition("=")
        module = name.partition(":")[0] if ":" in name else module
        below = [value for each in here for key, value in each.items() if key in (name, f"{module}:{name}")]
        here = [one for each in below for one in (each if isinstance(each, list) else [each])]
        if keys:
            wanted = keys.split(",")
            of = KEYS.get(name.rpartition(":")[2], ())
            here = [each for each in here if [str(each.get(key)) for key in of] == wanted]
    if not here:
        raise Failed(HTTPStatus.NOT_FOUND, f"there is no {steps[-1]}")
    plain = steps[-1].partition("=")[0].rpartition(":")[2]
    return {f"{module}:{plain}": here if plain in KEYS else here[0]}


def _patched(document: dict[str, Any], patch: Mapping[str, Any], half: bool) -> dict[str, Any]:
    """Return what a patch makes of a document: edits of top-level resources."""
    edits = patch["edit"]
    for each in edits[: len(edits) // 2] if half else edits:
        name = str(each.get("target", "")).strip("/")
        operation, value = each.get("operation"), each.get("value")
        if "/" in name or ":" not in name:
            raise Failed(HTTPStatus.BAD_REQUEST, f"only top-level resources are edited here, not {each.get('target')}")
        if operation == "create" and name in document:
            raise Failed(HTTPStatus.CONFLICT, f"{name} is there already")
        if operation in ("replace", "create") and isinstance(value, dict) and name in value:
            document = {**document, name: value[name]}
        elif operation == "remove":
            document = {key: kept for key, kept in document.items() if key != name}
        else:
            raise Failed(HTTPStatus.BAD_REQUEST, f"{operation} is not done here, or has no value")
    return document
