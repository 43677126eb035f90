"""What a device learns from a provider: its address and its default route, which nobody knows before.

In their place stand addresses that nobody has. What does not depend on the value is decided with them; it is taken for
granted that what is learned is none of the addresses that a configuration names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from agile_lattice.intent.addresses import Address, AddressSet, Prefix, stand_in
from agile_lattice.intent.answering import normal_answers
from agile_lattice.intent.interface_names import includes
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.routes import Route
from agile_lattice.intent.translations import Exempt, Intercept, Own, Publish, Sides, Translation

LAST = 1 << 40  # farther than any distance that can be written


def with_learned(device: Device, first: bool = True) -> Device:
    """Return a device with stand-ins for the addresses and default routes that it learns.

    Args:
        device: The device.
        first: Whether learned default routes come before all others, or behind them: that depends on the system.
    """
    if any(families_learned(each) for each in device.interfaces):
        interfaces = tuple(
            replace(each, addresses=(*each.addresses, *_addresses(device, each))) for each in device.interfaces
        )
        routes = tuple(route for each in device.interfaces for route in _routes(device, each, first))
        device = replace(device, interfaces=interfaces, routes=(*device.routes, *routes))
    if not _at_own(device):
        return device
    translations = _with_addresses(device)
    return replace(device, translations=translations, routes=(*device.routes, *_nowhere(device, translations)))


def _with_addresses(device: Device) -> tuple[Translation, ...]:
    """Return the translations of a device; what is for its own addresses has these in place of the words."""
    found: list[Translation] = []
    for one in device.translations:
        if isinstance(one, Publish) and isinstance(one.external, str):
            at = _own(device, one.external, one.facing, one.internal.family)
            found += (replace(one, facing=names, external=own) for names, own in at)
        elif isinstance(one, Exempt) and one.own is not None:
            at = _own(device, one.own, one.arrives, 4 if one.source is None else one.source.family)
            found += (replace(one, arrives=names, destination=own, at="arrival", own=None) for names, own in at)
        elif isinstance(one, Intercept):
            found += _taken(device, one)
        else:
            found.append(one)
    return tuple(found)


def _taken(device: Device, one: Intercept) -> Iterator[Intercept]:
    """Yield for each interface where the device takes packets for itself that arrive there."""
    named = one.source or one.destination
    family = 4 if named is None else named.family
    for each in device.interfaces:
        if one.arrives is None or includes(one.arrives, each.name):
            usable = (own.address for own in each.addresses if own.family == family and not own.address.is_link_local)
            yield replace(one, arrives=(each.name,), taken_at=next(usable, None) or _lacking(family, each))


def _lacking(family: int, one: Interface) -> Address:
    return stand_in(family, f"<the address that {one.name} lacks>")


def _nowhere(device: Device, translations: Iterable[Translation]) -> Iterator[Route]:
    """Yield what drops packets that the device takes for itself on an interface that has no address."""
    taken = {each.taken_at for each in translations if isinstance(each, Intercept)}
    for one in device.interfaces:
        for family in (4, 6):
            if (lacking := _lacking(family, one)) in taken:
                yield Route(Prefix.host(lacking), discard="blackhole", instance=one.instance)


def _at_own(device: Device) -> bool:
    return any(
        isinstance(one, Intercept)
        or (isinstance(one, Publish) and isinstance(one.external, str))
        or (isinstance(one, Exempt) and one.own is not None)
        for one in device.translations
    )


def _own(device: Device, of: Own, facing: Sides | None, family: int) -> Iterator[tuple[Sides | None, AddressSet]]:
    """Yield interfaces by which packets arrive, with the addresses that are meant there.

    To many systems an address that they answer for is one that they have.
    """
    sides = [each for each in device.interfaces if facing is None or includes(facing, each.name)]
    groups = [([each], [each]) for each in sides] if of == "interface" else [(sides, [*device.interfaces])]
    for arrives, having in groups:
        names = facing if of == "device" else (arrives[0].name,)
        up = {port.name: port for port in having if port.enabled}
        own = [AddressSet.of(each.address) for port in up.values() for each in port.addresses]
        own += [each.addresses for each in normal_answers(device) if each.interface in up]
        own = [each for each in own if each.family == family]
        if own:
            yield names, AddressSet.of(*own)


def families_learned(one: Interface) -> tuple[int, ...]:
    """Return the families of which an interface learns an address."""
    six = "dhcp6" in one.learns or "slaac" in one.learns
    return (4,) * one.learns_ipv4 + (6,) * six


def _addresses(device: Device, one: Interface) -> Iterator[Prefix]:
    for family in families_learned(one):
        yield Prefix.host(stand_in(family, f"<address learned on {device.name} {one.name}>"))


def _routes(device: Device, one: Interface, first: bool) -> Iterator[Route]:
    """Yield the default routes that an interface learns: by DHCP, in router advertisements (RFC 4861), by dial-up."""
    for family, learned in ((4, one.learns_ipv4 or one.dial is not None), (6, "slaac" in one.learns)):
        if not learned:
            continue
        to, distance = Prefix(family, 0, 0), 0 if first else LAST
        gateway = stand_in(family, f"<gateway learned on {device.name} {one.name}>")
        yield Route(to, gateway, one.name, None, distance, None, True, one.instance, place=one.place)
