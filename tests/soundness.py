"""Verdicts about pairs of devices held against an independent semantics, packet by packet.

    python tests/soundness.py 10000

prints how many pairs were the same, differed or were not decided, and every verdict that a packet refutes.
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from random import Random

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import semantics
from agile_lattice.compare.comparing import compare
from agile_lattice.compare.equivalence import Verdict, between
from agile_lattice.dialects.assembly import Capture
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.model import SECTIONS, Device, Settings
from agile_lattice.intent.normal import normal
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.intent.translations import Dynamic
from agile_lattice.notation.plain import device_data
from strategies import devices, permits, routes, translations

PACKETS = 60  # that are tried of each pair
TOGGLES = st.sampled_from([None, None, True, False])
MODES = st.sampled_from([None, None, "off", "strict", "loose"])


@st.composite
def pairs(draw: st.DrawFn) -> tuple[Device, Device]:
    """A device, and the same with a little done to it: to its rules, routes, interfaces or settings."""
    device = draw(devices(("networkd", "nftables")))
    device = replace(device, settings=draw(st.builds(Settings, st.just(""), TOGGLES, TOGGLES, MODES)))
    names = [one.name for one in device.interfaces if not one.loopback]
    if names and draw(st.booleans()):
        device = draw(learning(device, names))
    if names and draw(st.booleans()):
        device = _two_subnets(device, draw(st.sampled_from(names)))
    other = device
    for _ in range(draw(st.integers(1, 2))):
        other = draw(st.sampled_from(CHANGES))(draw, other, names)
    one, other = (device, other) if draw(st.booleans()) else (other, device)
    known = {each.name for each in one.interfaces}
    # An intent names no interface that it does not have.
    return replace(
        one, routes=tuple(each for each in one.routes if not each.interface or each.interface in known)
    ), other


@st.composite
def learning(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
    """The device with an interface that learns its address, maybe behind a translation to it."""
    name = draw(st.sampled_from(names))
    learns = draw(st.sampled_from([("dhcp",), ("dhcp", "slaac"), ("dhcp6",), ("slaac",)]))
    interfaces = tuple(
        replace(one, learns=learns, enabled=True, addresses=() if draw(st.booleans()) else one.addresses)
        if one.name == name else one
        for one in device.interfaces
    )  # fmt: skip
    hidden = (Dynamic("hidden", None, (name,)),) if draw(st.booleans()) else ()
    return replace(device, interfaces=interfaces, translations=(*device.translations, *hidden))


def _one_less(section: str):  # type: ignore[no-untyped-def]
    def change(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
        members = list(getattr(device, section))
        if members:
            members.pop(draw(st.integers(0, len(members) - 1)))
        return replace(device, **{section: tuple(members)})

    return change


def _in_another_order(section: str):  # type: ignore[no-untyped-def]
    def change(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
        return replace(device, **{section: tuple(draw(st.permutations(getattr(device, section))))})

    return change


def _one_more(section: str, some):  # type: ignore[no-untyped-def]
    def change(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
        members = list(getattr(device, section))
        members.insert(draw(st.integers(0, len(members))), draw(some(names)))
        return replace(device, **{section: tuple(members)})

    return change


def _settings(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
    return replace(device, settings=draw(st.builds(Settings, st.just(""), TOGGLES, TOGGLES, MODES)))


def _interface(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
    if not device.interfaces:
        return device
    at = draw(st.integers(0, len(device.interfaces) - 1))
    one = device.interfaces[at]
    changed = draw(
        st.sampled_from([
            replace(one, enabled=not one.enabled), replace(one, addresses=one.addresses[1:]),
            replace(one, vlan=99 if one.vlan else one.vlan), replace(one, addresses=one.addresses[::-1]),
        ])
    )  # fmt: skip
    return replace(device, interfaces=(*device.interfaces[:at], changed, *device.interfaces[at + 1 :]))


def _as_good(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
    """Give a destination a second route of equal distance."""
    if not device.routes or not names:
        return device
    route = draw(st.sampled_from(device.routes))
    second = replace(route, via=None, interface=draw(st.sampled_from(names)), discard=None)
    return replace(device, routes=(*device.routes, second))


def _over_one_link(draw: st.DrawFn, device: Device, names: list[str]) -> Device:
    """Permit, or do not permit, packets between two subnets of one link."""
    ports = [one for one in device.interfaces if len({a.network for a in one.addresses if a.family == 4}) > 1]
    if not ports:
        return device
    one = draw(st.sampled_from(ports))
    source, destination, *_ = dict.fromkeys(AddressSet.of(a.network) for a in one.addresses if a.family == 4)
    sides = draw(st.sampled_from([(one.name,), None]))
    permit = Permit("", sides, sides, source, destination, deny=draw(st.booleans()))
    return replace(device, permits=(permit, *device.permits))


def _two_subnets(device: Device, name: str) -> Device:
    more = (Prefix.parse("10.77.1.1/24"), Prefix.parse("10.77.2.1/24"))
    return replace(device, interfaces=tuple(
        replace(one, addresses=(*one.addresses, *more)) if one.name == name else one for one in device.interfaces
    ))  # fmt: skip


CHANGES = [
    *(_one_less(each) for each in ("translations", "permits", "access", "routes", "interfaces")),
    *(_in_another_order(each) for each in ("translations", "permits")),
    _one_more("translations", translations), _one_more("permits", permits), _one_more("routes", routes),
    _settings, _interface, _as_good, _over_one_link,
]  # fmt: skip


def as_captured(device: Device) -> Capture:
    """The device as if every section of it had been read."""
    return Capture(replace(device, answers=normal(device).answers), (), frozenset(SECTIONS))


def linked(device: Device, name: str) -> object:
    """What an interface is beneath: its VLAN, and whether its parent is up; or the ports of a bridge in its VLAN."""
    one = device.interface(name)
    if one is None:
        return None
    if one.bridge is not None:
        ports = [(each, device.interface(each)) for each in one.bridge.members]
        apart = bool(one.bridge.vlans or one.untagged is not None)
        apart = apart or any(port is not None and (port.tagged or port.untagged is not None) for _, port in ports)
        found = []
        for each, port in ports:
            untagged = port is not None and port.untagged is not None and port.untagged == one.untagged
            tagged = port is not None and one.untagged is not None and one.untagged in port.tagged
            if not apart or untagged or tagged:
                found.append((each, port is None or port.enabled, untagged and apart))
        return found, apart and one.untagged
    parent = device.interface(one.parent)
    return one.parent, one.vlan, parent is None or parent.enabled


def apart(one: Device, other: Device, packet: semantics.Packet) -> bool:
    """Whether a packet is treated differently, the links that it passes included."""
    for choice in range(3):
        here, there = (semantics.fate(each, packet, choice) for each in (one, other))
        if here != there:
            return True
        if here is None:
            continue
        passed = [packet.arrives, *(name for name, _ in here[1] if name)] if here[0] == "out" else [packet.arrives]  # type: ignore[index]
        if any(linked(one, name) != linked(other, name) for name in passed):
            return True
    return False


def worlds(one: Device, other: Device) -> list[tuple[Device, Device, dict[int, int]]]:
    """Both devices after they have learned what they learn, each way that this may turn out."""
    found = []
    for first in (True, False):
        (here, known), (there, more) = (semantics.as_learned(each, first) for each in (one, other))
        found.append((here, there, known | more))
    return found


def refuted(one: Device, other: Device, seed: int, found: Verdict) -> list[str]:
    """Return what packets refute of what is said of two devices."""
    wrong = []
    settled = worlds(one, other)
    differing = [
        packet
        for here, there, _ in settled
        for packet in semantics.packets((here, there), Random(seed), PACKETS)
        if semantics.could_be_sent(packet, (here, there)) and apart(here, there, packet)
    ]
    if found.same and differing:
        wrong.append(f"said to be the same, and {differing[0]} is not")
    compared = compare(one, as_captured(other))
    harmless = all(each.effect in ("no-effect", "description-only") for each in compared.differences)
    if harmless and differing and not found.proof.undecided:
        wrong.append(f"no difference is said to matter, and to {differing[0]} it does")
    matters = any(each.effect == "changes-traffic" for each in compared.differences)
    if found.different and not matters and compared.rules is None:
        wrong.append(f"prove shows {found.shown[0].witness}, and diff no difference that changes traffic")
    if found.same and matters:
        wrong.append("prove says that they are the same, and diff that they are not")
    shown = [each.witness for each in (*found.shown, *compared.differences) if each.witness is not None]
    for each in shown:
        header = each.header
        number = PROTOCOL_NUMBERS.get(header.protocol) or int(header.protocol.removeprefix("protocol "))
        could, differs = False, False
        for here, there, known in settled:
            source, destination = (known.get(end.value, end.value) for end in (header.source, header.destination))
            packet = semantics.Packet(each.arrives, header.source.family, number, source, destination, header.port or 0)
            could = could or semantics.could_be_sent(packet, (here, there))
            differs = differs or apart(here, there, packet)
        if not could:
            wrong.append(f"nobody could send {each}")
        elif not differs:
            wrong.append(f"treated alike: {each}")
    return wrong


def judge(one: Device, other: Device, seed: int, counts: Counter[str]) -> list[str]:
    """Count what is said of two devices; return what packets refute of it."""
    found = between(one, other)
    open_ = [each for each in found.shown if each.witness is None]
    counts["same" if found.same else "differ" if found.different else "not decided"] += 1
    counts["stages not decided"] += len(open_)
    counts["stages"] += len(found.proof.partings)
    routed = any(each.ways or any(port.addresses or port.learns for port in each.interfaces) for each in (one, other))
    worked_out = routed and not found.proof.undecided
    counts["not decided, though all is worked out"] += worked_out and not found.same and not found.different
    return refuted(one, other, seed, found)


def told(one: Device, other: Device) -> Iterator[str]:
    """Show two devices in the notation, and what is said to differ."""
    for device in (one, other):
        yield str(device_data(device))
    yield from (f"{each.subject}: {each.effect} {each.note}" for each in compare(one, as_captured(other)).differences)


def main(count: int) -> int:
    """Judge many pairs."""
    counts: Counter[str] = Counter()
    wrong: list[str] = []
    plain = settings(
        max_examples=count, deadline=None, suppress_health_check=list(HealthCheck), phases=[Phase.generate],
        database=None,
    )  # fmt: skip

    @plain
    @given(pairs(), st.integers(0, 2**32))
    def look(pair: tuple[Device, Device], seed: int) -> None:
        found = judge(*pair, seed, counts)
        wrong.extend(found)
        for each in found:
            print(each, *told(*pair), sep="\n  ")

    look()
    print(dict(counts), f"{len(wrong)} wrong")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1])))
