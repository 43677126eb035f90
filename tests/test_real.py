"""Against the real programs: what we render they take, and what they say of it reads back as the same."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.probing import plan_probes
from agile_lattice.behaviour.topology import Topology
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.mending import mend
from agile_lattice.dialects import Capture, read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.intent.addresses import Address, AddressSet, Prefix
from agile_lattice.intent.answering import answered_by
from agile_lattice.intent.model import Device, Network, ReversePath, Settings
from agile_lattice.intent.normal import normal, ways
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.services import Service
from agile_lattice.intent.translations import Dynamic, Exempt, Publish, Static, Translation
from agile_lattice.notation.loading import load, loads
from machines import Machine, Run, present, run
from strategies import loadable_devices
from test_changes import WITH, mended, only_what_is_carried
from test_laws import in_effect, rendered
from test_mend import intended
from where import DEMO, ROOT, examples

HERE = ROOT / "tests"
MODULES = Path(sys.prefix) / "share" / "yang" / "modules"  # of pyang, which brings the standard modules
MODULE_NAMES = (
    "ietf-interfaces", "iana-if-type", "ietf-ip", "ietf-routing",
    "ietf-ipv4-unicast-routing", "ietf-ipv6-unicast-routing", "ietf-nat",
)  # fmt: skip
SOME = settings(
    max_examples=examples(16), deadline=None, suppress_health_check=list(HealthCheck),
    phases=[Phase.explicit, Phase.generate], derandomize=True,
)  # fmt: skip

pytestmark = pytest.mark.real
# With CI=true what is missing must not pass unseen: the tests run, and fail.
MUST = os.environ.get("CI") == "true"
kernel = pytest.mark.skipif(not MUST and not present("ip", "nft"), reason="needs root, ip and nft")
frr = pytest.mark.skipif(
    not MUST and not present("ip", "nft", "vtysh", "zebra", "staticd"), reason="needs root and FRRouting"
)


def needs(program: str) -> pytest.MarkDecorator:
    """Skip a test whose program is not there, except where nothing may be skipped."""
    return pytest.mark.skipif(not MUST and shutil.which(program) is None, reason=f"needs {program}")


def wired(*devices: Device) -> list[str]:
    """Return the interfaces that cables hang in: those that no system makes by itself."""
    ports = [one for device in devices for one in device.interfaces if not (one.loopback or one.parent or one.bridge)]
    return list(dict.fromkeys(one.name for one in ports))


def assert_the_machine_is_as_meant(device: Device, run: Run = run) -> None:
    """Load a device into a fresh system, capture it, and find no difference and nothing left over."""
    texts = render_device(device)
    with Machine(device.name, wired(device), run) as machine:
        for each in texts:
            path = machine.folder / each.file
            path.write_text(each.text)
            if each.dialect == "nftables":
                machine.inside("nft", "-c", "-f", str(path))
            elif each.dialect == "frr":
                run("vtysh", "-C", "--inputfile", str(path))
        machine.apply(texts)
        machine.settle()
        captured = machine.capture(device.speaks)
        comparison = compare(device, read_device(device.name, device.speaks, captured))
    assert comparison.leftovers == ()
    assert [(each.subject, each.change, each.fields) for each in comparison.differences] == []
    assert comparison.unseen == ()


@kernel
@SOME
@given(loadable_devices(("iproute2", "nftables")))
def test_the_kernel_has_what_was_rendered(device: Device) -> None:
    assert_the_machine_is_as_meant(device)


@frr
@SOME
@given(loadable_devices(("frr", "nftables")))
def test_frr_has_what_was_rendered(device: Device) -> None:
    assert_the_machine_is_as_meant(device)


@frr
def test_frr_prints_no_bare_interface_and_none_is_missed() -> None:
    [device] = loads("""
lattice: 1
devices:
  edge:
    speaks: [frr]
    interfaces: {in0: {address: 10.40.10.1/24}, far0: {}, far1: {}}
    routes: [{to: 10.60.0.0/16, interface: far0}]
