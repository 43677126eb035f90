"""What an interface is to the world outside: the cable, the VLAN and the ports of a bridge that packets pass."""

from __future__ import annotations

from collections.abc import Hashable, Sequence

from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device


def takes_part(one: Interface, device: Device) -> bool:
    """Tell whether an interface can be ingress for packets of others: it is up, and something is set of it."""
    routed = any(each.interface == one.name for each in device.routes)
    return one.enabled and not one.loopback and bool(one.addresses or one.learns or one.dial or routed)


def comes_in(name: str, devices: Sequence[Device]) -> bool:
    """Tell whether an interface of a device, given as it is on some sides, can be ingress for packets of others.

    By one of which nothing is set they can if all sides have it. If only some do, it is one of those that every system
    has; and the ports of a bridge are the bridge's.
    """
    ports = [(device, device.interface(name)) for device in devices]
    up = [(device, port) for device, port in ports if port is not None and port.enabled and not port.loopback]
    if any(takes_part(port, device) for device, port in up):
        return True
    bridged = all(device.is_bridged(name) for device, port in ports if port is not None)
    return bool(up) and not bridged and all(port is not None for _, port in ports)


def cut_off(device: Device, name: str) -> str:
    """Tell why no packet passes an interface; empty if some can."""
    one = device.interface(name)
    if one is None:
        return f"there is no interface {name}"
    if not one.enabled:
        return f"{name} is down"
    parent = device.interface(one.parent) if one.parent else None
    if parent is None:
        return ""
    if parent.bridge is not None and device.keeps_vlans_apart(parent) and one.vlan and one.vlan not in parent.carried:
        return f"{parent.name} is not itself a member of VLAN {one.vlan}, so nothing passes {name}"
    return f"{parent.name} is down, and with it {name}" if not parent.enabled else ""


def lent(one: Interface, family: int) -> list[Prefix]:
    """Return the addresses that packets may leave with in place of their source: the first one of each subnet."""
    found: dict[Prefix, Prefix] = {}
    for own in one.addresses:
        if own.family == family and not own.address.is_link_local:
            found.setdefault(own.network, own)
    return list(found.values())


def source_towards(one: Interface, next_hop: Address) -> Address | None:
    """Return the address that an interface lends to packets for a next hop.

    It is the one whose subnet the next hop is in, else the first, as the Linux kernel has it. RFC 2663 does not say.
    """
    own = lent(one, next_hop.family)
    best = next((each for each in own if each.contains(next_hop)), next(iter(own), None))
    return best.address if best is not None else None


def proxy(family: int) -> str:
    """Return what it is called to answer for an address of others: for ARP (RFC 1027), or neighbour discovery."""
    return f"proxy {asked_by(family)}"


def asked_by(family: int) -> str:
    """Return the protocol by which neighbours ask for an address (RFC 826, RFC 4861)."""
    return "ARP" if family == 4 else "ND"


def wire(device: Device, name: str) -> Hashable:
    """Return what packets pass that enter or leave through an interface, as a value that is equal if it is the same."""
    one = device.interface(name)
    if one is None:
        return name
    if one.bridge is not None:
        return _segment(device, one, one.untagged)
    if not one.parent or one.parent == name:
        return ("dial-up", one.dial.over) if one.dial is not None else name
    parent = device.interface(one.parent)
    if parent is None:
        return one.parent, one.vlan, True
    if parent.bridge is not None and device.keeps_vlans_apart(parent):
        # The bridge has to be a member of the VLAN itself, or nothing comes up from it.
        segment = _segment(device, parent, one.vlan) if one.vlan in parent.carried else None
        return parent.name, one.vlan, parent.enabled, segment
    return wire(device, one.parent), one.vlan, parent.enabled


def _segment(device: Device, bridge: Interface, vlan: int | None) -> Hashable:
    """Return the ports of a bridge that are in a VLAN, each with whether its packets have a tag there."""
    names = bridge.bridge.members if bridge.bridge is not None else ()
    ports = {name: device.interface(name) or Interface(name) for name in names}
    if not device.keeps_vlans_apart(bridge):
        return bridge.name, tuple((name, port.enabled) for name, port in ports.items())
    inside = {name: port for name, port in ports.items() if vlan is not None and vlan in port.carried}
    return bridge.name, vlan, tuple((name, port.enabled, port.untagged == vlan) for name, port in inside.items())


def described(device: Device, name: str) -> str:
    """Say in words what an interface is to the world outside."""
    one = device.interface(name)
    if one is None:
        return f"there is no interface {name}"
    if one.bridge is not None:
        joined = ", ".join(f"{each}{' (down)' * _is_down(device, each)}" for each in one.bridge.members) or "nothing"
        return f"{name} joins {joined}" + _carried(device, one, one.untagged)
    parent = device.interface(one.parent) if one.parent else None
    if parent is None:
        return name
    down = "" if parent.enabled else ", which is down"
    return f"{name} is VLAN {one.vlan} of {parent.name}{down}" + _carried(device, parent, one.vlan)


def _is_down(device: Device, name: str) -> bool:
    one = device.interface(name)
    return one is not None and not one.enabled


def _carried(device: Device, bridge: Interface, vlan: int | None) -> str:
    if bridge.bridge is None or not device.keeps_vlans_apart(bridge):
        return ""
    members = [each for each in device.interfaces if each.name in (bridge.name, *bridge.bridge.members)]
    carrying = [each.name for each in members if vlan in each.carried]
    return f" (VLAN {vlan}: {', '.join(carrying) or 'no port'})"
