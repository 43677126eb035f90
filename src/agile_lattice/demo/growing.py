"""The ferries, grown: a made-up fleet of any size, the same again for the same seed.

Twenty landings have a harbour behind them, sixteen harbours a coast, and all coasts one head office. Every landing has
60 objects: 10 interfaces, 21 routes, 20 translations, 9 permits. The public addresses are those that RFC 2544 sets
aside for measurements, since those of documentation do not suffice.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from random import Random

from msgspec.structs import replace

from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device
from agile_lattice.intent.translations import Publish

LANDINGS, HARBOURS = 20, 16  # behind a harbour, and behind a coast
MOST = 64 * LANDINGS * HARBOURS  # landings, of which each has a /23 of 10.0.0.0/8
HALLS = ("office", "tickets", "cafe", "workshop", "store", "gates", "guests")
SPEAKS = ("[iproute2, nftables]",) * 6 + ("[frr, nftables]",) * 3 + ("[networkd, nftables]",)
COMMON = """\
lattice: 1
network: saltmarsh-ferries
zones: {sea: {exposure: public}, own: {exposure: own}, halls: {exposure: shared}}
names:
  services: {booking: [tcp/443, tcp/8443]}
  networks: {all-landings: [10.0.0.0/8]}
"""


def grown(landings: int, seed: int = 1) -> dict[str, str]:
    """Return the files of an intent with so many landings, by name; harbours, coasts and an office come on top."""
    random = Random(seed)
    harbours = -(-landings // LANDINGS)
    coasts = -(-harbours // HARBOURS)
    files = {"common.yaml": COMMON + "devices:\n" + _office(coasts)}
    for harbour in range(harbours):
        mine = range(harbour * LANDINGS, min((harbour + 1) * LANDINGS, landings))
        devices = [_harbour(harbour, mine), *(_landing(number, random) for number in mine)]
        files[f"harbour-{harbour:03}.yaml"] = _provided(harbour, mine) + "devices:\n" + "".join(devices)
    for coast in range(coasts):
        mine = range(coast * HARBOURS, min((coast + 1) * HARBOURS, harbours))
        files[f"coast-{coast:02}.yaml"] = "lattice: 1\ndevices:\n" + _coast(coast, mine)
    return files


def write_grown(folder: Path, landings: int, seed: int = 1) -> None:
    """Write such an intent into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in grown(landings, seed).items():
        (folder / name).write_text(text, encoding="utf-8")