""").devices
    assert_the_machine_is_as_meant(device)


def load_pair(speaks: tuple[str, ...]) -> st.SearchStrategy[tuple[Device, Device]]:
    return st.tuples(loadable_devices(speaks), loadable_devices(speaks))


def assert_the_machine_is_mended_and_is_as_before(intent: Device, other: Device, run: Run = run) -> None:
    """Load another device, close its differences on the running system, and take that back."""

    def captured(machine: Machine) -> Capture:
        machine.settle()
        return read_device(intent.name, intent.speaks, machine.capture(intent.speaks))

    with Machine(intent.name, wired(intent, other), run) as machine:
        machine.apply(render_device(other))
        before = captured(machine)
        mending = mended(intent, machine.capture(intent.speaks))
        for each in mending.mends:
            machine.change(each.dialect, each.change)
        left = compare(intent, captured(machine)).differences
        assert [(each.subject, each.change, each.fields) for each in left] == [], [
            each.change for each in mending.mends
        ]
        for each in mending.mends[::-1]:
            machine.change(each.dialect, each.undo)
        after = captured(machine)
    assert after.leftovers == before.leftovers
    assert normal(after.device) == normal(before.device), [each.undo for each in mending.mends]


def sayable(device: Device) -> Device:
    """Leave out what its first dialect does not know: two ways to one destination, and preferences beyond its own."""
    match device.speaks[0]:
        case "bird":
            ways = {each.to: each for each in device.routes if each.distance <= 201}
        case "ietf-yang":
            ways = {each.to: replace(each, distance=1) for each in device.routes}
        case _:
            return device
    return replace(device, routes=tuple(ways.values()))


def checked(dialect: str, folder: Path, text: str) -> None:
    """Let the real program check a text."""
    path = folder / "etc/netplan/90-lattice.yaml"
    path.parent.mkdir(parents=True)
    path.write_text(text)
    path.chmod(0o600)
    match dialect:
        case "bird":
            run("bird", "-p", "-c", str(path))
        case "netplan":
            run("netplan", "generate", "--root-dir", str(folder))
        case "ifupdown":
            run("ifquery", "-i", str(path), "--list")
        case "iptables" | "ip6tables":
            run(f"{dialect}-restore", "--test", str(path))
        case _:
            linted(str(folder), "config.json", text, "json")


@kernel
@needs("bird")
@pytest.mark.parametrize("dialect", ["bird", "netplan", "ifupdown", "iptables", "ietf-yang"])
@settings(SOME, max_examples=examples(12))
@given(data=st.data())
def test_the_real_program_takes_a_text_that_was_mended(dialect: str, data: st.DataObject) -> None:
    pair = data.draw(load_pair((dialect, "iproute2")))
    speaks = (dialect, *WITH.get(dialect, ()))
    intent, other = (sayable(only_what_is_carried(replace(each, speaks=speaks))) for each in pair)
    try:
        there = {each.file: each.text for each in render_device(other) if each.text.strip()}
        mends = mended(intent, there).mends if there else ()
    except Refusals:  # a rule that would be very many there
        mends = ()
    assume(mends)
    for each in mends:
        for change in each.files:
            with tempfile.TemporaryDirectory() as folder:
                checked(each.dialect, Path(folder), change.after)


@kernel
@settings(SOME, max_examples=examples(8))
@given(load_pair(("iproute2", "nftables")))
def test_the_kernel_is_mended_while_it_runs(pair: tuple[Device, Device]) -> None:
    assert_the_machine_is_mended_and_is_as_before(*pair)


@frr
@settings(SOME, max_examples=examples(8))
@given(load_pair(("frr", "nftables")))
def test_frr_is_mended_while_it_runs(pair: tuple[Device, Device]) -> None:
    assert_the_machine_is_mended_and_is_as_before(*pair)


@needs("bird")
@SOME
@given(loadable_devices(("bird", "iproute2", "nftables")))
def test_bird_takes_what_was_rendered(device: Device) -> None:
    text = next(each.text for each in render_device(sayable(device)) if each.dialect == "bird")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bird.conf"
        path.write_text(text)
        run("bird", "-p", "-c", str(path))


def in_the_kernel(machine: Machine) -> set[tuple[str, str, str]]:
    """Return what BIRD put into the kernel: destination, next hop or what becomes of it, interface."""
    found = set()
    for family in ("-4", "-6"):
        said = run("ip", "-n", machine.space, "-json", family, "route", "show", "table", "all", "proto", "bird")
        for each in json.loads(said or "[]"):
            discard = each.get("type", "").replace("unicast", "")
            found.add((each["dst"], each.get("gateway", discard), "" if discard else each["dev"]))
    return found


def in_the_intent(device: Device) -> set[tuple[str, str, str]]:
    found = set()
    for each in normal(device).routes:
        to = "default" if each.to.length == 0 else each.to.shortest
        found.add((to, str(each.via or each.discard or ""), each.interface or ""))
    return found


@kernel
@needs("bird")
@settings(SOME, max_examples=examples(12))
@given(loadable_devices(("bird", "iproute2", "nftables")), loadable_devices(("bird", "iproute2", "nftables")))
def test_bird_runs_and_takes_what_was_mended(device: Device, other: Device) -> None:
    device = sayable(device)
    # The same system with other routes: those that lead over a subnet of its own.
    here = [each for one in device.interfaces for each in one.addresses]
    there = tuple(
        each for each in other.routes if each.discard or any(one.contains(each.via) for one in here if each.via)
    )
    # Without an address of IPv4 BIRD has to be told what to call itself.
    device = replace(device, settings=Settings(identity=Address.parse("10.255.0.9")))
    changed = sayable(replace(device, routes=tuple(replace(each, interface=None) for each in there)))
    with Machine(device.name, (each.name for each in device.interfaces if not each.loopback)) as machine:
        machine.apply([each for each in render_device(device) if each.dialect == "iproute2"])
        machine.settle()
        text = next(each.text for each in render_device(device) if each.dialect == "bird")
        machine.run_bird(text)
        machine.becomes(lambda: in_the_kernel(machine), in_the_intent(device))
        mending = mended(replace(changed, speaks=("bird",)), {"bird.conf": text})
        for each in [one for mend in mending.mends for one in mend.files]:
            machine.run_bird(each.after)
            machine.becomes(lambda: in_the_kernel(machine), in_the_intent(changed))
            machine.run_bird(each.before)
            machine.becomes(lambda: in_the_kernel(machine), in_the_intent(device))


FILTERED = """
router id 10.255.0.9;
function ok() { return true; }
function wrong()
{
  return false;
}
function big(int size; prefix where_to)
{
  if size > 3 then return false;
  return true;
}
filter some { if source = RTS_STATIC then accept; reject; }
filter every
{
  if ok() then accept; else reject;
}
filter nothing {
  if wrong() then accept;   # never
  else reject;
}
protocol device { }
protocol kernel { ipv4 { export %s; }; }
protocol static { ipv4 { import %s; }; route 10.7.0.0/16 blackhole; }
"""


@kernel
@needs("bird")
@pytest.mark.parametrize("exports", ["filter some", "filter every", "filter nothing", "filter {\n  accept;\n }"])
@pytest.mark.parametrize("imports", ["filter every", "filter nothing", "filter { reject; }", "where true"])
def test_bird_does_what_the_filters_it_names_say(exports: str, imports: str) -> None:
    text = FILTERED % (exports, imports)
    capture = read_device("quay", ["bird"], {"bird.conf": text})
    with Machine("quay", ["lan0"]) as machine:
        machine.run_bird(text)
        # What never gets there is either no route, or it is named: nothing exports it.
        expected = set() if capture.leftovers else in_the_intent(capture.device)
        assert bool(expected) == ("nothing" not in exports + imports and "reject" not in imports)
        machine.becomes(lambda: in_the_kernel(machine), expected)
        if not expected:
            time.sleep(0.5)
            assert not in_the_kernel(machine)


@needs("netplan")
@SOME
@given(loadable_devices(("netplan", "nftables")))
def test_netplan_makes_units_of_it_that_read_as_the_same(device: Device) -> None:
    device = replace(device, translations=(), permits=(), access=())
    text = next(each.text for each in render_device(device) if each.dialect == "netplan")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "etc/netplan/90-lattice.yaml"
        path.parent.mkdir(parents=True)
        path.write_text(text)
        path.chmod(0o600)
        run("netplan", "generate", "--root-dir", folder)
        units = sorted((Path(folder) / "run/systemd/network").glob("*.net*"))
        read = read_device(device.name, ("networkd",), [(str(unit), unit.read_text()) for unit in units])
    assert [(each.text, each.block) for each in read.leftovers] == []
    was, now = normal(device), normal(read.device)
    assert (now.interfaces, now.routes) == (was.interfaces, was.routes)


def linted(folder: str, file: str, text: str, form: str, kind: str = "config") -> str:
    """Let yanglint validate a text of a kind, and print it in another form."""
    path = Path(folder) / file
    path.write_text(text)
    modules = [str(next(MODULES.rglob(f"{name}.yang"))) for name in MODULE_NAMES]
    paths = ["-p", str(MODULES / "ietf"), "-p", str(MODULES / "iana")]
    return run("yanglint", *paths, "-t", kind, "-f", form, *modules, str(path))


@needs("yanglint")
@SOME
@given(loadable_devices(("ietf-yang", "nftables")))
def test_yanglint_finds_what_was_rendered_valid(device: Device) -> None:
    device = sayable(device)
    text = next(each.text for each in render_device(device) if each.dialect == "ietf-yang")
    with tempfile.TemporaryDirectory() as folder:
        written = render_device(replace(device, speaks=("ietf-yang/xml", "nftables")))[0].text
        from_json, from_xml = linted(folder, "config.json", text, "xml"), linted(folder, "config.xml", written, "json")
    was = normal(device)
    for form in (text, from_json, written, from_xml):
        read = read_device(device.name, ("ietf-yang",), {"captured": form} if form.strip() else {})
        assert [(each.text, each.block) for each in read.leftovers] == []
        now = normal(read.device, answered_by(device))
        assert (now.interfaces, now.routes) == (was.interfaces, was.routes)


@needs("yanglint")
@SOME
@given(loadable_devices(("ietf-yang", "ietf-nat")))
def test_yanglint_finds_translations_valid(device: Device) -> None:
    device, texts = rendered(sayable(replace(device, permits=(), access=())))
    assume(device.translations)
    _, written = rendered(replace(device, speaks=("ietf-yang/xml", "ietf-nat/xml")))
    one_json = json.dumps({name: part for each in texts if each.text for name, part in json.loads(each.text).items()})
    one_xml = "".join(each.text for each in written)
    with tempfile.TemporaryDirectory() as folder:
        from_json, from_xml = linted(folder, "one.json", one_json, "xml"), linted(folder, "one.xml", one_xml, "json")
    for form in (one_json, from_json, one_xml, from_xml):
        read = read_device(device.name, device.speaks, {"captured": form})
        assert [(each.text, each.block) for each in read.leftovers] == []
        was, now = normal(device), normal(read.device)
        assert (now.interfaces, now.routes, in_effect(was, now)) == (was.interfaces, was.routes, [])


@needs("ifup")
@SOME
@given(loadable_devices(("ifupdown", "nftables")))
def test_ifupdown_takes_what_was_rendered(device: Device) -> None:
    text = next(each.text for each in render_device(device) if each.dialect == "ifupdown")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "interfaces"
        path.write_text(text)
        listed = run("ifquery", "-i", str(path), "--list").split()
        assert {*listed} == {each.name for each in device.interfaces if each.enabled} | {"lo"}
        done = subprocess.run(["ifup", "--no-act", "-i", path, *listed], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    for one in device.interfaces:
        for address in one.addresses:
            assert f"{address.address}/" in done.stderr + done.stdout
    for route in ways(device.routes):
        assert f"route replace {route.discard or ''}".strip() in done.stderr + done.stdout


@kernel
@needs("pppd")
def test_pppd_takes_the_line_that_was_rendered() -> None:
    job = (HERE / "jobs" / "17-a-dial-up-line.md").read_text()
    [device] = loads(job.split("```yaml")[1].partition("\n")[2].partition("```")[0]).devices
    stands_in = Path("/dev/ppp")  # pppd reads its options, and checks them, once there is such a file
    made = not stands_in.exists()
    with Machine("shed-gate", ["wire0", "lan0"]) as machine, ExitStack() as stack:
        if made:
            stands_in.touch()
            stack.callback(stands_in.unlink)
        secret = machine.folder / "line"
        secret.write_text('user "pier"\npassword "tide"\n')
        text = next(each.text for each in render_device(device) if each.dialect == "ppp")
        path = machine.folder / "dial0"
        path.write_text(text.replace("/etc/ppp/line", str(secret)))
        said = machine.inside("pppd", "dryrun", "file", str(path))
    told = {line.split("\t")[0] for line in said.splitlines() if str(machine.folder) in line}
    assert told >= {"ifname dial0", "wire0", "mtu 1492", "plugin pppoe.so", "user pier", "defaultroute", "noauth"}


@kernel
@needs("sysctl")
@pytest.mark.parametrize("forwards", [True, False])
def test_the_kernel_has_the_settings_that_were_rendered(forwards: bool) -> None:
    settings_ = Settings("", forwards, not forwards, "strict" if forwards else "loose")
    device = Device("quay", ("sysctl",), settings=settings_)
    [rendered] = render_device(device)
    keys = [line.split(" = ")[0] for line in rendered.text.splitlines()]
    with Machine("quay", []) as machine:
        (machine.folder / rendered.file).write_text(rendered.text)
        machine.inside("sysctl", "-p", str(machine.folder / rendered.file))
        there = read_device("quay", ("sysctl",), {"all": machine.inside("sysctl", *keys)})
    assert compare(device, there).same


@frr
@pytest.mark.parametrize("name", ["quay-edge", "pier-gate"])
def test_the_demo_loads_as_meant(name: str) -> None:
    device = load(DEMO / "saltmarsh.yaml").device(name)
    assert device is not None
    assert_the_machine_is_as_meant(device)


INTENT = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  edge:
    speaks: [SPEAKS, nftables]
    interfaces:
      in0: {zone: inside, address: 10.40.10.1/24}
      out0: {zone: outside, address: 203.0.113.2/28}
    routes: [{to: default, via: 203.0.113.1}]
    translations:
      - {name: partner-untouched, exempt: true, from: inside, to: outside, destination: 203.0.113.14}
      - {name: publish-web, publish: 203.0.113.5, service: tcp/8080, on: 10.40.10.7, internal-port: 80, facing: outside}
      - {name: one-to-one, static: 203.0.113.6, on: 10.40.10.8, facing: outside}
      - {name: pooled, from: inside, to: outside, source: 10.40.10.7, source-becomes: {pool: 203.0.113.9}}
      - {name: rest, from: inside, to: outside, source-becomes: interface}
"""


