"""Checks of how devices are reached, to be captured and changed."""

from __future__ import annotations

from collections.abc import Iterator

from agile_lattice.checks.design import Design
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.connections import PORTS, Connection
from agile_lattice.intent.model import Device
from agile_lattice.packets.spans import covers

_DEVICE = """\
connection: {ssh: 10.40.10.1}
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
management: [{from: lan0, source: 10.40.10.0/24, service: SERVICE}]"""


@check(
    "connection-not-let-in",
    "error",
    "A device that does not let in how it is reached can be neither captured nor changed.",
    wrong=_DEVICE.replace("SERVICE", "tcp/443"),
    right=_DEVICE.replace("SERVICE", "tcp/22"),
)
def connection_not_let_in(design: Design) -> Iterator[Found]:
    """Find connections to a port that no entry of management lets in, or to an interface that is shut."""
    for device in design.devices:
        one = device.connection
        if one is None or one.by not in PORTS:
            continue
        what = _not_let_in(device, one)
        if what:
            yield Found(
                one.place, device.name, what,
                "Permit it with an entry under `management`, or change `connection`.",
            )  # fmt: skip


def _not_let_in(device: Device, one: Connection) -> str:
    port = device.interface(next(_interfaces_with(device, one.to), ""))
    if port is not None and not port.enabled:
        return f"it is reached at {one.to}, an address of {port.name}, which is shut"
    if not device.access:
        return ""
    for each in device.access:
        here = port is None or each.arrives is None or port.name in each.arrives
        if here and (each.services is None or any(
            service.protocol == "tcp" and (service.ports is None or covers(service.ports, ((one.port, one.port),)))
            for service in each.services
        )):  # fmt: skip
            if not each.deny:
                return ""
            if each.source is None and each.destination is None:
                break
    where = f" on {port.name}" if port is not None else ""
    return f"it is reached by {one.by.upper()} at tcp/{one.port}{where}, and no entry of management lets that in"


def _interfaces_with(device: Device, to: str) -> Iterator[str]:
    """Yield the interfaces that have an address, if it is one."""
    try:
        address = Address.parse(to)
    except ValueError:
        return
    yield from (one.name for one in device.interfaces for own in one.addresses if own.address == address)
