"""Checks of translations."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from agile_lattice.checks.rulebook import Found, check
from agile_lattice.intent.addresses import Address, spell_range
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.services import Service
from agile_lattice.intent.stages import Rule, split, takes_all
from agile_lattice.intent.translations import Dynamic, Publish, Static, Translation
from agile_lattice.packets.spans import meet

_SIDES = """\
interfaces: {wan0: {address: 203.0.113.2/28}, lan0: {address: 10.40.10.1/24}}
routes: [{to: default, via: 203.0.113.1}]
translations:
"""


def _subject(device: Device, one: Translation) -> str:
    return f"{device.name} translation {one.name}".rstrip()


@check(
    "pool-takes-taken",
    "error",
    "An address of a pool that is the gateway's, the device's own or the subnet's edge breaks what already uses it.",
    wrong=_SIDES + "- {to: wan0, source-becomes: {pool: 203.0.113.1-203.0.113.4}}",
    right=_SIDES
    + "- {to: wan0, source: 10.40.10.9, source-becomes: {pool: 203.0.113.8/30}}\n"
    + "- {to: wan0, source-becomes: {pool: 203.0.113.2}}",
)
def pool_takes_taken(network: Network) -> Iterator[Found]:
    """Find pools of several addresses that hold an address which is taken."""
    for device in network.devices:
        taken = _taken(device)
        for one in device.translations:
            if not isinstance(one, Dynamic) or one.pool is None or one.pool.single is not None:
                continue
            for address, use in taken.items():
                if address.family == 4 and meet(one.pool.spans, ((address.value, address.value),)):
                    yield Found(
                        one.place.at("source-becomes", "pool"), _subject(device, one),
                        f"its pool {spell_range(4, one.pool.spans[0])} holds {address}, {use}",
                        "Take that address out of the pool.",
                    )  # fmt: skip


def _taken(device: Device) -> dict[Address, str]:
    taken: dict[Address, str] = {}
    for interface in device.interfaces:
        for prefix in interface.addresses:
            taken[prefix.address] = f"the device's own address on {interface.name}"
            if prefix.family == 4 and prefix.host_bits > 1:
                taken.setdefault(Address(4, prefix.first), f"the network address of {prefix.network}")
                taken.setdefault(Address(4, prefix.last), f"the broadcast address of {prefix.network}")
    for route in device.routes:
        if route.via is not None:
            taken.setdefault(route.via, f"the next hop of the route to {route.to}")
    return taken


@check(
    "published-twice",
    "error",
    "One external port leads to one host: the second publication is never reached.",
    wrong=_SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}\n"
    + "- {publish: 203.0.113.5, service: [tcp/80, tcp/443], on: 10.40.10.12}",
    right=_SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}\n"
    + "- {publish: 203.0.113.5, service: udp/443, on: 10.40.10.12}",
)
def published_twice(network: Network) -> Iterator[Found]:
    """Find external ports that are published to two hosts, for the same side and the same users."""
    for device in network.devices:
        seen: dict[Address, list[Publish]] = defaultdict(list)
        for one in device.translations:
            if not isinstance(one, Publish):
                continue
            for earlier in seen[one.external]:
                both = _common_service(earlier, one)
                if both and _same_users(earlier, one):
                    yield Found(
                        one.place.at("publish"), _subject(device, one),
                        f"{one.external} {both} is published already, on {earlier.internal} ({earlier.place})",
                        "Use another external port or address for one of them.",
                    )  # fmt: skip
                    break
            seen[one.external].append(one)


def _common_service(left: Publish, right: Publish) -> str:
    if left.services is None or right.services is None:
        return "with every service" if left.services is right.services else ""
    for one in left.services:
        for other in right.services:
            if one.protocol != other.protocol:
                continue
            if one.ports is None or other.ports is None:
                return one.protocol
            both = meet(one.ports, other.ports)
            if both:
                return str(Service(one.protocol, both))
    return ""


def _same_users(left: Publish, right: Publish) -> bool:
    sides = left.facing is None or right.facing is None or bool(set(left.facing) & set(right.facing))
    return sides and left.source == right.source


@check(
    "never-reached",
    "error",
    "The first rule that matches decides; a rule that an earlier one takes everything from does nothing.",
    wrong=_SIDES
    + "- {name: all-out, to: wan0, source-becomes: interface}\n"
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}",
    right=_SIDES
    + "- {name: staff-out, to: wan0, source: 10.40.10.0/24, source-becomes: {pool: 203.0.113.8/30}}\n"
    + "- {name: all-out, to: wan0, source-becomes: interface}",
)
def never_reached(network: Network) -> Iterator[Found]:
    """Find rules all of whose packets one earlier rule of the same stage takes.

    Rules that only several earlier ones take together are not found by this check.
    """
    for device in network.devices:
        takers = _Takers()
        for one in device.translations:
            rules = split([one])
            earlier = [takers.of(rule) for rule in rules]
            for rule in rules:
                takers.add(rule, one)
            if rules and all(earlier) and not (isinstance(one, Publish) and _is_twin(one, earlier)):
                first = earlier[0]
                assert first is not None
                yield Found(
                    one.place, _subject(device, one),
                    f"no packet reaches it: {first.name or 'an earlier rule'} ({first.place}) takes them all",
                    f"Put it before {first.name or 'that rule'}, or remove it.",
                )  # fmt: skip


def _is_twin(one: Publish, earlier: list[Translation | None]) -> bool:
    """Whether `published-twice` says it already, and better."""
    return any(isinstance(each, Publish) and each.external == one.external and _same_users(each, one)
               and _common_service(each, one) for each in earlier)  # fmt: skip


class _Takers:
    """Earlier rules, kept so that those which may take all of a rule are found without trying every one.

    A rule for a single address is only taken by rules for that address, or by general ones.
    """

    def __init__(self) -> None:
        self.by_address: dict[tuple[str, Address], list[tuple[Rule, Translation]]] = defaultdict(list)
        self.general: list[tuple[Rule, Translation]] = []

    def add(self, rule: Rule, owner: Translation) -> None:
        """Remember a rule."""
        address = _single(rule)
        if address is None:
            self.general.append((rule, owner))
        else:
            self.by_address[rule.stage, address].append((rule, owner))

    def of(self, rule: Rule) -> Translation | None:
        """Return the first translation that takes all of a rule's packets."""
        address = _single(rule)
        close = self.by_address.get((rule.stage, address), []) if address is not None else []
        return next((owner for earlier, owner in (*self.general, *close) if takes_all(earlier, rule)), None)