class Wire:
    """An inside host, our device, an outside host; real packets between them."""

    def __init__(self, device: Machine, inside: Machine, outside: Machine) -> None:
        self.device, self.inside, self.outside = device, inside, outside
        device.cable("in0", inside.space, "eth0")
        device.cable("out0", outside.space, "eth0")
        for address in ("10.40.10.7/24", "10.40.10.8/24", "10.40.10.9/24"):
            run("ip", "-n", inside.space, "address", "add", address, "dev", "eth0")
        for address in ("203.0.113.1/28", "203.0.113.14/28"):
            run("ip", "-n", outside.space, "address", "add", address, "dev", "eth0")

    def route(self) -> None:
        """Turn forwarding on and give the inside host its gateway; the outside host has no way inside."""
        self.device.inside("sysctl", "-qw", "net.ipv4.ip_forward=1")
        for name in ("all", "in0", "out0"):  # whoever the system that we are on has it
            self.device.inside("sysctl", "-qw", f"net.ipv4.conf.{name}.rp_filter=0")
        run("ip", "-n", self.inside.space, "route", "add", "default", "via", "10.40.10.1")

    def seen(self, client: Machine, server: Machine, source: str, to: str, listen: str) -> tuple[str, int]:
        """Connect by TCP; return the client's address and the server's port as the server sees them."""
        peer = str(HERE / "peer.py")
        with ThreadPoolExecutor(1) as pool:
            host, port = listen.rsplit(":", 1)
            answer = pool.submit(server.inside, sys.executable, peer, "serve", host, port)
            client.inside(sys.executable, peer, "connect", source, *to.rsplit(":", 1))
            address, its_port = answer.result(timeout=20).split()
        return address, int(its_port)

    def flows(self, sent: list[tuple[str, Header]]) -> dict[int, tuple[str, Header]]:
        """Send packets in by `in0` or `out0`; return what comes out: by its source port, where, and what it says."""
        peer = [sys.executable, str(HERE / "peer.py")]
        sides = {"in0": self.inside, "out0": self.outside}
        watching = {
            name: subprocess.Popen(
                ["ip", "netns", "exec", side.space, *peer, "watch", "eth0"],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            )
            for name, side in sides.items()
        }  # fmt: skip
        for each in watching.values():
            assert each.stdout is not None and each.stdout.readline() == "watching\n"
        for name, side in sides.items():
            words = [
                str(word)
                for where, each in sent
                if where == name
                for word in (each.protocol, each.source, each.source_port, each.destination, each.port)
            ]
            if words:
                side.inside(*peer, "send", *words)
        came = {}
        for name, each in watching.items():
            said, _ = each.communicate(timeout=60)  # that all has been sent is told by the end of its input
            for line in said.splitlines():
                number, protocol, *ends, port = line.split()
                came[int(number)] = name, Header(*map(Address.parse, ends), protocol, int(port))
        return came

    def neighbour(self, machine: Machine, link: str, address: Address, holder: Machine, port: str) -> None:
        """Let a machine find an address on a link without asking: at a port of another machine, whatever it has."""
        at = holder.inside("cat", f"/sys/class/net/{port}/address").strip()
        machine.inside("ip", "neigh", "replace", str(address), "lladdr", at, "dev", link, "nud", "permanent")