def drifted(names: Sequence[str], devices: Iterable[Device], seed: int = 1) -> Iterator[Device]:
    """Yield devices as they are: some lost a route, some have a wrong port, or other descriptions; one is not there."""
    mixed = Random(seed).sample(names, len(names))
    away, lost, mistyped = mixed[0], {*mixed[1 : len(mixed) // 20 + 2]}, {*mixed[-1 - len(mixed) // 50 :]}
    renamed = {*mixed[len(mixed) // 2 : len(mixed) // 2 + len(mixed) // 30 + 1]}
    for device in devices:
        if device.name in lost:
            yield replace(device, routes=tuple(each for each in device.routes if str(each.to) != "192.168.9.0/24"))
        elif device.name in mistyped:
            yield replace(device, translations=tuple(map(_mistyped, device.translations)))
        elif device.name in renamed:
            yield replace(device, interfaces=tuple(map(_renamed, device.interfaces)))
        elif device.name != away:
            yield device


def _mistyped(one: object) -> object:
    return replace(one, internal_port=8343) if isinstance(one, Publish) and one.name == "kiosk-3" else one


def _renamed(one: Interface) -> Interface:
    return replace(one, description="tickets and tea") if one.description == "tickets" else one


def _at(first: int, offset: int) -> str:
    """Return the address so far behind `first`.0.0.0, for `first` of 10, or behind 172.16.0.0 or 198.18.0.0."""
    base = {10: 10 << 24, 172: 172 << 24 | 16 << 16, 198: 198 << 24 | 18 << 16}[first] + offset
    return ".".join(str(base >> shift & 255) for shift in (24, 16, 8, 0))


def _entry(name: str, speaks: str, interfaces: list[str], routes: list[str], rest: tuple[str, ...] = ()) -> str:
    lines = [f"  {name}:", f"    speaks: {speaks}", "    interfaces:", *(f"      {each}" for each in interfaces)]
    lines += ["    routes:", *(f"      - {{{each}}}" for each in routes), *(f"    {each}" for each in rest)]
    return "\n".join(lines) + "\n"


def _link(kind: int, number: int, end: int) -> str:
    """Return one end, 0 or 1, of the link of a landing (kind 0), a harbour (1) or a coast (2) to who is behind it."""
    return _at(172, kind << 18 | number << 1 | end)


def _block(number: int) -> int:
    """Return where the addresses of a landing begin: of the /18 of its harbour it has the next /23."""
    return number // LANDINGS << 14 | number % LANDINGS << 9


def _public(number: int) -> int:
    """Return where its public ones begin: of the /25 of its harbour the next /30."""
    return number // LANDINGS << 7 | number % LANDINGS << 2


def _provided(harbour: int, landings: range) -> str:
    """Return what a harbour has from its provider, and a host of each landing."""
    held = ", ".join(f"landing-{each:05}: {_at(198, _public(each))}/30" for each in landings)
    block = f"  harbour-{harbour:03}: {{prefix: {_at(198, harbour << 7)}/25, delivery: routed, held: {{{held}}}}}"
    hosts = [
        f"    till-{each:05}: {{address: {_at(10, at + 74)}/26, gateway: {_at(10, at + 65)}, zone: own}}"
        for each in landings
        for at in [_block(each)]
    ]
    return "\n".join(["lattice: 1", "blocks:", block, "names:", "  hosts:", *hosts, ""])


def _landing(number: int, random: Random) -> str:
    block, wan, gateway = _block(number), _at(198, _public(number) + 2), _at(198, _public(number) + 1)
    interfaces = [
        f"wan0: {{zone: sea, address: {wan}/30}}",
        f"harbour0: {{zone: own, address: {_link(0, number, 1)}/31}}",
        *(
            f"lan{at}: {{zone: {'halls' if hall == 'guests' else 'own'}, address: {_at(10, block + 64 * at + 1)}/26,"
            f" description: {hall}}}"
            for at, hall in enumerate(HALLS)
        ),
        f"lo: {{loopback: {_at(10, block + 64 * 7 + 1)}/32}}",
    ]
    routes = [f"to: default, via: {gateway}"]
    routes += [f"to: {wide}, via: {_link(0, number, 0)}" for wide in ("10.0.0.0/8", "172.16.0.0/12")]
    routes += [f"to: 192.168.{n}.0/24, via: {_at(10, block + 2)}" for n in range(17)]
    routes.append(f"to: {_at(10, block)}/23, discard: true, distance: 250")
    published = [
        f"  - {{name: kiosk-{n}, publish: {wan}, service: tcp/{8000 + n}, on: {_at(10, block + 64 * 6 + n + 10)},"
        f" internal-port: {random.choice((443, 8443))}, facing: sea}}"
        for n in range(18)
    ]
    out = [f"  - {{name: {zone}-out, from: {zone}, to: sea, source-becomes: interface}}" for zone in ("halls", "own")]
    ports = [random.randrange(900) + n * 1000 + 1 for n in range(8)]
    permits = [
        f"  - {{name: out-{n}, from: own, to: sea, source: till-{number:05}, service: tcp/{at}-{at + 99}}}"
        for n, at in enumerate(ports)
    ]
    rest = "translations:", *published, *out, "permits:", "  - {derive: translations}", *permits
    return _entry(f"landing-{number:05}", random.choice(SPEAKS), interfaces, routes, rest)


def _harbour(number: int, landings: range) -> str:
    interfaces = [f"landing{each % LANDINGS}: {{zone: own, address: {_link(0, each, 0)}/31}}" for each in landings] + [
        f"coast0: {{zone: own, address: {_link(1, number, 1)}/31}}"
    ]
    routes = [
        f"to: {_at(10, number << 14 | each % LANDINGS << 9)}/23, via: {_link(0, each, 1)}" for each in landings
    ] + [f"to: {wide}, via: {_link(1, number, 0)}" for wide in ("10.0.0.0/8", "172.16.0.0/12")]
    nobody = [f"{_at(10, number << 14)}/18", *_links_to(number)]
    routes += [f"to: {each}, discard: true, distance: 250" for each in nobody]
    return _entry(f"harbour-{number:03}", "[frr]", interfaces, routes)


def _links_to(harbour: int) -> list[str]:
    """Return the networks of the links between a harbour and its landings."""
    return [f"{_at(172, at)}/29" for at in range(harbour * LANDINGS * 2, (harbour + 1) * LANDINGS * 2, 8)]


def _coast(number: int, harbours: range) -> str:
    interfaces = [f"harbour{each % HARBOURS}: {{zone: own, address: {_link(1, each, 0)}/31}}" for each in harbours] + [
        f"office0: {{zone: own, address: {_link(2, number, 1)}/31}}"
    ]
    routes = []
    for each in harbours:
        routes.append(f"to: {_at(10, each << 14)}/18, via: {_link(1, each, 1)}")
        routes += [f"to: {network}, via: {_link(1, each, 1)}" for network in _links_to(each)]
    routes += [f"to: {wide}, via: {_link(2, number, 0)}" for wide in ("10.0.0.0/8", "172.16.0.0/12")]
    nobody = [f"{_at(10, number << 18)}/14", *_links_behind(number)]
    routes += [f"to: {each}, discard: true, distance: 250" for each in nobody]
    return _entry(f"coast-{number:02}", "[frr]", interfaces, routes)


def _links_behind(coast: int) -> list[str]:
    """Return the networks of all links of the harbours of a coast."""
    width = LANDINGS * HARBOURS * 2
    upward = f"{_link(1, coast * HARBOURS, 0)}/27"
    return [*(f"{_at(172, at)}/25" for at in range(coast * width, (coast + 1) * width, 128)), upward]


def _office(coasts: int) -> str:
    interfaces = [f"coast{each}: {{zone: own, address: {_link(2, each, 0)}/31}}" for each in range(coasts)]
    routes = []
    for each in range(coasts):
        beyond = _link(2, each, 1)
        routes.append(f"to: {_at(10, each << 18)}/14, via: {beyond}")
        routes += [f"to: {network}, via: {beyond}" for network in _links_behind(each)]
    routes += [f"to: {wide}, discard: true, distance: 250" for wide in ("10.0.0.0/8", "172.16.0.0/12")]
    return _entry("head-office", "[frr]", interfaces, routes)
