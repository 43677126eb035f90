"""What a device answers for besides its own addresses (ARP, RFC 826; neighbour discovery, RFC 4861)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Answer, Device
from agile_lattice.intent.places import NOWHERE, Place
from agile_lattice.intent.translations import Dynamic, Publish, Static, Translation, Twice
from agile_lattice.packets.spans import Marked, Spans, meet, merged, minus

FAMILIES = (4, 6)
Answered = Mapping[int, Spans]  # addresses of each family


def with_answers(device: Device, answered: Answered | None = None) -> tuple[list[Interface], tuple[Answer, ...]]:
    """Return the interfaces as `parted_answers` does, and all that a device answers for, whether said or following."""
    parted, answers = parted_answers(device, answered)
    if device.answers is None:
        answers += answers_for(parted, device.translations)
    return parted, _gathered(answers)


def normal_answers(device: Device) -> tuple[Answer, ...]:
    """Return what a device answers for besides its own addresses, whether it is said or follows."""
    return with_answers(device)[1]


def answered_by(device: Device) -> Answered:
    """Return the addresses of each family that a device answers for besides its own."""
    said = [each.addresses for each in normal_answers(device)]
    return {
        family: merged(span for each in said if each.family == family for span in each.spans) for family in FAMILIES
    }


def parted_answers(device: Device, answered: Answered | None = None) -> tuple[list[Interface], list[Answer]]:
    """Part the addresses that a device has from those that it only answers for.

    Args:
        device: The device.
        answered: Addresses of which an intent says that it only answers for them.

    Returns:
        The interfaces without addresses that stand there for a translation, and all that the device
        is said to answer for.
    """
    hosts = [each for one in device.interfaces for each in one.addresses if _may_be_answer(one, each)]
    known = answered or {}
    external = {
        family: merged((*external_addresses(device.translations, family), *known.get(family, ())))
        for family in {each.family for each in hosts}
    }
    answers: list[Answer] = list(device.answers if device.answers is not None else ())
    interfaces = []
    for interface in device.interfaces:
        own = []
        for index, address in enumerate(interface.addresses):
            if _may_be_answer(interface, address) and _within(external[address.family], address):
                answers.append(Answer(interface.name, AddressSet.of(address), interface.place_of(index)))
            else:
                own.append(address)
        interfaces.append(replace(interface, addresses=tuple(own)))
    return interfaces, answers


def _may_be_answer(interface: Interface, address: Prefix) -> bool:
    return address.is_host and interface.subnet_of(address) is not None


def _within(spans: Spans, address: Prefix) -> bool:
    return bool(meet(((address.value, address.value),), spans))


def external_addresses(translations: Iterable[Translation], family: int = 4) -> Spans:
    """Return every address of a family that the translations show to the outside, of pools and hosts alike."""
    return merged(span for one in translations for span in _external(one, family))


def _external(one: Translation, family: int) -> Spans:
    if isinstance(one, Static):
        return ((one.external.first, one.external.last),) if one.external.family == family else ()
    if isinstance(one, Publish):
        return one.named if one.internal.family == family else ()
    if isinstance(one, Dynamic | Twice):
        return one.pool.spans if one.pool is not None and one.pool.family == family else ()
    return ()


def _asked_for(translations: Iterable[Translation], family: int) -> Spans:
    """Return the external addresses that neighbours may ask for; a whole prefix of IPv6 is routed, not asked for."""
    whole = [one for one in translations if isinstance(one, Static) and family == 6 and not one.external.is_host]
    return external_addresses((one for one in translations if one not in whole), family)


def answers_for(interfaces: Iterable[Interface], translations: Iterable[Translation]) -> list[Answer]:
    """Derive what the device must answer for by ARP or ND (RFC 5382 and RFC 2663 leave it to the device).

    Neighbours on a connected subnet ask for an external address there; if the device does not
    answer, the packets never come. An address outside all connected subnets is routed to the
    device and needs no answer, and its own addresses it answers for anyhow (but for one that an
    interface has only to be answered for there). What an interface says by itself (`extra`,
    `answers`) is taken as it is.
    """
    interfaces = list(interfaces)
    translations = list(translations)
    wanted = {family: _wanted(interfaces, _asked_for(translations, family), family) for family in FAMILIES}
    answers = []
    for interface in interfaces:
        if interface.answers is not None:
            place = interface.place.at("answers")
            answers += [Answer(interface.name, addresses, place) for addresses in interface.answers]
            continue
        answers += [Answer(interface.name, AddressSet.of(each.address), each.place) for each in interface.extra]
        for family in FAMILIES:
            here = meet(wanted[family], connected([interface], family))
            said = (each.address for each in interface.extra)
            here = here and minus(here, _values((*interface.addresses, *said), family))
            if here:
                answers.append(Answer(interface.name, *_with_place(AddressSet(family, here), translations)))
    return answers


def connected(interfaces: Iterable[Interface], family: int) -> Spans:
    """Return the addresses of a family on the links of some interfaces."""
    return merged(
        (each.first, each.last)
        for one in interfaces
        if not one.loopback
        for each in one.addresses
        if each.family == family and not each.is_host
    )


def _wanted(interfaces: list[Interface], external: Spans, family: int) -> Spans:
    """Return external addresses but those that the device has as its own."""
    own = (
        each
        for one in interfaces
        for each in one.addresses
        if each.family == family and not (_may_be_answer(one, each) and _within(external, each))
    )
    return minus(external, _values(own, family)) if external else ()


def _values(addresses: Iterable[Prefix], family: int) -> Spans:
    return merged((each.value, each.value) for each in addresses if each.family == family)


def _with_place(addresses: AddressSet, translations: list[Translation]) -> tuple[AddressSet, Place]:
    """Return addresses with the place of the translation that needs them, and of each prefix as its part."""
    uses = Marked((span, at) for at, one in enumerate(translations) for span in _external(one, addresses.family))

    def place_of_use(prefix: Prefix) -> Place:
        users = uses.meeting((prefix.first, prefix.last))
        return translations[users[0]].place if users else NOWHERE

    used: dict[str | int, Place] = {str(each): place_of_use(each) for each in addresses.prefixes()}
    first = min((users[0] for span in addresses.spans if (users := uses.meeting(span))), default=None)
    place = NOWHERE if first is None else translations[first].place
    return addresses, Place(place.file, place.line, used)


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