@pytest.fixture(params=["iproute2", "frr"])
def wire(request: pytest.FixtureRequest) -> Iterator[Wire]:
    device = loads(INTENT.replace("SPEAKS", request.param)).device("edge")
    assert device is not None
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply(render_device(device))
        wire.route()
        yield wire


@frr
def test_real_packets_do_what_the_intent_says(wire: Wire) -> None:
    inside, outside = wire.inside, wire.outside
    for source in ("10.40.10.7", "10.40.10.9"):
        inside.inside("ping", "-c1", "-W2", "-I", source, "203.0.113.1")

    def leaves_as(source: str, to: str = "203.0.113.1:7000") -> str:
        return wire.seen(inside, outside, source, to, to)[0]

    assert leaves_as("10.40.10.7") == "203.0.113.9"
    assert leaves_as("10.40.10.8") == "203.0.113.6"
    assert leaves_as("10.40.10.9") == "203.0.113.2"
    # From outside: the published port, on another port inside; and every port of the one-to-one.
    assert wire.seen(outside, inside, "203.0.113.14", "203.0.113.5:8080", "10.40.10.7:80") == ("203.0.113.14", 80)
    assert wire.seen(outside, inside, "203.0.113.14", "203.0.113.6:2222", "10.40.10.8:2222") == ("203.0.113.14", 2222)
    # The exempted flow keeps its address, so the answer finds its way only once the outside host has a route.
    run("ip", "-n", outside.space, "route", "add", "10.40.10.0/24", "via", "203.0.113.2")
    assert leaves_as("10.40.10.9", "203.0.113.14:7001") == "10.40.10.9"


