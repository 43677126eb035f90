"""Against a kernel that has VLANs and bridges, whatever the host's has."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.intent.model import Device
from guests import Guest, bootable
from strategies import loadable_devices
from test_real import MUST, SOME, assert_the_machine_is_as_meant, assert_the_machine_is_mended_and_is_as_before

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


@settings(SOME, max_examples=20)
@given(pair=st.tuples(BUILT, BUILT))
def test_vlans_and_bridges_are_mended_while_the_kernel_runs(guest: Guest, pair: tuple[Device, Device]) -> None:
    assert_the_machine_is_mended_and_is_as_before(*pair, guest.run)
