"""What a device is managed by, and which changes would cut it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from agile_lattice.compare.differences import Gap
from agile_lattice.compare.rules import meet_each_other
from agile_lattice.compare.withholding import Held
from agile_lattice.dialects.facts import AddressFact
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.normal import settled
from agile_lattice.intent.permits import Access
from agile_lattice.intent.routes import Route
from agile_lattice.packets.spans import meet, minus

# Of an interface by which a device is managed, these can be changed without losing it.
HARMLESS = {"description", "mtu", "management", "resolvers", "search"}


def cutting(intent: Device, there: Device, gaps: Sequence[Gap]) -> dict[int, Held]:
    """Find the differences whose closing could cut the address, route or permit by which a device is managed.

    A device is managed by its interfaces that are marked so; and by whoever its entries of access let in, over the
    interfaces that they name, or by which the sources that they name are reached.

    Args:
        intent: The device as it should be.
        there: The device as it is.
        gaps: All differences.

    Returns:
        By the index of the difference.
    """
    ways = _Ways(intent, there)
    found = {}
    for index, gap in enumerate(gaps):
        reason = ways.cut_by(gap)
        if reason:
            found[index] = Held.of(gap.difference, reason)
    return found


def says_management(intent: Device, there: Device) -> bool:
    """Tell whether anything says by what a device is managed."""
    return any(each.access or any(one.management for one in each.interfaces) for each in (intent, there))


class _Ways:
    """By what a device is managed, as it is now."""

    def __init__(self, intent: Device, there: Device) -> None:
        access = [each for each in (*intent.access, *there.access) if not each.deny]
        self.staying, self.now = intent.access, there.access
        self.sources = [each.source for each in access if each.source is not None and each.source.spans]
        self.routes = [
            route
            for route in settled(there.routes, there.interfaces)
            if any(_meets(route.to, each) for each in self.sources)
        ]
        self.connected = [(one, each) for one in there.interfaces for each in one.addresses if not each.is_host]
        marked = {each.name for each in (*intent.interfaces, *there.interfaces) if each.management}
        named = {name for each in access for name in each.arrives or ()}
        reached = {one.name for one, prefix in self.connected for source in self.sources if _meets(prefix, source)}
        reached |= {route.interface for route in self.routes if route.interface and self.decides(route)}
        self.interfaces = marked | named | reached
        known = {one.name: one for one in there.interfaces}
        self.vlans: dict[str, set[int]] = {}
        for name in sorted(self.interfaces & known.keys()):
            one = known[name]
            under = one if one.bridge else known.get(one.parent)
            if under is None:
                continue
            self.interfaces.add(under.name)
            vlan = one.untagged if one.bridge else one.vlan
            if under.bridge is not None and vlan is not None:
                for port in (under.name, *under.bridge.members):
                    self.vlans.setdefault(port, set()).add(vlan)

    def decides(self, route: Route) -> bool:
        """Tell whether some source is reached by a route, and by none that is more specific."""
        for source in self.sources:
            if not _meets(route.to, source):
                continue
            left = meet(source.spans, ((route.to.first, route.to.last),))
            longer = [
                (other.to.first, other.to.last)
                for other in self.routes
                if other.to.family == route.to.family and other.to.length > route.to.length
            ]
            longer += [(each.first, each.last) for _, each in self.connected if each.family == route.to.family]
            if minus(left, tuple(sorted(longer))):
                return True
        return False

    def cut_by(self, gap: Gap) -> str:
        """Return what closing a difference would cut; empty for nothing."""
        found = gap.found
        if isinstance(found, AddressFact) and found.interface in self.interfaces:
            return f"the device is managed over {found.interface}"
        if isinstance(found, Interface) and found.name in self.interfaces:
            fields = {each.name for each in gap.difference.fields}
            if gap.wanted is None or fields - HARMLESS:
                return f"the device is managed over {found.name}"
        if isinstance(found, Interface) and isinstance(gap.wanted, Interface):
            gone = self.vlans.get(found.name, set()) & (found.carried - gap.wanted.carried)
            if gone:
                return f"the device is managed over VLAN {min(gone)}, which {found.name} carries"
        if isinstance(found, Route) and self.decides(found):
            return "it is the route to where the device is managed from"
        if isinstance(found, Access) and not found.deny and not self.let_in(found):
            return "it permits management of the device, and no other rule does"
        if isinstance(gap.wanted, Access) and gap.wanted.deny and self.shuts_out(gap.wanted):
            return "it denies management of the device that is permitted now"
        return ""

    def let_in(self, found: Access) -> bool:
        """Tell whether the intent lets in all that a rule of the device does."""
        for each in self.staying:
            if each.deny and meet_each_other(each, replace(found, deny=False)):
                return False
            if not each.deny and each.covers(found):
                return True
        return False

    def shuts_out(self, wanted: Access) -> bool:
        """Tell whether a rule could drop anything that reaches the device now."""
        return not self.now or any(not each.deny and meet_each_other(wanted, each) for each in self.now)


def _meets(prefix: Prefix, source: AddressSet) -> bool:
    return prefix.family == source.family and bool(meet(source.spans, ((prefix.first, prefix.last),)))
