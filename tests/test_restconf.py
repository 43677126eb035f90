"""RESTCONF: captures and pushes on a stand-in, and what that answers to a client that is not ours."""

from __future__ import annotations

import base64
import hashlib
import http.client
import json
import socket
import ssl
import subprocess
import tempfile
import threading
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from urllib.error import HTTPError

import pytest
from hypothesis import given, settings

from agile_lattice.cli.main import main
from agile_lattice.dialects import render_device
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.yang import yang_of
from agile_lattice.intent.connections import Connection
from agile_lattice.intent.model import Device
from agile_lattice.notation.loading import load
from agile_lattice.standin.certificates import certified, password_in
from agile_lattice.standin.datastore import edited, steps_of
from agile_lattice.standin.device import Fault, Standin
from agile_lattice.standin.restconf import serve
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.restconf import Reply, Restconf, RestconfError
from agile_lattice.transport.yang_patch import edits
from strategies import loadable_devices
from test_real import SOME, linted, needs, sayable
from test_standin import LATTICE, free_port

HOST, NAME = "127.0.70.9", "light-router"
INTENT = """lattice: 1
devices:
  light-router:
    speaks: [ietf-yang]
    connection:
      {restconf: 127.0.70.9, port: PORT, user: keeper, password-file: keys/password, certificate: keys/light.pem}
    interfaces:
      sea: {address: 203.0.113.34/28, description: to the provider}
      hall: {address: 10.70.9.1/24}
    routes:
      - {to: default, via: 203.0.113.33}
      - {to: 10.70.16.0/20, via: 10.70.9.9}
"""


class Light:
    """A stand-in with RESTCONF, and the folder of its intent."""

    def __init__(self, folder: Path, device: Standin, port: int, capsys: pytest.CaptureFixture[str]) -> None:
        self.folder, self.device, self.port, self.capsys = folder, device, port, capsys
        self.intent = folder / "light.yaml"

    def lattice(self, *words: str) -> tuple[int, str]:
        self.capsys.readouterr()
        code = main([*words])
        said = self.capsys.readouterr()
        return code, " ".join((said.out + said.err).split())

    def captured(self) -> None:
        assert self.lattice("capture", "light.yaml", "--into", "archive")[0] == 0

    def push(self, *more: str) -> tuple[int, str]:
        return self.lattice("push", "light.yaml", "archive", "--device", NAME, "--yes", *more)

    def meant(self, old: str, new: str) -> None:
        assert old in self.intent.read_text()
        self.intent.write_text(self.intent.read_text().replace(old, new))

    def asked(self, path: str, method: str = "GET", body: object = None, **headers: str) -> tuple[int, str, str]:
        """Ask with Python's own client; return the status, the entity tag and the body."""
        login = base64.b64encode(f"keeper:{(self.folder / 'keys' / 'password').read_text().strip()}".encode()).decode()
        sent = {"Authorization": f"Basic {login}", **{key.replace("_", "-"): value for key, value in headers.items()}}
        data = (body if isinstance(body, str) else json.dumps(body)).encode() if body is not None else None
        request = urllib.request.Request(f"https://{HOST}:{self.port}{path}", data, sent, method=method)
        trusted = ssl.create_default_context(cafile=str(self.folder / "keys" / "light.pem"))
        try:
            with urllib.request.urlopen(request, timeout=20, context=trusted) as answer:
                return answer.status, answer.headers.get("ETag", ""), answer.read().decode()
        except HTTPError as error:
            return error.code, "", error.read().decode()


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("COLUMNS", "200")
    return tmp_path


@contextmanager
def light(folder: Path, capsys: pytest.CaptureFixture[str], *faults: Fault) -> Iterator[Light]:
    port = free_port()
    (folder / "light.yaml").write_text(INTENT.replace("PORT", str(port)))
    text = render_device(load(folder / "light.yaml").devices[0])[0].text
    device = Standin(NAME, "ietf-yang", text, frozenset(faults))
    password = password_in(folder / "keys" / "password")
    server = serve(device, HOST, port, f"keeper:{password}", folder / "keys" / "light.pem")
    try:
        yield Light(folder, device, port, capsys)
    finally:
        server.shutdown()
        server.server_close()


