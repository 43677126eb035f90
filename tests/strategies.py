"""Generated devices: what an engineer could write, and a good deal that nobody would."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st
from msgspec.structs import replace

from agile_lattice.intent.addresses import BITS, Address, AddressSet, Prefix
from agile_lattice.intent.interfaces import Bridge, Dial, Interface, Secret
from agile_lattice.intent.model import HELPED_OVER, Device, Helped, Helper, HostEntry, Settings
from agile_lattice.intent.permits import Access, Permit
from agile_lattice.intent.routes import Route
from agile_lattice.intent.services import Service, union_of_services
from agile_lattice.intent.translations import Dynamic, Exempt, Intercept, Publish, Static, Translation
from agile_lattice.packets.spans import merged

HOSTS = st.builds(
    HostEntry,
    st.sampled_from(["quay", "pier-7.example", "booking"]),
    st.lists(st.sampled_from(["10.40.10.7", "2001:db8::7", "192.0.2.7", "10.40.10.8"]), min_size=1, unique=True).map(
        lambda found: tuple(Address.parse(each) for each in found)
    ),
)
SETTINGS = st.builds(
    Settings, st.just(""), st.none() | st.booleans(), st.none() | st.booleans(),
    st.none() | st.sampled_from(["off", "strict", "loose"]),
    st.lists(st.sampled_from(["10.40.10.53", "2001:db8::53", "192.0.2.53"]), unique=True).map(
        lambda found: tuple(Address.parse(each) for each in found)
    ),
    st.lists(HOSTS, max_size=3, unique_by=lambda each: each.name).map(tuple),
)  # fmt: skip
IDENTITIES = st.none() | st.sampled_from(["10.255.0.9", "192.0.2.9"]).map(Address.parse)
NAMES = st.sampled_from(["wan0", "lan0", "lan1", "pier-7", "dmz.20", "e0", "metric", "up"])
REMARKS = st.text(
    st.characters(min_codepoint=33, max_codepoint=126) | st.sampled_from("äéß中"), min_size=1, max_size=12
)
TEXT = st.lists(REMARKS, min_size=1, max_size=4).map(" ".join)
# A small universe, so that addresses meet, overlap and repeat.
V4 = st.one_of(
    st.integers(0xCB007100, 0xCB00711F),
    st.integers(0x0A280A00, 0x0A280B20),
    st.integers(0x01000000, 0xDFFFFFFF),
)
V6 = st.integers(0x20010DB8 << 96, (0x20010DB8 << 96) + 64) | st.integers(0x20010DB8 << 96, (0x20010DB9 << 96) - 1)


def addresses(family: int) -> st.SearchStrategy[Address]:
    return (V4 if family == 4 else V6).map(lambda value: Address(family, value))


def prefixes(family: int, least: int = 0) -> st.SearchStrategy[Prefix]:
    bits = BITS[family]
    lengths = st.sampled_from([8, 16, 24, 28, 30, 31, 32] if family == 4 else [32, 48, 64, 127, 128]) | st.integers(
        1, bits
    )
    return st.builds(lambda a, n: Prefix(family, a.value, max(n, least)), addresses(family), lengths)


def networks(family: int) -> st.SearchStrategy[Prefix]:
    return (prefixes(family) | st.just(Prefix(family, 0, 0))).map(lambda prefix: prefix.network)


@st.composite
def address_sets(draw: st.DrawFn, family: int = 4) -> AddressSet:
    sizes = st.sampled_from([0, 0, 1, 3, 9, 255])
    span = st.builds(lambda address, size: (address.value, address.value + size), addresses(family), sizes)
    return AddressSet(family, merged(draw(st.lists(span, min_size=1, max_size=3))))


@st.composite
def services(draw: st.DrawFn, family: int = 4) -> tuple[Service, ...]:
    found = []
    known = ["tcp", "udp", "icmp" if family == 4 else "icmp6", "sctp", "gre", "esp", "ah"]
    for protocol in draw(st.lists(st.sampled_from(known), min_size=1, max_size=3)):
        ports = None
        if protocol.startswith("icmp") and draw(st.booleans()):
            kind = draw(st.sampled_from([0, 3, 8, 11, 128, 135, 200]))
            ports = ((kind, kind),)
        if protocol in ("tcp", "udp", "sctp") and draw(st.booleans()):
            low = draw(st.sampled_from([22, 53, 80, 81, 443, 8000]) | st.integers(1, 60000))
            ports = ((low, low + draw(st.sampled_from([0, 0, 1, 10]))),)
        found.append(Service(protocol, ports))
    return union_of_services(found)


def interfaces(name: str) -> st.SearchStrategy[Interface]:
    either = prefixes(4, 8) | prefixes(6, 8)
    return st.builds(
        Interface, st.just(name), st.lists(either, max_size=3, unique=True).map(tuple), st.just(False),
        st.booleans(), st.none() | st.integers(1280, 9000), st.just("") | TEXT,
    )  # fmt: skip


def loopbacks() -> st.SearchStrategy[Interface]:
    either = (addresses(4) | addresses(6)).map(Prefix.host)
    return st.builds(Interface, st.just("lo"), st.lists(either, max_size=3, unique=True).map(tuple), st.just(True))


@st.composite
def routes(draw: st.DrawFn, names: list[str]) -> Route:
    family = draw(st.sampled_from([4, 6]))
    to, distance = draw(networks(family)), draw(st.just(1) | st.integers(1, 254))
    if draw(st.integers(0, 4)) == 0:
        return Route(to, None, None, draw(st.sampled_from(["blackhole", "unreachable"])), distance)
    via = draw(st.none() | addresses(family)) if names else draw(addresses(family))
    interface = draw(st.sampled_from(names)) if names and (via is None or draw(st.booleans())) else None
    return Route(to, via, interface, None, distance)


@st.composite
def translations(draw: st.DrawFn, names: list[str], remarks: st.SearchStrategy[str] = REMARKS) -> Translation:
    sides = st.none() | st.lists(st.sampled_from(names), min_size=1, max_size=2, unique=True).map(
        lambda found: tuple(sorted(found))
    )
    side = sides if names else st.none()
    name = draw(st.just("") | st.sampled_from(["a", "b", "c"]) | remarks)
    maybe_set, maybe_services = st.none() | address_sets(), st.none() | services()
    match draw(st.sampled_from(["exempt", "dynamic", "static", "publish", "publish", "intercept"])):
        case "exempt":
            leaves = draw(side)
            at = "departure" if leaves else draw(st.sampled_from(["both", "arrival", "departure"]))
            return Exempt(name, draw(side), leaves, draw(maybe_set), draw(maybe_set), draw(maybe_services), at)
        case "dynamic":
            pool = draw(st.none() | address_sets().filter(lambda pool: len(pool.spans) == 1))
            return Dynamic(name, draw(side), draw(side), draw(maybe_set), draw(maybe_set), draw(maybe_services), pool)
        case "static":
            family = draw(st.sampled_from([4, 4, 6]))
            external, internal = draw(addresses(family)), draw(addresses(family))
            length = draw(st.sampled_from([32, 32, 28] if family == 4 else [48, 64, 128]))
            ends = (Prefix(family, each.value, length).network for each in (external, internal))
            return Static(*ends, name, draw(side))
        case kind:
            offered = draw(maybe_services)
            ported = offered is not None and all(each.has_ports for each in offered)
            port = draw(st.none() | st.integers(1, 65535)) if ported else None
            if kind == "intercept":
                return Intercept(name, draw(side), draw(maybe_set), draw(maybe_set), offered, port)
            single = addresses(4).map(AddressSet.of)
            shown = draw(single | single | address_sets() | st.sampled_from(["interface", "device"]))
            internal = draw(addresses(4))
            return Publish(shown, internal, name, draw(side), draw(maybe_set), offered, port)


@st.composite
def mappings(draw: st.DrawFn, names: list[str], remarks: st.SearchStrategy[str] = REMARKS) -> Translation:
    """What RFC 8512 can say, and now and then something that it cannot."""
    if not names or draw(st.integers(0, 5)) == 0:
        return draw(translations(names, remarks))
    name, side = draw(st.just("") | remarks), (draw(st.sampled_from(names)),)
    length = draw(st.sampled_from([28, 30, 32]))
    one, other = (Prefix(4, draw(addresses(4)).value, length).network for _ in range(2))
    if draw(st.booleans()):
        return Static(one, other, name, side)
    return Dynamic(name, None, side, draw(st.none() | st.just(AddressSet.of(one))), pool=AddressSet.of(other))


def ruled(speaks: tuple[str, ...], names: list[str], remarks: st.SearchStrategy[str]) -> st.SearchStrategy[Translation]:
    return mappings(names, remarks) if "ietf-nat" in speaks[-1] else translations(names, remarks)


@st.composite
def permits(draw: st.DrawFn, names: list[str], remarks: st.SearchStrategy[str] = REMARKS) -> Permit:
    side = st.none() | st.lists(st.sampled_from(names), min_size=1, max_size=2, unique=True).map(
        lambda found: tuple(sorted(found))
    ) if names else st.none()  # fmt: skip
    family = draw(st.sampled_from([4, 4, 6]))
    some = st.none() | address_sets(family)
    offered = draw(st.none() | services(family))
    return Permit(
        draw(st.just("") | remarks), draw(side), draw(side), draw(some), draw(some), offered, draw(st.booleans()),
        draw(st.booleans()),
    )  # fmt: skip


@st.composite
def accesses(draw: st.DrawFn, names: list[str], remarks: st.SearchStrategy[str] = REMARKS) -> Access:
    side = st.none() | st.sampled_from(names).map(lambda name: (name,)) if names else st.none()
    some = st.none() | address_sets()
    return Access(
        draw(services(4)), draw(st.just("") | remarks), draw(side), draw(some), draw(some), draw(st.booleans())
    )


@st.composite
def helpers(draw: st.DrawFn) -> tuple[Helper, ...]:
    names: list[Helped] = sorted(draw(st.sets(st.sampled_from(["ftp", "tftp", "sip"]), max_size=2)))
    ports = st.lists(st.integers(1, 65535), min_size=1, max_size=3, unique=True)
    made = []
    for name in names:
        over = draw(st.lists(st.sampled_from(HELPED_OVER[name]), min_size=1, unique=True))
        of = [Service(each, tuple((port, port) for port in draw(ports))) for each in over]
        made.append(Helper(name, union_of_services(of)))
    return tuple(made)


def own_settings(speaks: tuple[str, ...]) -> st.SearchStrategy[Settings]:
    if {"nftables", "iptables"} & {*speaks}:
        opening = st.just(()) | st.just(()) | helpers()
        return st.builds(lambda one, more: replace(one, helpers=more), _system_settings(speaks), opening)
    return _system_settings(speaks)


def _system_settings(speaks: tuple[str, ...]) -> st.SearchStrategy[Settings]:
    if {"frr", "bird"} & {*speaks}:
        return st.builds(Settings, identity=IDENTITIES)
    return st.just(Settings()) | SETTINGS if "sysctl" in speaks else st.just(Settings())


# Dialects of systems that make VLANs and bridges, and learn addresses.
LEARNERS = {"netplan", "networkd", "ifupdown"}
BUILDERS = {*LEARNERS, "bridge"}
# Those whose bridges know VLANs.
BRIDGES = {"bridge", "networkd"}
VLANS = st.lists(st.integers(1, 4094), max_size=3, unique=True).map(lambda found: tuple(sorted(found)))


@st.composite
def in_a_bridge(draw: st.DrawFn, one: Interface) -> Interface:
    """A member of a bridge that keeps VLANs apart."""
    tagged, untagged = draw(VLANS), draw(st.none() | st.integers(1, 4094))
    return replace(one, tagged=tuple(each for each in tagged if each != untagged), untagged=untagged)


@st.composite
def made_interfaces(draw: st.DrawFn, names: list[str]) -> list[Interface]:
    parent, vlan = draw(st.sampled_from(names)), draw(st.none() | st.integers(1, 4094))
    made = [] if vlan is None else [replace(draw(interfaces("v7")), parent=parent, vlan=vlan)]
    members = draw(st.lists(st.sampled_from(names), unique=True).map(lambda found: tuple(sorted(found))))
    return [*made, replace(draw(interfaces("br0")), bridge=Bridge(members))] if members else made


@st.composite
def devices(draw: st.DrawFn, speaks: tuple[str, ...] = ("iproute2", "nftables")) -> Device:
    names = draw(st.lists(NAMES, max_size=3, unique=True))
    built = [draw(interfaces(name)) for name in names]
    if draw(st.booleans()):
        built.append(draw(loopbacks()))
    if BUILDERS & {*speaks} and names:
        built += draw(made_interfaces(names))
        learns = st.lists(st.sampled_from(["dhcp", "dhcp6", "slaac"]), unique=True).map(
            lambda found: tuple(sorted(found))
        )
        if LEARNERS & {*speaks}:
            built[0] = replace(built[0], learns=draw(learns))
        members = built[-1].bridge.members if built[-1].bridge else ()
        if BRIDGES & {*speaks} and members and draw(st.booleans()):
            built = [draw(in_a_bridge(one)) if one.name in members else one for one in built]
            built[-1] = replace(built[-1], bridge=Bridge(members, draw(VLANS)))
        if LEARNERS - {"ifupdown"} & {*speaks}:
            asked = st.lists(addresses(4) | addresses(6), max_size=3, unique=True).map(tuple)
            domains = st.lists(st.sampled_from(["pier.example", "no", "1e3", "a-b.example"]), max_size=2, unique=True)
            built[0] = replace(built[0], resolvers=draw(asked), search=tuple(draw(domains)))
    if "ppp" in speaks and names and draw(st.booleans()):
        file = Secret("file", draw(st.sampled_from(["/etc/ppp/line", "/etc/line"])))
        dial, mtu = Dial(draw(st.sampled_from(names)), file, file), draw(st.none() | st.integers(1280, 1492))
        built.append(Interface("dial0", enabled=draw(st.booleans()), mtu=mtu, dial=dial))
    device = Device(
        "quay", speaks, tuple(built), tuple(draw(st.lists(routes(names), max_size=5))),
        tuple(draw(st.lists(ruled(speaks, names, REMARKS), max_size=6))),
        permits=tuple(draw(st.lists(permits(names), max_size=3))),
        access=tuple(draw(st.lists(accesses(names), max_size=2))),
        settings=draw(own_settings(speaks)),
    )  # fmt: skip
    return plain_rules(device) if "iptables" in speaks else device


@st.composite
def built_upon(draw: st.DrawFn, built: list[Interface], names: list[str]) -> list[Interface]:
    """Interfaces with a VLAN of one of them, and a bridge of some, which may keep VLANs apart."""
    vlan = draw(st.none() | st.integers(1, 4094))
    if vlan is not None:
        parent = draw(st.sampled_from(names))
        built = [*built, Interface("v7", (Prefix(4, 0x0AC80701, 24),), parent=parent, vlan=vlan)]
    members = draw(st.lists(st.sampled_from(names), unique=True).map(lambda found: tuple(sorted(found))))
    if not members:
        return built
    bridge = Interface("br0", (Prefix(4, 0x0AC80801, 24),), bridge=Bridge(members))
    if draw(st.booleans()):
        built = [draw(in_a_bridge(one)) if one.name in members else one for one in built]
        bridge = replace(draw(in_a_bridge(bridge)), tagged=(), bridge=Bridge(members, draw(VLANS)))
    return [*built, bridge]


@st.composite
def loadable_devices(draw: st.DrawFn, speaks: tuple[str, ...]) -> Device:
    """Devices that a real system takes as a whole: its interfaces are up, its next hops can be reached."""
    mtu = st.none() | st.integers(1280, 9000) if speaks[0] == "iproute2" else st.none()
    words = st.text("abcXYZ019 .,:;!#-_/()é", min_size=1, max_size=30).map(str.strip).filter(bool)
    remark = st.just("") | words.filter(lambda text: "  " not in text and (speaks[0] == "frr" or "#" not in text))
    if speaks[0] in ("netplan", "ifupdown"):
        remark = st.just("")
    names = draw(st.lists(st.sampled_from(["wan0", "lan0", "pier-7", "dmz.20"]), min_size=1, max_size=3, unique=True))
    built, hops = [], []
    for index, name in enumerate(names):
        four = Prefix(4, 0x0A000001 + (draw(st.integers(0, 80)) * 4 + index << 16), draw(st.integers(20, 30)))
        six = Prefix(
            6, (0x20010DB8 << 96) + (draw(st.integers(0, 80)) * 4 + index << 64) + 1, draw(st.integers(48, 126))
        )
        chosen = draw(st.lists(st.sampled_from([four, six]), min_size=1, unique=True))
        one = Interface(name, tuple(chosen), False, True, draw(mtu), draw(remark))
        asked = st.lists(addresses(4) | addresses(6), max_size=2, unique=True).map(tuple)
        built.append(replace(one, resolvers=draw(asked)) if speaks[0] == "netplan" else one)
        hops += [(Address(each.family, each.value + 1), name) for each in chosen]
    identities = st.sampled_from([Prefix(4, 0x0AFF0001, 32), Prefix(6, 1 << 100 | 1, 128)])
    built.append(Interface("lo", tuple(draw(st.lists(identities, unique=True))), True))
    ways: dict[tuple[Prefix, int], Route] = {}
    for via, name in draw(st.lists(st.sampled_from(hops), max_size=4)):
        to, distance = draw(networks(via.family)), draw(st.integers(1, 254))
        kind = draw(st.sampled_from(["via", "both", "interface", "blackhole", "unreachable"]))
        if kind in ("blackhole", "unreachable"):
            ways[to, distance] = Route(to, None, None, kind, distance)
        else:
            interface = None if kind == "via" else name
            ways[to, distance] = Route(to, None if kind == "interface" else via, interface, None, distance)
    if BRIDGES & {*speaks}:
        built = draw(built_upon(built, names))
    writable = REMARKS.filter(lambda name: not {'"', "\\"} & set(name))
    device = Device(
        "quay", speaks, tuple(built), tuple(ways.values()),
        tuple(draw(st.lists(ruled(speaks, names, writable), max_size=6))),
        permits=tuple(draw(st.lists(permits(names, writable), max_size=3))),
        access=tuple(draw(st.lists(accesses(names, writable), max_size=2))),
        settings=draw(own_settings(speaks[:1])),
    )  # fmt: skip
    return plain_rules(device) if "iptables" in speaks else device


def plain_rules(device: Device) -> Device:
    """What iptables and ip6tables can say: every rule with a name of its own, no logging, departures by source."""

    def named(prefix: str, rules: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(replace(each, name=f"{prefix} {n}") for n, each in enumerate(rules))

    departing = (Dynamic, Exempt)
    return replace(
        device,
        translations=named("t", tuple(
            replace(each, arrives=None) if isinstance(each, departing) else each for each in device.translations
        )),
        permits=named("p", tuple(replace(each, log=False) for each in device.permits)),
        access=named("a", device.access),
    )  # fmt: skip
