"""A device, asked what it is doing."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.topology import Topology
from agile_lattice.compare.applying import as_it_is
from agile_lattice.dialects import read_device
from agile_lattice.dialects.asking import Asked, What
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.errors import CaptureError
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.dialects.surfaces import lines_of
from agile_lattice.intent.addresses import Address, Prefix
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Dynamic
from agile_lattice.observe.flows import InUse, translations_in_use
from agile_lattice.packets.spans import size
from agile_lattice.transport.capturing import answered, capture, session_of
from agile_lattice.transport.errors import TransportError
from agile_lattice.transport.restconf import Restconf
from agile_lattice.transport.rounds import at_once
from agile_lattice.transport.sessions import Session

QUESTIONS: tuple[What, ...] = ("translations", "neighbours", "interfaces")
Told = Sequence[Mapping[str, str]]


class Hits(msgspec.Struct, frozen=True):
    """How often a rule was hit since its counter began.

    Attributes:
        rule: Its name, or what it says if it has none.
        kind: What it is: a translation, a permit or a rule of management.
        count: Packets of a permit, new flows of a translation; `None` if it is not counted.
        place: Where it stands on the device.
    """

    rule: str
    kind: str
    count: int | None
    place: Place


class PoolUse(msgspec.Struct, frozen=True):
    """How many addresses of a pool are in use."""

    translation: str
    used: int
    size: int


class Silent(msgspec.Struct, frozen=True):
    """A neighbour that does not answer.

    Attributes:
        routes: The destinations of which it is the next hop, if it is one.
    """

    address: Address
    interface: str
    routes: tuple[Prefix, ...] = ()


class Port(msgspec.Struct, frozen=True):
    """An interface of the device.

    Attributes:
        carrier: Whether it has one.
        wanted: Whether the intent has this interface, and has it up.
        received_errors, sent_errors: How many packets went wrong; `None` if the device does not tell.
    """

    name: str
    carrier: bool
    wanted: bool
    received_errors: int | None = None
    sent_errors: int | None = None


class Observed(msgspec.Struct, frozen=True):
    """What a device is doing.

    Attributes:
        device: Its name.
        hits: Its rules, with how often each was hit.
        in_use: Translations in use.
        pools: Its pools.
        silent: Neighbours that do not answer.
        interfaces: Its interfaces.
        unasked: What could not be asked, each with the reason.
        cause: Why it could not be asked at all; empty if it was.
        detail: What was said of that, and what to do; may be empty.
    """

    device: str
    hits: tuple[Hits, ...] = ()
    in_use: tuple[InUse, ...] = ()
    pools: tuple[PoolUse, ...] = ()
    silent: tuple[Silent, ...] = ()
    interfaces: tuple[Port, ...] = ()
    unasked: tuple[str, ...] = ()
    cause: str = ""
    detail: str = ""


def observed_round(
    network: Network, devices: Iterable[Device], catalogue: Catalogue, folder: Path, seal: bytes
) -> Iterator[Observed]:
    """Ask devices what they are doing, several at a time, and yield what comes of each as soon as it is there.

    Args:
        network: The network of the intent.
        devices: Those of its devices that are asked.
        catalogue: Where their dialects are looked up.
        folder: Where file names of connections begin.
        seal: The key by which secrets are made unreadable.
    """
    return at_once(devices, lambda device: _observed(network, device, catalogue, folder, seal))


def _observed(network: Network, device: Device, catalogue: Catalogue, folder: Path, seal: bytes) -> Observed:
    try:
        if device.connection is None:
            raise TransportError(device.name, "the intent does not say how it is reached", remedy="Say `connection`.")
        dialects = [catalogue.dialect(each) for each in device.speaks]
        session = session_of(device.name, device.connection, folder, dialects)
        return observe(session, network, device, catalogue, seal)
    except (TransportError, CaptureError) as error:
        detail = (error.detail, error.remedy) if isinstance(error, TransportError) else ()
        cause = error.cause if isinstance(error, TransportError) else str(error)
        return Observed(device.name, cause=cause, detail=". ".join(filter(None, detail)))


def observe(
    session: Session | Restconf, network: Network, intent: Device, catalogue: Catalogue, seal: bytes
) -> Observed:
    """Ask a device what it is doing.

    Args:
        session: A shell on the device, or its RESTCONF.
        network: The network of the intent.
        intent: The device as it should be.
        catalogue: Where its dialects are looked up.
        seal: The key by which secrets are made unreadable.

    Raises:
        TransportError: If it is not reached, or a program fails.
    """
    dialects = [catalogue.dialect(each) for each in intent.speaks]
    texts = capture(session, dialects, seal)
    asked: dict[str, tuple[What, Asked]] = {}
    others = [catalogue.dialect(each.running.observe_like) for each in dialects if each.running.observe_like]
    for each in (*dialects, *others):
        for what, how in each.running.observe.items():
            # Hits are told of each text by itself; what else there is, by the first that knows how to ask.
            if what != "hits":
                asked.setdefault(what, (what, how))
            elif each in dialects:
                asked[f"hits-{each.name}"] = what, how
    failed: dict[str, str] = {each: "no dialect says how" for each in QUESTIONS if each not in asked}
    answers = answered(session, dialects, [(name, how.ask) for name, (_, how) in asked.items()], failed)
    told = {name: tuple(how.read(what, answers.get(name, ""))) for name, (what, how) in asked.items()}
    read = read_device(intent.name, intent.speaks, texts, catalogue)
    there = replace(as_it_is(intent, read), name=intent.name)
    elsewhere = [each for each in network.devices if each.name != intent.name]
    topology = Topology(replace(network, devices=(there, *elsewhere)))
    flows = tuple(translations_in_use(told.get("translations", ()), there, topology))
    return Observed(
        intent.name, tuple(_hits(read.device, dialects, texts, told)), flows,
        tuple(_pools(there, flows)), tuple(_silent(told.get("neighbours", ()), there)),
        tuple(_ports(told.get("interfaces", ()), intent)), tuple(f"{what} ({why})" for what, why in failed.items()),
    )  # fmt: skip


def _hits(
    device: Device, dialects: Sequence[Dialect], texts: Mapping[str, str], told: Mapping[str, Told]
) -> Iterator[Hits]:
    """Yield the rules of a device as it was read, each with the count that its line tells, or that is told of it."""
    counts = {
        (file, int(each["line"])): int(each["count"])
        for dialect in dialects for file in dialect.running.capture for each in told.get(f"hits-{dialect.name}", ())
    }  # fmt: skip
    patterns = [re.compile(each.running.hits) for each in dialects if each.running.hits]
    lines = {file: lines_of(text) for file, text in texts.items()}
    rules: list[tuple[str, str, Place]] = [
        ("translation", each.name, each.place) for each in split(device.translations)
    ]
    rules += [("permit", each.name, each.place) for each in device.permits]
    rules += [("management", each.name, each.place) for each in device.access]
    seen: set[tuple[str, int]] = set()
    for kind, name, place in sorted(rules, key=lambda one: (one[2].file, one[2].line)):
        if not place.line or (place.file, place.line) in seen:
            continue
        seen.add((place.file, place.line))
        line = lines[place.file][place.line - 1].strip()
        found = next((match for each in patterns if (match := each.search(line))), None)
        count = int(found[1]) if found is not None else counts.get((place.file, place.line))
        yield Hits(name or line, kind, count, place)


def _pools(device: Device, flows: Sequence[InUse]) -> Iterator[PoolUse]:
    for one in device.translations:
        if isinstance(one, Dynamic) and one.pool is not None:
            used = {each.seen.source for each in flows if each.seen.source in one.pool}
            yield PoolUse(one.name or str(one.pool), len(used), size(one.pool.spans))


def _silent(told: Told, device: Device) -> Iterator[Silent]:
    for each in told:
        try:
            address = Address.parse(each["address"])
        except ValueError:
            continue
        yield Silent(address, each["interface"], tuple(route.to for route in device.routes if route.via == address))


def _ports(told: Told, intent: Device) -> Iterator[Port]:
    for each in told:
        here = intent.interface(each["interface"])
        errors = [int(each[name]) if name in each else None for name in ("received_errors", "sent_errors")]
        yield Port(each["interface"], "carrier" in each, here is not None and here.enabled, *errors)
