"""Against a kernel that has VLANs and bridges, whatever the host's has."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

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


@SOME
@given(device=BUILT)
def test_the_kernel_has_the_vlans_and_bridges_that_were_rendered(guest: Guest, device: Device) -> None:
    assert_the_machine_is_as_meant(device, guest.run)


@settings(SOME, max_examples=8)
@given(pair=st.tuples(BUILT, BUILT))
def test_vlans_and_bridges_are_mended_while_the_kernel_runs(guest: Guest, pair: tuple[Device, Device]) -> None:
    assert_the_machine_is_mended_and_is_as_before(*pair, guest.run)


NETWORKD = "/lib/systemd/systemd-networkd"
UNITS = "/run/systemd/network"
# Where it cannot write to what it knows of devices, it does not wait for another program to name them.
START = f"mount -o remount,bind,ro /sys; exec {NETWORKD} > /dev/null 2>&1"
PLAIN = loadable_devices(("networkd", "nftables")).map(
    lambda device: replace(
        device, translations=(), permits=(), access=(),
        interfaces=tuple(replace(one, description="") for one in device.interfaces),
    )
)  # fmt: skip


@settings(SOME, max_examples=12)  # each takes its time to start
@given(device=PLAIN)
def test_networkd_makes_what_was_rendered(guest: Guest, device: Device) -> None:
    def gaps() -> list[str]:
        capture = read_device(device.name, ("iproute2", "bridge"), machine.capture(("iproute2", "bridge")))
        assert capture.leftovers == ()
        return [str((each.subject, each.change, each.fields)) for each in compare(device, capture).differences]

    with Machine(device.name, wired(device), guest.run) as machine:
        for each in render_device(device):
            (machine.folder / each.file).write_text(each.text)
        guest.run(
            "sh", "-c", f"rm -rf {UNITS}; mkdir -p {UNITS}; cp {machine.folder}/*.net* {UNITS}; chmod -R a+rX {UNITS}"
        )
        start = f"ip netns exec {machine.space} sh -c {shlex.quote(START)} &"
        guest.run("sh", "-c", start)
        try:
            machine.becomes(gaps, [], seconds=30)
        finally:
            guest.run("pkill", "-f", NETWORKD)