INSIDE = [Address.parse(f"10.40.10.{n}") for n in (7, 8, 9)]
OUTSIDE = [Address.parse(f"203.0.113.{n}") for n in (1, 14)]
EXTERNAL = [Address.parse(f"203.0.113.{n}") for n in (3, 4, 5, 9)]


def some_of(members: list[Address]) -> st.SearchStrategy[AddressSet]:
    return st.lists(st.sampled_from(members), min_size=1, max_size=2).map(lambda found: AddressSet.of(*found))


SIDES = st.none() | st.sampled_from([("in0",), ("out0",)])
WHATEVER = st.none() | some_of([*INSIDE, *OUTSIDE, *EXTERNAL])
SERVICES = st.none() | st.sampled_from([
    (Service("udp", ((80, 443),)),), (Service("udp"),), (Service("tcp"),), (Service("icmp", ((8, 8),)),),
    (Service("tcp", ((53, 53), (443, 8080))), Service("udp", ((53, 53),))),
])  # fmt: skip
SMALL_RULES = st.one_of(
    st.builds(Exempt, st.just(""), SIDES, st.none(), WHATEVER, WHATEVER, SERVICES,
              st.sampled_from(["both", "arrival"])),
    st.builds(Dynamic, st.just(""), SIDES, SIDES, WHATEVER, WHATEVER, SERVICES, st.none() | some_of(EXTERNAL).filter(
        lambda pool: len(pool.spans) == 1)),
    st.builds(Static, st.sampled_from(EXTERNAL).map(Prefix.host), st.sampled_from(INSIDE).map(Prefix.host), st.just(""),
              SIDES),
    st.builds(Publish, some_of(EXTERNAL) | st.sampled_from(["interface", "device"]), st.sampled_from(INSIDE),
              st.just(""), SIDES, WHATEVER,
              st.sampled_from([(Service("udp", ((53, 80),)),),
                               (Service("tcp", ((443, 443),)), Service("udp", ((443, 443),)))]),
              st.none() | st.just(8080)),
)  # fmt: skip
SMALL_PERMITS = st.builds(Permit, st.just(""), SIDES, SIDES, WHATEVER, WHATEVER, SERVICES, st.booleans())


