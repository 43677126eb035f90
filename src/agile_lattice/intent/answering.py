"""What a device answers for besides its own addresses (ARP, RFC 826; neighbour discovery, RFC 4861)."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Answer, Device
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.translations import Dynamic, Publish, Static, Translation, Twice
from agile_lattice.packets.spans import Spans, meet, merged, minus


def with_answers(device: Device, answered: Spans = ()) -> tuple[list[Interface], tuple[Answer, ...]]:
    """Return the interfaces as `parted_answers` does, and all that a device answers for, whether said or following."""
    parted, answers = parted_answers(device, answered)
    if device.answers is None:
        answers += answers_for(parted, device.translations)
    return parted, _gathered(answers)


def normal_answers(device: Device) -> tuple[Answer, ...]:
    """Return what a device answers for besides its own addresses, whether it is said or follows."""
    return with_answers(device)[1]


def answered_by(device: Device) -> Spans:
    """Return the IPv4 addresses that a device answers for besides its own."""
    return merged(
        span for each in normal_answers(device) if each.addresses.family == 4 for span in each.addresses.spans
    )


def parted_answers(device: Device, answered: Spans = ()) -> tuple[list[Interface], list[Answer]]:
    """Part the addresses that a device has from those that it only answers for.

    Args:
        device: The device.
        answered: IPv4 addresses of which an intent says that it only answers for them.

    Returns:
        The interfaces without addresses that stand there for a translation, and all that the device
        is said to answer for.
    """
    hosts = [each for one in device.interfaces for each in one.addresses if _may_be_answer(one, each)]
    external = merged((*external_addresses(device.translations), *answered)) if hosts else ()
    answers: list[Answer] = list(device.answers if device.answers is not None else ())
    interfaces = []
    for interface in device.interfaces:
        own = []
        for index, address in enumerate(interface.addresses):
            if external and _may_be_answer(interface, address) and _within(external, address):
                answers.append(Answer(interface.name, AddressSet.of(address), interface.place_of(index)))
            else:
                own.append(address)
        interfaces.append(replace(interface, addresses=tuple(own)))
    return interfaces, answers


def _may_be_answer(interface: Interface, address: Prefix) -> bool:
    return address.family == 4 and address.is_host and interface.subnet_of(address) is not None


def _within(spans: Spans, address: Prefix) -> bool:
    return bool(meet(((address.value, address.value),), spans))


def external_addresses(translations: Iterable[Translation]) -> Spans:
    """Return every IPv4 address that the translations show to the outside, of pools and hosts alike."""
    return merged(span for one in translations for span in _external(one))


def _external(one: Translation) -> Spans:
    if isinstance(one, Static):
        return ((one.external.first, one.external.last),) if one.external.family == 4 else ()
    if isinstance(one, Publish):
        return one.named
    if isinstance(one, Dynamic | Twice):
        return one.pool.spans if one.pool is not None else ()
    return ()


def answers_for(interfaces: Iterable[Interface], translations: Iterable[Translation]) -> list[Answer]:
    """Derive what the device must answer ARP for (RFC 5382 and RFC 2663 leave it to the device).

    Neighbours on a connected subnet ask for an external address there; if the device does not
    answer, the packets never come. An address outside all connected subnets is routed to the
    device and needs no answer, and its own addresses it answers for anyhow (but for one that an
    interface has only to be answered for there). What an interface says by itself (`extra`,
    `answers`) is taken as it is.
    """
    interfaces = list(interfaces)
    translations = list(translations)
    external = external_addresses(translations)
    own = merged(
        (each.value, each.value)
        for one in interfaces
        for each in one.addresses
        if each.family == 4 and not (_may_be_answer(one, each) and _within(external, each))
    )
    wanted = minus(external, own)
    answers = []
    for interface in interfaces:
        if interface.answers is not None:
            place = interface.place.at("answers")
            answers += [Answer(interface.name, addresses, place) for addresses in interface.answers]
            continue
        answers += [Answer(interface.name, AddressSet.of(each.address), each.place) for each in interface.extra]
        subnets = merged(
            (each.first, each.last)
            for each in interface.addresses
            if each.family == 4 and not each.is_host and not interface.loopback
        )
        here = meet(wanted, subnets)
        if here:
            here = minus(here, merged((each.value, each.value) for each in interface.addresses if each.family == 4))
        if here:
            addresses = AddressSet(4, here)
            used: dict[str | int, Place] = {
                str(each): _place_of_use(translations, ((each.first, each.last),)) for each in addresses.prefixes()
            }
            first = _place_of_use(translations, here)
            answers.append(Answer(interface.name, addresses, Place(first.file, first.line, used)))
    return answers


def _place_of_use(translations: list[Translation], spans: Spans) -> Place:
    return next((one.place for one in translations if meet(_external(one), spans)), NOWHERE)


def _gathered(answers: list[Answer]) -> tuple[Answer, ...]:
    """Unite answers per interface and family; the place has the place of each prefix as a part."""
    by_interface: dict[tuple[str, int], list[Answer]] = {}
    for answer in answers:
        by_interface.setdefault((answer.interface, answer.addresses.family), []).append(answer)
    result = []
    for (name, _), members in sorted(by_interface.items()):
        parts: dict[str | int, Place] = {
            str(prefix): each.place.at(str(prefix)) for each in members for prefix in each.addresses.prefixes()
        }
        place = Place(members[0].place.file, members[0].place.line, parts)
        result.append(Answer(name, AddressSet.of(*(each.addresses for each in members)), place))
    return tuple(result)
