"""Checks of addresses that stand alone beside a series: mistyped, mostly."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from agile_lattice.checks.design import Design, own_addresses, translation_subject
from agile_lattice.checks.registry import Found, check
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.translations import Publish, Static, Translation
from agile_lattice.packets.spans import Spans


@check(
    "digits-transposed",
    "warning",
    "In a series of addresses one that does not fit, and would with two digits or octets exchanged, is mistyped.",
    wrong="""\
interfaces:
  a: {address: 10.40.10.1/24}
  b: {address: 10.40.20.1/24}
  c: {address: 40.10.30.1/24}
  d: {address: 10.40.40.1/24}""",
    right="""\
interfaces:
  a: {address: 10.40.10.1/24}
  b: {address: 10.40.20.1/24}
  c: {address: 10.40.30.1/24}
  d: {address: 10.40.40.1/24}""",
    across=True,
)
def digits_transposed(design: Design) -> Iterator[Found]:
    """Find addresses alone in their /16 that would be in a /16 of at least three others if two parts were exchanged."""
    written = [
        (f"{device.name} {one.name}", own.address, place)
        for device in design.devices for one, own, place in own_addresses(device) if own.family == 4
    ]  # fmt: skip
    written += [
        (f"host {host.name}", host.address.address, host.place)
        for host in design.network.hosts
        if host.address.family == 4
    ]
    crowd = Counter(address.value >> 16 for _, address, _ in written)
    for subject, address, place in written:
        if crowd[address.value >> 16] > 1:
            continue
        meant = next((each for each in _exchanged(address) if crowd[each.value >> 16] >= 3), None)
        if meant is not None:
            yield Found(
                place, subject, f"{address} stands alone, and {meant} would be one of a series",
                f"Write {meant}, if that was meant.",
            )  # fmt: skip


def _exchanged(address: Address) -> Iterator[Address]:
    """Yield the addresses that two neighbouring octets, or two digits of an octet, exchanged would give."""
    octets = str(address).split(".")
    for index in range(3):
        swapped = [*octets]
        swapped[index], swapped[index + 1] = octets[index + 1], octets[index]
        yield Address.parse(".".join(swapped))
    for index, octet in enumerate(octets):
        for at in range(len(octet) - 1):
            turned = octet[:at] + octet[at + 1] + octet[at] + octet[at + 2 :]
            if turned != octet and turned[0] != "0" and int(turned) < 256:
                yield Address.parse(".".join([*octets[:index], turned, *octets[index + 1 :]]))


@check(
    "octet-mistyped",
    "warning",
    "In a series of external addresses one that differs in a single octet from the network of all others is mistyped.",
    wrong="""\
interfaces: {wan0: {address: 203.0.113.2/28}, wan1: {learns: dhcp}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
  - {static: 203.0.113.5, on: 10.40.10.5, facing: wan0}
  - {static: 203.0.13.6, on: 10.40.10.6, facing: wan0}
  - {static: 203.0.113.7, on: 10.40.10.7, facing: wan0}
  - {static: 203.0.113.8, on: 10.40.10.8, facing: wan0}""",
    right="""\
interfaces: {wan0: {address: 203.0.113.2/28}, wan1: {learns: dhcp}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
  - {static: 203.0.113.5, on: 10.40.10.5, facing: wan0}
  - {static: 203.0.113.6, on: 10.40.10.6, facing: wan0}
  - {static: 203.0.113.7, on: 10.40.10.7, facing: wan0}
  - {static: 203.0.113.8, on: 10.40.10.8, facing: wan0}""",
)
def octet_mistyped(design: Design) -> Iterator[Found]:
    """Find external and internal ends of translations alone in their /24, one octet away from that of three others."""
    for device in design.devices:
        for end in ("external", "internal"):
            series = [(one, first) for one in device.translations for first, _ in _end_of(one, end)]
            crowd = Counter(value >> 8 for _, value in series)
            for one, value in series:
                if crowd[value >> 8] > 1:
                    continue
                meant = [
                    net for net, count in crowd.items() if count >= 3
                    and sum((net ^ value >> 8) >> shift & 255 != 0 for shift in (0, 8, 16)) == 1
                ]  # fmt: skip
                if meant and design.block_of(Address(4, value)) is None and not design.links(device, Address(4, value)):
                    address = Address(4, meant[0] << 8 | value & 255)
                    yield Found(
                        one.place, translation_subject(device, one),
                        f"{Address(4, value)} stands alone, one octet away from {crowd[meant[0]]} others",
                        f"Write {address}, if that was meant.",
                    )  # fmt: skip


def _end_of(one: Translation, end: str) -> Spans:
    """Return the addresses of one end of a translation of single hosts."""
    if isinstance(one, Publish):
        return one.named if end == "external" else ((one.internal.value, one.internal.value),)
    if isinstance(one, Static) and one.external.is_host and one.external.family == 4:
        return ((getattr(one, end).value,) * 2,)
    return ()