@st.composite
def headers(draw: st.DrawFn) -> tuple[str, Header]:
    side = draw(st.sampled_from(["in0", "out0"]))
    # Now and then somebody who is at home elsewhere.
    home = "in0" if draw(st.integers(0, 5)) == 0 else side
    source = draw(st.sampled_from(INSIDE if home == "in0" else OUTSIDE))
    others = OUTSIDE if side == "in0" else INSIDE
    target = draw(st.sampled_from([*others, *EXTERNAL]))
    protocol = draw(st.sampled_from(["udp", "tcp", "icmp"]))
    return side, Header(
        source, target, protocol, 8 if protocol == "icmp" else draw(st.sampled_from([53, 80, 443, 8080]))
    )


@kernel
@settings(SOME, max_examples=examples(10))
@given(
    st.lists(SMALL_RULES, max_size=6), st.lists(SMALL_PERMITS, max_size=4),
    st.lists(headers(), min_size=12, max_size=20, unique=True), st.sampled_from([None, "strict", "loose"]),
)  # fmt: skip
def test_real_packets_go_where_walk_says(
    rules: list[Translation], permits: list[Permit], sent: list[tuple[str, Header]], reverse: ReversePath | None
) -> None:
    plain = loads(INTENT.replace("SPEAKS", "iproute2")).devices[0]
    settings = replace(plain.settings, reverse_path=reverse)
    device = replace(plain, translations=tuple(rules), permits=tuple(permits))
    device, texts = replace(device, settings=settings), render_device(device)
    network = Network("wire", (device,))
    topology = Topology(network)
    packets = numbered(sent, network)
    walks = [walk(topology, header, "edge", side) for side, header in packets]
    ends = [each.visits[-1] for each in walks]
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply(texts)
        wire.route()
        mode = {None: 0, "strict": 1, "loose": 2}[reverse]
        machine.inside("sysctl", "-qw", f"net.ipv4.conf.all.rp_filter={mode}")
        run("ip", "-n", outside.space, "route", "add", "default", "via", "203.0.113.2")
        hosts = {"in0": inside, "out0": outside}
        answered = [each.addresses for each in topology.answers("edge")]
        for side, address in {(last.leaves, last.after.destination) for last in ends if last.leaves}:
            if address not in (*INSIDE, *OUTSIDE):  # nobody is there, and it is seen all the same
                wire.neighbour(machine, side, address, hosts[side], "eth0")
        for side, address in {(side, header.destination) for side, header in packets}:
            port = device.interface(side)
            assert port is not None
            if port.subnet_of(address) and not any(address in each for each in answered):
                wire.neighbour(hosts[side], "eth0", address, machine, side)
        came = wire.flows(packets)
    assert_all_went_as_told(packets, walks, came, f"{rules}; {permits}")


