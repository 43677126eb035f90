"""The laws of dialects, over generated devices."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, event, given, settings
from hypothesis import strategies as st

from agile_lattice.dialects import Rendered, read_device, render_device
from agile_lattice.dialects.errors import Refusals
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import normal
from strategies import devices

SPOKEN = [("iproute2", "nftables"), ("frr", "nftables")]
MANY = settings(max_examples=300, deadline=None, suppress_health_check=list(HealthCheck))


def without(device: Device, refused: Refusals) -> Device | None:
    """Take out every object that a dialect refused; None if that is not possible."""
    kept = device
    for each in refused.refusals:
        subject = each.subject
        kept = Device(
            kept.name, kept.speaks,
            tuple(one for one in kept.interfaces if f"interface {one.name}" != subject),
            tuple(one for one in kept.routes if f"route {one.to}" != subject),
            tuple(one for one in kept.translations if f"translation {one.name}" != subject),
        )  # fmt: skip
    return None if kept == device else kept


def rendered(device: Device) -> tuple[Device, list[Rendered]]:
    """Render what can be said; what is refused is taken out, which must make progress each time."""
    while True:
        try:
            return device, render_device(device)
        except Refusals as refused:
            event("refused")
            smaller = without(device, refused)
            assert smaller is not None, f"taking out what was refused changes nothing: {refused}"
            device = smaller


@pytest.mark.parametrize("speaks", SPOKEN)
@MANY
@given(data=st.data())
def test_what_is_rendered_reads_back_as_the_same(speaks: tuple[str, ...], data: st.DataObject) -> None:
    device, texts = rendered(data.draw(devices(speaks)))
    capture = read_device(device.name, speaks, [(each.dialect, each.text) for each in texts if each.text])
    assert capture.leftovers == ()
    was, now = normal(device), normal(capture.device)
    assert now.interfaces == was.interfaces
    assert now.answers == was.answers
    assert now.routes == was.routes
    assert now.translations == was.translations
    again = {each.dialect: each.text for each in render_device(capture.device) if each.text}
    assert read_device(device.name, speaks, again.items()) == capture
