"""Against the C library: whom it asks for names, and what it finds in its own table."""

from __future__ import annotations

import tempfile
from itertools import permutations
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from agile_lattice.dialects import read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device, HostEntry, Settings
from machines import Machine, run
from strategies import HOSTS
from test_real import SOME, kernel

pytestmark = pytest.mark.real
SERVERS = ("10.40.10.53", "2001:db8::53", "192.0.2.53")
# Answers every question with a failure (RFC 1035, code 2), so that the next resolver is asked; prints who was.
ASKED = """
import select, socket, subprocess, sys
servers = {}
for address in sys.argv[1:]:
    one = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM)
    one.bind((address, 53))
    servers[one] = address
asking = subprocess.Popen(["getent", "-s", "dns", "ahostsv4", "booking.example"])
while asking.poll() is None:
    for one in select.select(list(servers), [], [], 0.02)[0]:
        question, client = one.recvfrom(512)
        print(servers[one])
        one.sendto(question[:2] + bytes([0x81, 0x82]) + question[4:], client)
"""


def own(settings: Settings) -> Device:
    return Device("quay", ("resolv", "hosts"), settings=settings)


@kernel
def test_the_resolvers_are_asked_in_their_order() -> None:
    with Machine("quay") as machine:
        for each in SERVERS:
            machine.inside("ip", "address", "add", each, "dev", "lo")
        (machine.folder / "asked.py").write_text(ASKED)
        for count in (1, 2, 3):
            for chosen in permutations(SERVERS, count):
                device = own(Settings(resolvers=tuple(Address.parse(each) for each in chosen)))
                [text] = [each.text for each in render_device(device) if each.dialect == "resolv"]
                (machine.folder / "resolv.conf").write_text(text)
                inside = (
                    f"mount --bind {machine.folder}/resolv.conf /etc/resolv.conf; python3 {machine.folder}/asked.py"
                )
                said = machine.inside("unshare", "--mount", "sh", "-c", f"{inside} {' '.join(SERVERS)}")
                assert list(dict.fromkeys(said.split())) == list(chosen)
                assert read_device("quay", device.speaks, {"resolv.conf": text}).device.settings == device.settings


def test_a_fourth_resolver_would_not_be_asked_and_is_refused() -> None:
    resolvers = tuple(Address(4, 0x0A280A35 + n) for n in range(4))
    with pytest.raises(Refusals, match=r"10\.40\.10\.56, `resolvers`: resolv cannot express it: no more than 3"):
        render_device(own(Settings(resolvers=resolvers)))


@kernel
@SOME
@given(st.lists(HOSTS, min_size=1, max_size=3, unique_by=lambda each: each.name))
def test_the_c_library_finds_the_hosts_that_were_rendered(hosts: list[HostEntry]) -> None:
    device = own(Settings(hosts=tuple(hosts)))
    [text] = [each.text for each in render_device(device) if each.dialect == "hosts"]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "hosts"
        path.write_text(f"127.0.0.1 localhost\n{text}")
        names = " ".join(each.name for each in hosts)
        for family, command in ((4, "ahostsv4"), (6, "ahostsv6")):
            asked = f"mount --bind {path} /etc/hosts; for n in {names}; do getent -s files {command} $n; done; true"
            said = run("unshare", "--mount", "sh", "-c", asked)
            found = {Address.parse(line.split()[0]) for line in said.splitlines() if "::ffff:" not in line}
            assert found == {each for one in hosts for each in one.addresses if each.family == family}
        capture = read_device("quay", device.speaks, {"hosts": path.read_text()})
    assert capture.leftovers == ()
    assert capture.device.settings == device.settings