def numbered(sent: list[tuple[str, Header]], network: Network) -> list[tuple[str, Header]]:
    """Return packets, and those that the test plan has for every rule, each with a source port of its own."""
    planned = [(each.arrives, each.header) for each in plan_probes(network, network.devices).probes]
    return [(side, replace(each, source_port=40000 + n)) for n, (side, each) in enumerate([*sent, *planned])]


def assert_all_went_as_told(
    packets: list[tuple[str, Header]], walks: list[Walk], came: dict[int, tuple[str, Header]], about: str
) -> None:
    for (side, header), found in zip(packets, walks, strict=True):
        told, last = f"{header} by {side}, {found.end}: {found.reason}; {about}", found.visits[-1]
        if not (found.arrives and last.leaves):
            assert header.source_port not in came, told
            continue
        assert header.source_port in came, told
        there, seen = came[header.source_port]
        assert there == last.leaves, told
        assert (seen.destination, seen.port) == (last.after.destination, last.after.port), told
        pools = [each.pool for each in last.stages if each.stage == "departure" and each.pool is not None]
        assert seen.source in pools[0] if pools else seen.source == last.after.source, told


INTENT6 = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  edge:
    speaks: [iproute2, nftables]
    interfaces:
      in0: {zone: inside, address: "2001:db8:40::1/64"}
      out0: {zone: outside, address: "2001:db8:1::2/64"}
    routes: [{to: "::/0", via: "2001:db8:1::1"}, {to: "2001:db8:41::/48", via: "2001:db8:40::7"}]
    translations: TRANSLATIONS
    permits: PERMITS