def _single(rule: Rule) -> Address | None:
    addresses = rule.destination if rule.stage == "arrival" else rule.source
    return addresses.single if addresses is not None else None


@check(
    "static-and-published",
    "warning",
    "A one-to-one translation takes every port of its external address; what is published there too depends on order.",
    wrong=_SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}\n- {static: 203.0.113.5, on: 10.40.10.12}",
    right=_SIDES
    + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}\n- {static: 203.0.113.6, on: 10.40.10.12}",
)
def static_and_published(network: Network) -> Iterator[Found]:
    """Find external addresses that are both one-to-one and published."""
    for device in network.devices:
        statics = {one.external.address: one for one in device.translations if isinstance(one, Static)}
        for one in device.translations:
            if isinstance(one, Publish) and one.external in statics:
                other = statics[one.external]
                yield Found(
                    one.place.at("publish"), _subject(device, one),
                    f"{one.external} is also translated one-to-one, to {other.internal} ({other.place})",
                    "Give one of them another external address.",
                )  # fmt: skip


@check(
    "own-address-static",
    "error",
    "A one-to-one translation of the device's own address takes the device itself off the network.",
    wrong=_SIDES + "- {static: 203.0.113.2, on: 10.40.10.12}",
    right=_SIDES + "- {static: 203.0.113.6, on: 10.40.10.12}",
)
def own_address_static(network: Network) -> Iterator[Found]:
    """Find one-to-one translations of an interface's own address."""
    for device in network.devices:
        for one in device.translations:
            holder = _holder(device, one.external.address) if isinstance(one, Static) else ""
            if isinstance(one, Static) and holder:
                yield Found(
                    one.place.at("static"), _subject(device, one),
                    f"{one.external} is the device's own address on {holder}",
                    "Use an address that nothing else has, or publish single services instead.",
                )  # fmt: skip


def _holder(device: Device, address: Address) -> str:
    return next((each.name for each in device.interfaces if any(own.address == address for own in each.addresses)), "")


@check(
    "internal-host-nowhere",
    "error",
    "If the device has no way to the internal host, what arrives for it is sent back out or dropped.",
    wrong=_SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.77.0.11}",
    right=_SIDES + "- {publish: 203.0.113.5, service: tcp/443, on: 10.40.10.11}",
)
def internal_host_nowhere(network: Network) -> Iterator[Found]:
    """Find internal hosts that neither a connected subnet nor a route (other than a default) leads to."""
    for device in network.devices:
        for one in device.translations:
            if not isinstance(one, Publish | Static) or any(each.subnet_of(one.internal) for each in device.interfaces):
                continue
            if any(each.to.length and not each.discard and each.to.contains(one.internal) for each in device.routes):
                continue
            yield Found(
                one.place.at("on"), _subject(device, one),
                f"{device.name} has no way to the internal host {one.internal}",
                "Correct the address, or add the interface or the route that leads to it.",
            )  # fmt: skip
