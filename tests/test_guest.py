"""Against a kernel that has VLANs and bridges, whatever the host's has."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from contextlib import ExitStack
from functools import partial

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.compare.comparing import compare
from agile_lattice.dialects import read_device, render_device
from agile_lattice.intent.model import Device
from guests import Guest, bootable
from machines import Machine
from strategies import loadable_devices
from test_real import MUST, SOME, assert_the_machine_is_as_meant, assert_the_machine_is_mended_and_is_as_before, wired
from where import examples

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not MUST and not bootable(), reason="needs root, user-mode-linux and kmod"),
]
BUILT = loadable_devices(("iproute2", "bridge")).map(
    lambda device: replace(device, translations=(), permits=(), access=())
)


@pytest.fixture(scope="module")
def guest() -> Iterator[Guest]:
    with Guest() as running:
        yield running


@settings(SOME, max_examples=examples(8))
@given(device=BUILT)
def test_the_kernel_has_the_vlans_and_bridges_that_were_rendered(guest: Guest, device: Device) -> None:
    assert_the_machine_is_as_meant(device, guest.run)


@settings(SOME, max_examples=examples(5))
@given(pair=st.tuples(BUILT, BUILT))
def test_vlans_and_bridges_are_mended_while_the_kernel_runs(guest: Guest, pair: tuple[Device, Device]) -> None:
    assert_the_machine_is_mended_and_is_as_before(*pair, guest.run)


BY_HAND = """
# a device as one types it
link add shore type bridge vlan_filtering 1
link add link lan0 lan0.10 type vlan id 10
link set lan0 up mtu 1400 alias "to the harbour"
link set dev lan0.10 mtu 1300 up
link set lan1 master shore
link set shore up
link set lan1 alias pier
link set lan1 up
a add 192.0.2.1/24 brd + dev lan0
addr add 192.0.2.9/24 dev lan0 broadcast 192.0.2.255
addr add 198.51.100.7 dev lo
address add 2001:db8::1/64 dev lan0.10
r add 203.0.113.0/25 proto static via 192.0.2.254
route add 203.0.113.200 dev lan0 metric 7 via 192.0.2.254
route add default via 192.0.2.254
route add default via 2001:db8::9
route add 2001:db8:7::7 via 2001:db8::9
route add blackhole 10.0.0.0/8
neigh add proxy 192.0.2.77 dev lan0
"""


def test_what_is_typed_by_hand_is_what_the_kernel_makes_of_it(guest: Guest) -> None:
    typed = read_device("quay", ("iproute2",), {"batch": BY_HAND})
    assert typed.leftovers == ()
    assert len(typed.device.interfaces) == 5
    assert len(typed.device.routes) == 6
    with Machine("quay", ["lan0", "lan1"], guest.run) as machine:
        machine.load("iproute2", "batch", BY_HAND)
        machine.settle()
        both = ("iproute2", "bridge")  # which shows the VLAN that a kernel puts ports in of which nothing is said
        capture = read_device("quay", both, machine.capture(both))
    comparison = compare(typed.device, capture)
    assert (comparison.leftovers, comparison.unseen) == ((), ())
    assert [(each.subject, each.change, each.fields) for each in comparison.differences] == []


NETWORKD = "/lib/systemd/systemd-networkd"
# Each has what it reads and writes to itself. Where it cannot write to what it knows of devices, it does not wait for
# another program to name them.
START = f"""
mount -o remount,bind,ro /sys
mount -t tmpfs none /run/systemd
mkdir -p /run/systemd/network /run/systemd/netif
cp "$0"/*.net* /run/systemd/network
chmod -R a+rwX /run/systemd
exec {NETWORKD} > /dev/null 2>&1
"""
PLAIN = loadable_devices(("networkd", "nftables")).map(
    lambda device: replace(
        device, translations=(), permits=(), access=(),
        interfaces=tuple(replace(one, description="") for one in device.interfaces),
    )
)  # fmt: skip


@settings(SOME, max_examples=examples(3))
@given(devices=st.lists(PLAIN, min_size=5, max_size=5))  # together: each waits for most of its time
def test_networkd_makes_what_was_rendered(guest: Guest, devices: list[Device]) -> None:
    def gaps(device: Device, machine: Machine) -> list[str]:
        capture = read_device(device.name, ("iproute2", "bridge"), machine.capture(("iproute2", "bridge")))
        # While it is made, an address can be there before its route.
        found = [f"{each.text}: {each.reason}" for each in capture.leftovers]
        return found + [str((each.subject, each.change, each.fields)) for each in compare(device, capture).differences]

    with ExitStack() as running:
        machines = [
            running.enter_context(Machine(f"{device.name}{number}", wired(device), guest.run))
            for number, device in enumerate(devices)
        ]
        running.callback(guest.run, "pkill", "-f", NETWORKD)
        for device, machine in zip(devices, machines, strict=True):
            for each in render_device(device):
                (machine.folder / each.file).write_text(each.text)
            start = shlex.join(["ip", "netns", "exec", machine.space, "sh", "-c", START, str(machine.folder)])
            guest.run("sh", "-c", f"{start} &")
        for device, machine in zip(devices, machines, strict=True):
            machine.becomes(partial(gaps, device, machine), [], seconds=30)