"""
TRANSLATIONS6 = [
    '{name: moved, static: "2001:db8:5::/64", on: "2001:db8:41:5::/64", facing: outside}',
    '{name: own, static: "2001:db8:6::/64", on: "2001:db8:40::/64", facing: outside}',
]
PERMITS6 = [
    '{name: in, from: outside, to: inside, service: [tcp/443, icmp6/echo-request]}',
    '{name: not-there, from: inside, destination: "2001:db8:66::/48", deny: true}',
    "{name: out, from: inside, to: outside}",
]  # fmt: skip


@kernel
@settings(SOME, max_examples=examples(6))
@given(
    st.lists(st.sampled_from(TRANSLATIONS6), unique=True), st.lists(st.sampled_from(PERMITS6), unique=True),
)  # fmt: skip
def test_real_packets_of_ipv6_go_where_walk_says(translations: list[str], permits: list[str]) -> None:
    text = INTENT6.replace("TRANSLATIONS", f"[{', '.join(translations)}]").replace("PERMITS", f"[{', '.join(permits)}]")
    network = loads(text)
    [device] = network.devices
    topology = Topology(network)
    hosts = {"in0": ["2001:db8:40::9", "2001:db8:41:5::9"], "out0": ["2001:db8:2::9"]}
    targets = ["2001:db8:99::9", "2001:db8:66::9", "2001:db8:2::9", "2001:db8:5::9", "2001:db8:6::9",
               "2001:db8:40::9", "2001:db8:41:5::9", "2001:db8:77::9"]  # fmt: skip
    sent = [
        (side, Header(Address.parse(source), Address.parse(target), protocol, port))
        for side, sources in hosts.items() for source in sources for target in targets if target not in sources
        for protocol, port in (("tcp", 443), ("udp", 53), ("icmp6", 128))
        if not (side == "in0" and target.startswith("2001:db8:4"))  # they are behind the same interface
    ]  # fmt: skip
    packets = numbered(sent, network)
    walks = [walk(topology, header, "edge", side) for side, header in packets]
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply(render_device(device))
        machine.settle()
        machine.inside("sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
        sides = {"in0": (inside, "2001:db8:40::1"), "out0": (outside, "2001:db8:1::2")}
        for side, (host, gateway) in sides.items():
            host.inside("ip", "-6", "route", "add", "default", "via", gateway, "dev", "eth0", "onlink")
            wire.neighbour(host, "eth0", Address.parse(gateway), machine, side)
        nexts = {"2001:db8:1::1": "out0", "2001:db8:40::7": "in0"}
        on_link = {
            str(last.after.destination): last.leaves for last in (each.visits[-1] for each in walks) if last.leaves
        }
        for address, side in (nexts | on_link).items():
            wire.neighbour(machine, side, Address.parse(address), sides[side][0], "eth0")
        came = wire.flows(packets)
    assert_all_went_as_told(packets, walks, came, f"{translations}; {permits}")


@kernel
@needs("iptables-restore")
@SOME
@given(loadable_devices(("iproute2", "iptables", "ip6tables")))
def test_iptables_and_ip6tables_have_what_was_rendered(device: Device) -> None:
    device, texts = rendered(device)  # a rule that would be very many there is refused
    saved = {}
    with Machine(device.name, []) as machine:
        for each in texts:
            if each.dialect.endswith("tables"):
                path = machine.folder / each.file
                path.write_text(each.text)
                machine.inside(f"{each.dialect}-restore", "--test", str(path))
                machine.inside(f"{each.dialect}-restore", str(path))
                saved[each.dialect] = machine.inside(f"{each.dialect}-save")
    assume(all(saved.values()))  # of tables without rules they say nothing at all, not even which family it is
    read = read_device(device.name, ("iptables", "ip6tables"), saved)
    assert [(each.text, each.block) for each in read.leftovers] == []
    assert in_effect(normal(device), normal(read.device)) == []


ODD = {
    # What is for all hosts of a subnet is for the device, too; the first address of it is a host like others.
    "out0": [("203.0.113.14", "10.40.10.255"), ("203.0.113.14", "10.40.10.0"), ("10.40.10.1", "10.40.10.7"),
             ("203.0.113.9", "10.40.10.7")],
    # Nobody sends from the device's own addresses, or from those that it answers for.
    "in0": [("10.40.10.7", "203.0.113.15"), ("10.40.10.7", "203.0.113.0"), ("203.0.113.2", "203.0.113.14"),
            ("10.40.10.1", "203.0.113.14"), ("203.0.113.6", "203.0.113.14")],
}  # fmt: skip


@kernel
def test_odd_packets_go_where_walk_says() -> None:
    [device] = loads(INTENT.replace("SPEAKS", "iproute2")).devices
    network = Network("wire", (device,))
    sent = [
        (side, Header(Address.parse(one), Address.parse(other), "udp", 53)) for side in ODD for one, other in ODD[side]
    ]
    packets = [(side, replace(each, source_port=40000 + n)) for n, (side, each) in enumerate(sent)]
    walks = [walk(Topology(network), header, "edge", side) for side, header in packets]
    assert {each.arrives for each in walks} == {True, False}
    with Machine("edge") as machine, Machine("inside") as inside, Machine("outside") as outside:
        wire = Wire(machine, inside, outside)
        machine.apply(render_device(device))
        wire.route()
        run("ip", "-n", outside.space, "route", "add", "default", "via", "203.0.113.2")
        for side, host, name in (("in0", inside, "10.40.10.0"), ("out0", outside, "203.0.113.0")):
            wire.neighbour(machine, side, Address.parse(name), host, "eth0")
        came = wire.flows(packets)
    assert_all_went_as_told(packets, walks, came, "odd packets")


FOREIGN = """
table ip nat {
	chain PREROUTING {
		type nat hook prerouting priority dstnat; policy accept;
		meta mark 7 counter accept comment "ours"
		iifname "wan0" ip daddr 203.0.113.3 tcp dport 25 dnat to 10.40.10.9 comment "one"
		meta mark 8 counter accept
		iifname "wan0" ip daddr 203.0.113.4 tcp dport 80 dnat to 10.40.10.4 comment "two"
		meta mark 9 counter accept
	}
}
"""


@kernel
def test_a_chain_with_rules_of_others_is_altered_rule_by_rule() -> None:
    device = intended("[nftables]")
    device = replace(device, translations=device.translations[:3])
    with Machine("quay", []) as machine:
        path = machine.folder / "rules.nft"
        path.write_text(FOREIGN)
        machine.inside("nft", "-f", str(path))
        before = machine.inside("nft", "-a", "list", "ruleset")
        mending = mend(device, [("rules.nft", before)])
        assert [each.subject for each in mending.held] == []
        [change] = mending.mends
        assert "flush" not in change.change
        path.write_text(change.change)
        machine.inside("nft", "-f", str(path))
        after = machine.inside("nft", "-a", "list", "ruleset")
        foreign = [line for line in before.splitlines() if "meta mark" in line or "mark 0x" in line]
        assert len(foreign) == 3 and [line for line in after.splitlines() if line in foreign] == foreign
        found = compare(device, read_device("quay", device.speaks, {"rules.nft": after}))
        assert [each.subject for each in found.differences] == []
        path.write_text(change.undo)
        machine.inside("nft", "-f", str(path))
        back = machine.inside("nft", "list", "ruleset")
        path.write_text(FOREIGN)
        machine.inside("nft", "flush", "ruleset")
        machine.inside("nft", "-f", str(path))
        assert back == machine.inside("nft", "list", "ruleset")