def test_a_device_is_captured_changed_and_captured_again(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with light(folder, capsys) as here:
        here.captured()
        assert here.lattice("prove", "light.yaml", "archive")[0] == 0
        before = json.loads(here.device.running)
        here.meant("10.70.9.9}", "10.70.9.8}")
        code, said = here.push()
        assert code == 2 and "no way back of its own" in said and json.loads(here.device.running) == before
        code, said = here.push("--untimed")
        assert code == 0 and "known to be good" in said, said
        assert here.lattice("prove", "light.yaml", "archive@good")[0] == 0
        after = json.loads(here.device.running)
        assert after["ietf-interfaces:interfaces"] == before["ietf-interfaces:interfaces"]
        assert "10.70.9.8" in json.dumps(after["ietf-routing:routing"])
        assert here.push("--untimed")[1].endswith("it is as the intent says")


def test_what_a_device_is_doing_is_asked_of_its_state(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with light(folder, capsys, "unplugged") as here:
        code, said = here.lattice("observe", "light.yaml", "--device", NAME)
        assert code == 0 and "sea has no carrier" in said and "1 of 2 interfaces with carrier" in said, said
        assert "not asked: translations (no dialect says how) not asked: neighbours (no dialect says how)" in said
        text = here.lattice("observe", "light.yaml", "--device", NAME, "--format", "json")[1]
        told = {each["name"]: (each["carrier"], each["received_errors"]) for each in json.loads(text)["interfaces"]}
        assert told == {"sea": (False, 0), "hall": (True, 0)}
        # What it is doing is no part of its configuration.
        here.captured()
        assert here.lattice("diff", "light.yaml", "archive")[0] == 0


@pytest.mark.parametrize(
    ("known", "library", "said"),
    [
        (("ietf-interfaces", "ietf-routing"), "modules-state", ""),
        (("ietf-interfaces", "ietf-routing"), "yang-library", ""),
        (("ietf-interfaces",), "modules-state", "it does not implement ietf-routing"),
        (("ietf-interfaces",), "yang-library", "it does not implement ietf-routing"),
        ((), "", "it does not say which modules it implements"),
    ],
)
def test_where_a_module_is_not_known_nothing_is_taken_to_be_empty(
    known: tuple[str, ...], library: str, said: str, folder: Path, capsys: pytest.CaptureFixture[str],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    modules = [{"name": each, "revision": "2018-03-13"} for each in known]
    content = {"module": modules} if library == "modules-state" else {"module-set": [{"name": "a", "module": modules}]}
    named = {f"ietf-yang-library:{library}": content} if library else {}
    monkeypatch.setattr("agile_lattice.standin.restconf.LIBRARY", named)
    with light(folder, capsys) as here:
        gone = {"edit-id": "1", "operation": "remove", "target": "/ietf-routing:routing"}
        patch = {"ietf-yang-patch:yang-patch": {"patch-id": "p", "edit": [gone]}}
        asked = here.asked("/restconf/data", "PATCH", patch, Content_Type="application/yang-patch+json")
        assert asked[0] in (200, 204) and "ietf-routing:routing" not in json.loads(here.device.running)
        code, told = here.lattice("capture", "light.yaml", "--into", "archive")
        assert (code, said in told) == (2 if said else 0, True), told


# What goes wrong, and what is said of it; whether the change is there then.
WRONG: dict[Fault, tuple[str, bool]] = {
    "refuse": ("as it was before: there is no room for another configuration", False),
    "half": ("as it was before: still different: route 10.70.16.0/20", False),
    "restart": ("as it was before: still different: route 10.70.16.0/20", False),
    "drop": ("changed, and known to be good", True),  # the answer was lost, and the change was made
    "shuffle": ("changed, and known to be good", True),
    "xml-only": ("changed, and known to be good", True),
}


@pytest.mark.parametrize("fault", WRONG)
def test_whatever_goes_wrong_the_device_is_old_or_new(
    fault: Fault, folder: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    with light(folder, capsys, fault) as here:
        here.captured()
        before = here.device.running
        here.meant("10.70.9.9}", "10.70.9.8}")
        code, said = here.push("--untimed")
        words, made = WRONG[fault]
        assert words in said and code == (0 if made else 1), said
        if made:
            assert "10.70.9.8" in here.device.running and "10.70.9.9" not in here.device.running
        else:
            assert json.loads(here.device.running) == json.loads(before)


def test_a_change_of_somebody_else_in_between_is_not_undone(
    folder: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    with light(folder, capsys) as here:
        here.captured()
        here.meant("10.70.9.9}", "10.70.9.8}")
        theirs = here.device.running.replace("to the provider", "to somebody else")
        replace = Restconf.replace

        def in_between(session: Restconf, before: str, after: str, tag: str) -> str:
            here.device.replace(theirs, here.device.revision)
            return replace(session, before, after, tag)

        monkeypatch.setattr(Restconf, "replace", in_between)
        code, said = here.push("--untimed")
        assert code == 1 and "it changed since the change was worked out" in said, said
        assert here.device.running == theirs
        code, said = here.push("--untimed")
        assert code == 2 and "not any more as it was captured" in said, said


def test_a_change_of_somebody_else_behind_it_is_not_taken_back_with_it(
    folder: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    with light(folder, capsys) as here:
        here.captured()
        here.meant("10.70.9.9}", "10.70.9.8}")
        replace = Restconf.replace

        def behind(session: Restconf, before: str, after: str, tag: str) -> str:
            made = replace(session, before, after, tag)
            theirs = here.device.running.replace("10.70.9.8", "10.70.9.7")
            here.device.replace(theirs.replace("to the provider", "to somebody else"), here.device.revision)
            return made

        monkeypatch.setattr(Restconf, "replace", behind)
        code, said = here.push("--untimed")
        assert code == 1 and "somebody else changed it meanwhile" in said, said
        assert "10.70.9.7" in here.device.running and "to somebody else" in here.device.running


def test_who_is_not_known_is_not_spoken_with(
    folder: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    with light(folder, capsys) as here:
        secret = (folder / "keys" / "password").read_text().strip()
        pem = (folder / "keys" / "light.pem").read_text()
        other = folder / "keys" / "other.pem"
        certified(other, HOST)
        here.meant("keys/light.pem", "keys/other.pem")
        code, said = here.lattice("capture", "light.yaml", "--into", "archive")
        told = hashlib.sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest()
        assert code == 2 and "certificate is not known" in said and told in said, said
        here.meant("keys/other.pem", "keys/light.pem")
        here.meant("password-file: keys/password", "password-variable: KEEPER")
        code, said = here.lattice("capture", "light.yaml", "--into", "archive")
        assert code == 2 and "the environment has no KEEPER" in said, said
        monkeypatch.setenv("KEEPER", "wrong")
        code, said = here.lattice("capture", "light.yaml", "--into", "archive")
        assert code == 2 and "the login was refused" in said, said
        monkeypatch.setenv("KEEPER", secret)
        code, told = here.lattice("capture", "light.yaml", "--into", "archive")
        assert code == 0 and secret not in said + told
        here.meant("password-variable: KEEPER", "password-file: keys/password")
        (folder / "keys" / "password").chmod(0o644)
        code, said = here.lattice("capture", "light.yaml", "--into", "archive")
        assert code == 2 and "others may read the file" in said and "chmod 600" in said
    code, said = here.lattice("capture", "light.yaml", "--into", "archive")
    assert code == 2 and secret not in said


JSON, XML = "application/yang-data+json", "application/yang-data+xml"
PATCH = "application/yang-patch+json"
ROUTES = "/restconf/data/ietf-routing:routing/control-plane-protocols/control-plane-protocol"
HALL = "/restconf/data/ietf-interfaces:interfaces/interface=hall"


@needs("yanglint")
def test_what_it_answers_to_others_is_what_the_rfc_says(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with light(folder, capsys) as here, tempfile.TemporaryDirectory() as name:
        assert "href='/restconf'" in here.asked("/.well-known/host-meta")[2]
        status, tag, body = here.asked("/restconf/data?content=config")
        assert status == 200 and tag
        config = json.loads(body)["ietf-restconf:data"]
        linted(name, "config.json", json.dumps(config), "xml")
        # With its state, and in XML, it says the same of itself.
        whole = json.loads(here.asked("/restconf/data")[2])["ietf-restconf:data"]
        from_json = linted(name, "whole.json", json.dumps(whole), "json", "get")
        status, _, text = here.asked("/restconf/data", Accept=XML)
        assert status == 200 and text.startswith('<data xmlns="urn:ietf:params:xml:ns:yang:ietf-restconf">')
        inner = text.partition(">")[2].rpartition("</data>")[0]
        assert json.loads(linted(name, "whole.xml", inner, "json", "get")) == json.loads(from_json)
        assert whole["ietf-interfaces:interfaces"]["interface"][0]["oper-status"] == "up"
        hall = here.asked(f"{HALL}/ietf-ip:ipv4/address=10.70.9.1")[2]
        assert json.loads(hall) == {"ietf-ip:address": [{"ip": "10.70.9.1", "prefix-length": 24}]}
        assert "<prefix-length>24</prefix-length>" in here.asked(f"{HALL}/ietf-ip:ipv4/address", Accept=XML)[2]
        assert here.asked(ROUTES)[0] == 200
        assert here.asked("/restconf/data/ietf-interfaces:interfaces/interface", Accept=XML)[0] == 400  # two of them
        assert here.asked("/restconf/data/ietf-interfaces:interfaces/interface=attic")[0] == 404
        library = "/restconf/data/ietf-yang-library:modules-state"
        assert "ietf-routing" in here.asked(library)[2]
        assert here.asked(f"{library}/module=ietf-ip,2018-02-22")[0] == 200
        assert here.asked(f"{library}/module=ietf-ip,2014-06-16", Accept=XML)[0] == 404
        assert here.asked("/elsewhere")[0] == 404
        assert here.asked("/restconf/data", Accept="text/html")[0] == 406
        status, _, text = here.asked("/restconf/data/ietf-interfaces:attic", Accept=XML)
        assert status == 404 and "<error-message>there is no attic</error-message>" in text


def test_others_change_it_as_the_rfc_says(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    def hall() -> dict[str, object]:
        return dict(json.loads(here.asked(HALL + "?content=config")[2])["ietf-interfaces:interface"][0])

    with light(folder, capsys) as here:
        before, address = hall(), {"ip": "10.70.10.1", "prefix-length": 24}
        # PATCH lays over what is there, PUT takes its place, POST creates inside, DELETE takes away.
        changed = {"ietf-interfaces:interface": {"name": "hall", "description": "to the till"}}
        assert here.asked(HALL, "PATCH", changed, Content_Type=JSON)[0] == 204
        assert hall() == {**before, "description": "to the till"}
        sent = {"Content_Type": JSON, "If_Match": "*"}
        assert here.asked(HALL, "PUT", {"ietf-interfaces:interface": [before]}, **sent)[0] == 204
        assert hall() == before
        new = {"ietf-ip:address": [address]}
        assert here.asked(f"{HALL}/ietf-ip:ipv4", "POST", new, Content_Type=JSON)[0] == 201
        assert here.asked(f"{HALL}/ietf-ip:ipv4", "POST", new, Content_Type=JSON)[0] == 409
        there = f"{HALL}/ietf-ip:ipv4/address=10.70.10.1"
        assert json.loads(here.asked(there)[2]) == new
        status, tag, _ = here.asked(there, "DELETE")
        assert status == 204 and tag and hall() == before
        assert here.asked(there, "DELETE")[0] == 404
        assert here.asked("/restconf/data", "DELETE")[0] == 409
        for body, kind, refused in (({}, "text/plain", 415), ({"more": 1}, PATCH, 400), ({"a:b": 1}, JSON, 409)):
            assert here.asked(HALL, "PATCH", body, Content_Type=kind)[0] == refused
        # As one patch: all of it or nothing, and bound to what it was worked out for.
        gone = {"edit-id": "1", "operation": "remove", "target": "/ietf-routing:routing"}
        wanted = {"ietf-yang-patch:yang-patch": {"patch-id": "p", "edit": [gone]}}
        assert here.asked("/restconf/data", "PATCH", wanted, If_Match='"stale"', Content_Type=PATCH)[0] == 412
        twice = {"edit-id": "2", "operation": "create", "target": "/ietf-interfaces:interfaces", "value": {}}
        both = {"ietf-yang-patch:yang-patch": {"patch-id": "q", "edit": [gone, twice]}}
        tag = here.asked("/restconf/data")[1]
        assert here.asked("/restconf/data", "PATCH", both, If_Match=tag, Content_Type=PATCH)[0] == 409
        assert here.asked("/restconf/data")[1] == tag
        # Below a resource, and in XML.
        inner = (
            '<yang-patch xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-patch"><patch-id>x</patch-id><edit>'
            "<edit-id>1</edit-id><operation>create</operation><target>/address=10.70.10.1</target><value>"
            '<address xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><ip>10.70.10.1</ip>'
            "<prefix-length>24</prefix-length></address></value></edit></yang-patch>"
        )
        sent = {"Content_Type": "application/yang-patch+xml", "Accept": XML}
        status, _, text = here.asked(f"{HALL}/ietf-ip:ipv4", "PATCH", inner, **sent)
        assert status == 200 and "<ok />" in text, text
        assert json.loads(here.asked(there)[2]) == new
        assert here.asked("/restconf/data", "PATCH", wanted, Content_Type=PATCH)[0] == 200
        assert here.asked("/restconf/data/ietf-routing:routing")[0] == 404
        # What has been taken away is no failure of a capture: it is not there.
        here.captured()
        code, said = here.lattice("diff", "light.yaml", "archive")
        assert code == 1 and "route 10.70.16.0/20" in said, said


@settings(SOME)
@given(loadable_devices(("ietf-yang", "nftables")), loadable_devices(("ietf-yang", "nftables")))
def test_the_edits_between_two_configurations_make_one_of_the_other(one: Device, other: Device) -> None:
    yang = yang_of([BUILT_IN.dialect("ietf-yang")])
    assert yang is not None
    before, after = (json.loads(render_device(sayable(each))[0].text or "{}") for each in (one, other))
    found = edits(before, after, yang.keys)
    made = before
    for each in found:
        made = edited(made, steps_of(each["target"]), each["operation"], each.get("value"), yang.keys)
    assert without_order(made) == without_order(after)
    # None of them touches what is the same, and there are none if all is.
    assert edits(after, after, yang.keys) == []
    same = {each["name"] for each in entries(before) if each in entries(after)}
    assert not [each for each in found for name in same if f"interface={name}/" in each["target"] + "/"]


def test_what_a_device_has_besides_is_as_much_in_xml_as_in_json() -> None:
    yang = yang_of([BUILT_IN.dialect("ietf-yang")])
    assert yang is not None
    near = "".join(f"<neighbor><ip>10.70.9.{n}</ip></neighbor>" for n in (7, 8, 9))
    text = (
        '<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>hall</name>'
        f'<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">{near}</ipv4></interface></interfaces>'
    )
    [hall] = entries(json.loads(yang.to_json(text)))
    assert hall["ietf-ip:ipv4"]["neighbor"] == [{"ip": f"10.70.9.{n}"} for n in (7, 8, 9)]


def entries(document: Any) -> list[Any]:
    return list(document.get("ietf-interfaces:interfaces", {}).get("interface", ()))


def without_order(value: Any) -> Any:
    """Return data with its lists sorted, and without what holds nothing."""
    if isinstance(value, dict):
        inside = {name: without_order(each) for name, each in value.items()}
        return {name: each for name, each in inside.items() if each not in ({}, [])}
    return sorted(map(without_order, value), key=json.dumps) if isinstance(value, list) else value


def test_how_a_device_is_reached_is_said_one_way(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (folder / "light.yaml").write_text(INTENT.replace("PORT", "443"))
    here = Light(folder, Standin(NAME, "ietf-yang", "{}"), 443, capsys)
    text = here.intent.read_text()
    for old, new, said in (
        ("user: keeper, ", "", "wants `user`, and one of `password-file` and `password-variable`"),
        ("password-file: keys/password", "key: keys/id", "takes `user`, `port`, `certificate`"),
        ("{restconf: 127.0.70.9,", "{restconf: 127.0.70.9, ssh: 127.0.70.9,", "say one of `ssh`, `restconf`"),
    ):
        here.intent.write_text(text.replace(old, new))
        code, told = here.lattice("check", "light.yaml")
        assert code == 2 and "light.yaml:" in told and said in told, told


def test_the_command_serves_it(folder: Path) -> None:
    port = free_port()
    (folder / "light.yaml").write_text(INTENT.replace("PORT", str(port)))
    with subprocess.Popen([LATTICE, "standin", "light.yaml"], cwd=folder, stderr=subprocess.PIPE, text=True) as process:
        assert process.stderr is not None
        assert any("Interrupt to end" in line for line in process.stderr)
        assert main(["capture", "light.yaml", "--into", "archive"]) == 0
        process.terminate()
        assert process.wait(20) == 0


@pytest.mark.parametrize(
    "body",
    ["null", "7", "[]", '{"m:x": null}', '{"m:x": []}', '{"m:x": 7}', '{"m:x": {"a": "\\ud800"}}', '{"m:x": {}', ""],
)
def test_an_odd_answer_is_an_error_and_no_surprise(body: str, monkeypatch: pytest.MonkeyPatch) -> None:
    device = Restconf("quay", Connection("restconf", "127.0.0.1"))
    monkeypatch.setattr(device, "_api", lambda: "")
    monkeypatch.setattr(device, "_ask", lambda *_, **__: Reply(200, "tag", body))
    for asked in (lambda: device.entries("m:x"), lambda: device.configuration(["m:x"])):
        with pytest.raises(TransportError, match="neither JSON nor XML"):
            asked()
    for said in ("\\ud800", "a \\z escape", "plain"):
        words = str(RestconfError("quay", Reply(500, "", f'{{"error-message": "{said}"}}'), "GET"))
        assert words.encode()


def test_a_device_that_never_ends_its_answer_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    """The limit is over all: an octet now and then does not put it off."""
    monkeypatch.setattr("agile_lattice.transport.restconf.SECONDS", 1.0)
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        device = Restconf("quay", Connection("restconf", "127.0.0.1", port=port, user="keeper"))
        monkeypatch.setattr(device, "_login", lambda: "Basic x")
        plain = http.client.HTTPConnection

        def unencrypted(host: str, port: int, timeout: float, context: object) -> http.client.HTTPConnection:
            return plain(host, port, timeout=timeout)

        monkeypatch.setattr("http.client.HTTPSConnection", unencrypted)

        def drip() -> None:
            link, _ = server.accept()
            with link, suppress(OSError):
                link.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n")
                for _ in range(100):
                    link.sendall(b"x")
                    time.sleep(0.2)

        threading.Thread(target=drip, daemon=True).start()
        begun = time.monotonic()
        with pytest.raises(TransportError, match="did not answer in time"):
            device._ask("GET", "/data")
        assert time.monotonic() - begun < 10, "a bound for what would not end, not a measurement"
