"""A device, asked what it is doing."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from agile_lattice.behaviour.topology import Topology
from agile_lattice.compare.applying import as_it_is
from agile_lattice.dialects import read_device
from agile_lattice.dialects.dialect import Dialect
from agile_lattice.dialects.registry import Catalogue
from agile_lattice.intent.addresses import Address
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.places import Place
from agile_lattice.intent.stages import split
from agile_lattice.intent.translations import Dynamic
from agile_lattice.observe.flows import InUse, translations_in_use
from agile_lattice.packets.spans import size
from agile_lattice.transport.capturing import ask, capture
from agile_lattice.transport.sessions import Session

FAILING = frozenset({"FAILED", "INCOMPLETE"})


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
    """A neighbour that does not answer."""

    address: Address
    interface: str


class Observed(msgspec.Struct, frozen=True):
    """What a device is doing.

    Attributes:
        device: Its name.
        hits: Its rules, with how often each was hit.
        in_use: Translations in use.
        pools: Its pools.
        silent: Neighbours that do not answer.
        unasked: What none of its dialects says how to ask.
    """

    device: str
    hits: tuple[Hits, ...]
    in_use: tuple[InUse, ...]
    pools: tuple[PoolUse, ...]
    silent: tuple[Silent, ...]
    unasked: tuple[str, ...] = ()


def observe(session: Session, network: Network, intent: Device, catalogue: Catalogue, seal: bytes) -> Observed:
    """Ask a device what it is doing.

    Args:
        session: A shell on the device.
        network: The network of the intent.
        intent: The device as it should be.
        catalogue: Where its dialects are looked up.
        seal: The key by which secrets are made unreadable.

    Raises:
        TransportError: If it is not reached, or a program fails.
    """
    dialects = [catalogue.dialect(each) for each in intent.speaks]
    texts = capture(session, dialects, seal)
    commands: dict[str, str] = {}
    for each in dialects:
        for what, command in each.running.observe.items():
            commands.setdefault(what, command)
    told = ask(session, [*commands.items()]) if commands else {}
    read = read_device(intent.name, intent.speaks, texts, catalogue)
    there = replace(as_it_is(intent, read), name=intent.name)
    others = [each for each in network.devices if each.name != intent.name]
    topology = Topology(replace(network, devices=(there, *others)))
    flows = tuple(translations_in_use(told.get("translations", ""), there, topology))
    unasked = tuple(each for each in ("translations", "neighbours") if each not in commands)
    return Observed(
        intent.name, tuple(_hits(read.device, dialects, texts)), flows, tuple(_pools(there, flows)),
        tuple(_silent(told.get("neighbours", "[]"))), unasked,
    )  # fmt: skip


def _hits(device: Device, dialects: Sequence[Dialect], texts: Mapping[str, str]) -> Iterator[Hits]:
    """Yield the rules of a device as it was read, each with the count that its line tells."""
    patterns = [re.compile(each.running.hits) for each in dialects if each.running.hits]
    lines = {file: text.splitlines() for file, text in texts.items()}
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
        yield Hits(name or line, kind, int(found[1]) if found is not None else None, place)


def _pools(device: Device, flows: Sequence[InUse]) -> Iterator[PoolUse]:
    for one in device.translations:
        if isinstance(one, Dynamic) and one.pool is not None:
            used = {each.seen.source for each in flows if each.seen.source in one.pool}
            yield PoolUse(one.name or str(one.pool), len(used), size(one.pool.spans))


def _silent(text: str) -> Iterator[Silent]:
    entries: list[dict[str, Any]] = json.loads(text or "[]")
    for each in entries:
        if FAILING & {*each.get("state", ())}:
            yield Silent(Address.parse(each["dst"]), each.get("dev", ""))
