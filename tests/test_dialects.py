"""Pairs of text: what systems say, or people write by hand, and the intent that it is."""

from __future__ import annotations

import re
import subprocess
import sys
import textwrap
from pathlib import Path
from random import Random
from typing import Any

import pytest
import yaml
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.dialects import as_intent, read_device, render_device
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import CaptureError, DefinitionError, Refusals
from agile_lattice.dialects.reading.stopping import Tried
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.intent.addresses import AddressSet, Prefix
from agile_lattice.intent.interfaces import Interface
from agile_lattice.intent.model import Device, Network
from agile_lattice.intent.normal import normal
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.services import Service
from agile_lattice.intent.translations import Dynamic, Static
from agile_lattice.notation.loading import loads
from agile_lattice.notation.located import parse
from agile_lattice.notation.plain import device_data
from agile_lattice.notation.writing import write
from pairs import PAIRS
from renderings import MEANT, TEXTS
from test_changes import clean, lamp
from test_laws import rendered
from where import DEMO, examples


@pytest.mark.parametrize(("speaks", "text", "intent", "left"), PAIRS, ids=[pair[0] for pair in PAIRS])
def test_a_text_is_this_intent(speaks: str, text: str, intent: str, left: list[int]) -> None:
    file = "20-lan.network" if "networkd" in speaks else "text"
    capture = al.read("lamp", speaks.split(), {file: textwrap.dedent(text).strip("\n")})
    device, leftovers = as_intent(capture)
    assert [each.place.line for each in leftovers] == left
    assert all(each.reason for each in leftovers)
    wanted: Any = parse(textwrap.dedent(intent), "intent")[0]
    assert normal(loads(write(Network("", (device,)))).devices[0]) == normal(device), (
        "what is printed loads as it was read"
    )
    said = device_data(device)
    assert {key: said[key] for key in wanted} == wanted
    # And it renders to a text that is the same intent, with nothing left over.
    texts = {each.file: each.text for each in al.render(device)}
    again = al.read("lamp", speaks.split(), texts)
    assert again.leftovers == ()
    assert al.diff(device, again).same


def test_bridges_of_ifupdown_are_read_as_the_package_for_them_writes_them() -> None:
    text = """
    auto br0
    iface br0 inet static
        address 10.40.10.1/24
        bridge_ports lan0 lan1
        bridge_stp off
    iface br1 inet manual
        bridge-ports none
        bridge_fd 0
    iface br2 inet manual
        bridge_ports regex eth.*
    """
    device, leftovers = as_intent(al.read("lamp", ["ifupdown"], {"text": textwrap.dedent(text)}))
    bridges = {each.name: each.bridge and set(each.bridge.members) for each in device.interfaces}
    assert bridges == {"br0": {"lan0", "lan1"}, "br1": set(), "br2": None, "lan0": None, "lan1": None}
    assert {each.place.line for each in leftovers} == {11}  # which ports that are, the device knows


def test_of_two_units_for_one_interface_the_first_by_name_applies() -> None:
    unit = "[Match]\nName=wan0\n\n[Network]\nAddress={}\n"
    texts = {"b/20-late.network": unit.format("198.51.100.2/28"), "b/10-early.network": unit.format("203.0.113.2/28")}
    capture = al.read("quay", ["networkd"], texts)
    assert [str(each) for one in capture.device.interfaces for each in one.addresses] == ["203.0.113.2/28"]


def test_of_a_unit_for_a_name_and_a_pattern_the_name_is_understood() -> None:
    unit = "[Match]\nName=wan0 en*\n\n[Network]\nAddress=203.0.113.2/28\n"
    device, leftovers = as_intent(al.read("quay", ["networkd"], {"20-wan.network": unit}))
    assert [(one.name, *map(str, one.addresses)) for one in device.interfaces] == [("wan0", "203.0.113.2/28")]
    # Which interfaces the pattern takes in, the device knows.
    assert {"Match Name=en*", "Network Address=203.0.113.2/28"} <= {each.text for each in leftovers}
    # A unit of which nothing is understood is named, and the others are read; a file that is none is refused.
    texts = {"10-all.network": unit.replace("wan0 ", ""), "20-wan.network": unit.replace(" en*", "")}
    device, leftovers = as_intent(al.read("quay", ["networkd"], texts))
    assert [str(each) for one in device.interfaces for each in one.addresses] == ["203.0.113.2/28"]
    assert leftovers[0].text == "10-all.network" and "it wants `Match Name=<interface>` inside" in leftovers[0].reason
    with pytest.raises(CaptureError, match="nothing in it can be understood"):
        al.read("quay", ["networkd"], {"all.conf": unit.replace("wan0 ", "")})


@pytest.mark.parametrize(("speaks", "wanted"), TEXTS.items(), ids=TEXTS)
def test_an_intent_is_written_as_a_person_would(speaks: str, wanted: dict[str, str]) -> None:
    texts = {each.file: each.text.expandtabs(4) for each in render_device(lamp(speaks, MEANT))}
    assert {file: texts[file] for file in wanted} == {file: clean(text) for file, text in wanted.items()}


# What a dialect cannot express: which, a change to the device below, the field, and words of the reason.
BASE = """
lattice: 1
devices:
  lamp:
    speaks: [FIRST, nftables]
    interfaces: {lan0: {address: 10.40.10.1/24, description: office}, lo: {loopback: 10.255.0.1/32}}
    routes: [{to: 10.41.0.0/16, via: 10.40.10.2}]
    translations: [{name: out, to: lan0, source-becomes: {pool: 10.40.10.8/30}}]
"""
REFUSED = [
    ("frr", "description: office", "mtu: 1400", "mtu", "leaves the MTU to the system under it"),
    ("frr", "description: office", "description: 'two  spaces'", "description", "cannot be written as description"),
    ("frr", "via: 10.40.10.2", "discard: prohibit", "discard", "discard silently"),
    ("iproute2", "description: office", "description: 'a # b'", "description", "cannot be written as description"),
    ("iproute2", "description: office", "description: 'say \"x\"'", "description", "cannot be written"),
    ("iproute2", "lo: {", "loop9: {", "loopback", "the loopback is called lo there"),
    ("frr", "lo: {loopback: 10.255.0.1/32}", "lo: {address: 10.255.0.1/32}", "loopback", "under `loopback`"),
    ("frr", "via: 10.40.10.2", "via: 10.40.10.2, distance: 256", "distance", "256 is not from 1 to 254"),
    ("iproute2", "lan0", "a-very-long-name0", "interface", "is longer than 15 octets"),
    ("iproute2", "via: 10.40.10.2", "interface: metric", "interface", "'metric' is a word of the statement itself"),
    ("frr", "via: 10.40.10.2", "interface: bl", "interface", "cannot be written as interface"),
    ("frr", "pool: 10.40.10.8/30", "pool: 10.40.10.8/30, ports: kept", "source-becomes.ports", "cannot be promised"),
    (
        "frr",
        "pool: 10.40.10.8/30",
        "pool: 10.40.10.8/30, reserve: {10.40.10.20: 10.40.10.9}",
        "source-becomes.pool",
        "reserve addresses at one end of the pool",
    ),
    ("frr", "name: out", "name: 'a\"b'", "name", "cannot be written as name"),
]


@pytest.mark.parametrize(("speaks", "old", "new", "field", "reason"), REFUSED)
def test_what_cannot_be_said_is_refused(speaks: str, old: str, new: str, field: str, reason: str) -> None:
    text = BASE.replace("FIRST", speaks)
    al.render(al.loads(text).devices[0])
    assert old in text
    text = text.replace(old, new)
    for side in ("metric", "bl"):
        text = (
            text.replace("interfaces: {", f"interfaces: {{{side}: {{}}, ", 1) if new == f"interface: {side}" else text
        )
    with pytest.raises(Refusals) as caught:
        al.render(al.loads(text).devices[0])
    refusals = caught.value.refusals
    assert field in [refusal.field for refusal in refusals]
    assert all(reason in refusal.reason for refusal in refusals), "nothing else is refused with it"
    assert {refusal.dialect for refusal in refusals} <= {speaks, "nftables"}
    lines = {n for n, line in enumerate(text.splitlines(), 1) if new in line}
    assert {refusal.place.line for refusal in refusals} & lines


def test_sections_that_no_dialect_carries_are_refused() -> None:
    device = al.loads(BASE.replace("FIRST, ", "")).devices[0]
    with pytest.raises(Refusals, match=r"none of the dialects that the device speaks carries routes"):
        al.render(device)
    both = replace(device, speaks=("iproute2", "netplan", "nftables"))
    assert [each.dialect for each in al.render(both)] == ["iproute2", "nftables"], "each section goes to the first"


LANTERN = """
dialect = "lantern"
title = "a user's own"
[types]
way = {words = {in = "arrival", out = "departure"}}
does = {words = {keep = "keep", change = "rewrite"}}
[[forms]]
name = "f"
carries = ["interfaces", "routes", "translations", "permits"]
syntax = {kind = "lines"}
statements = '''
lamp <interface:word> [mtu <mtu:number>]                   => interface
beam <to:prefix4> by <via:address4> [after <distance:number>]  => route
turn <stage:way> <does> [of <source:span4,>]                => rule
turn back <to:span4>                                        => rule stage=departure verdict=rewrite
let [<protocol:word>]                                       => permit verdict=pass
'''
""".replace("<does>", "<verdict:does>")
STOPS = [
    ("frr", "interface wan0\n ip adress 203.0.113.2/28\n", "2:5", "from 'adress' on: expected 'address'"),
    ("frr", "ip route 10.41.0.0/16 10.40.10.999\n", "1:23", "from '10.40.10.999' on: expected an address (via)"),
    ("frr", "ip route 10.41.0.0/16\n", "1:0", "at its end: expected an address (via)"),
    ("frr", "ip route 10.41.0.0/16 10.40.10.9 color 5\n", "1:34", "(distance) or 'onlink' or 'vrf' or its end"),
    ("frr", "interfaced wan0\n", "1:1", "begins with 'interfaced'; did you mean 'interface'?"),
    ("frr", "ip route 10.41.0.0/16 10.40.10.9\n ip route 10.42.0.0/16 10.40.10.9\n", "1:0", "nothing can stand inside"),
    ("nftables", "table ip t {\n chain c {\n  type filter hook ingress priority 0;\n }\n}\n", "3:20", "'forward'"),
    ("iproute2", "link set dev lan0 state sideways\n", "1:19", "'up' or 'down'"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text", "where", "says"), STOPS)
def test_what_is_not_recognised_says_where_it_stops_and_what_would_fit(
    name: str, text: str, where: str, says: str
) -> None:
    good = {"frr": "hostname quay\n", "nftables": "table ip lattice {\n}\n", "iproute2": "link set dev lan0 up\n"}[name]
    left = al.read("quay", [name], {"text": text + good}).leftovers[0]
    assert f"{left.place.line}:{left.place.column}" == where
    assert says in left.reason


def test_dialects_are_compiled_by_several_threads_at_once() -> None:
    program = """
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Barrier
from agile_lattice.dialects.registry import catalogue_beside

catalogue, names = catalogue_beside(Path(".")), ["bollard", "mooring", "tideway"]
start = Barrier(len(names))

def compiled(name):
    start.wait()
    return catalogue.dialect(name).name

with ThreadPoolExecutor(len(names)) as pool:
    print(*pool.map(compiled, names))
"""
    for _ in range(2):  # the interpreter came down each time
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
        assert (done.returncode, done.stdout) == (0, "bollard mooring tideway\n"), done.stderr


@pytest.mark.parametrize("name", BUILT_IN.names())
def test_element_by_element_a_phrase_fits_what_it_fits_as_a_whole(name: str) -> None:
    patterns = [each.pattern for form in BUILT_IN.dialect(name).forms for each in form.block.all_phrases()]
    lines = {
        " ".join(line.split()).rstrip(";{ ")
        for speaks, text, *_ in PAIRS
        if name in speaks.split()
        for line in text.split("\n")
    } - {""}
    damaged = {
        " ".join([*words[:at], "zz9!", *words[at + 1 :]])
        for line in lines
        for words in [line.split()]
        for at in range(len(words))
    }
    every = sorted(lines | damaged)
    for line in Random(0).sample(every, min(len(every), examples(350))):
        for pattern in patterns:
            assert Tried(line).phrase(pattern) == (pattern.read(line) is not None), (line, pattern.elements)


WRONG_WORDS = {
    "a constant": (
        "stage=departure",
        "stage=departur",
        "rule.stage holds one of arrival, departure; did you mean departure?",
    ),
    "a verdict": ("verdict=pass", "verdict=allow", "permit.verdict holds one of pass, drop"),
    "a word's value": (
        'change = "rewrite"',
        'change = "rewite"',
        "<verdict:does> reads rewite: rule.verdict holds one of keep, rewrite",
    ),
    "text for a number": ("<mtu:number>", "<mtu:word>", "<mtu:word> reads text: interface.mtu holds a number"),
    "an address for a prefix": ("<to:prefix4> by", "<to:address4> by", "route.to holds a prefix"),
    "text for a set": ("<source:span4,>", "<source:word>", "rule.source holds a set of addresses"),
    "a list for one": ("<via:address4>", "<via:address4,>", "there are no lists of address4"),
    "a part of what has none": (
        "<via:address4>",
        "<via.ip:address4>",
        "<via.ip>: route.via holds an address, which has no parts",
    ),
    "a field of another": ("<via:address4>", "<gateway:address4>", "<gateway> is no field of route"),
    "true for a number": ("<mtu:number>]", "<enabled:word>]", "interface.enabled holds true or false"),
}


@pytest.mark.parametrize("case", WRONG_WORDS)
def test_a_wrong_word_of_a_dialect_file_is_found_when_it_is_loaded(case: str) -> None:
    old, new, says = WRONG_WORDS[case]
    parse_dialect(LANTERN, "lantern.toml")
    wrong = LANTERN.replace(old, new, 1)
    line = next(n for n, (a, b) in enumerate(zip(wrong.splitlines(), LANTERN.splitlines(), strict=True), 1) if a != b)
    used = line if line > 8 else next(n for n, text in enumerate(LANTERN.splitlines(), 1) if "<verdict:does>" in text)
    with pytest.raises(DefinitionError) as caught:
        parse_dialect(wrong, "lantern.toml")
    assert str(caught.value).startswith(f"lantern.toml:{used}: ") and says in str(caught.value)


@pytest.mark.parametrize("name", BUILT_IN.names())
def test_a_text_of_another_kind_is_not_taken_for_one_of_this(name: str) -> None:
    # To a dialect of documents an empty one is an answer.
    empty = [] if any(form.surface.parted for form in BUILT_IN.dialect(name).forms) else ["{}\n"]
    words = [] if name == "hostname" else ["hello\n"]  # that is a name
    for text in (*empty, *words, '{"zz9": {}}\n', yaml.safe_dump({"a": [1, 2]}), "[1, 2\n", "[" * 100_000):
        with pytest.raises(CaptureError) as caught:
            al.read("lamp", [name], {"strange": text})
        assert str(caught.value).startswith("strange")


MIGRATED = ["frr", "bird", "netplan", "networkd", "ifupdown", "iproute2", "ietf-yang", "ietf-yang/xml"]
MIGRATED += ["bollard", "mooring", "tideway"]
INTENT = DEMO / "saltmarsh.yaml"
LITERAL = re.compile(r"\b\d+\.\d+\.\d+\.\d+\b")


@pytest.mark.parametrize("dialect", MIGRATED)
def test_every_line_says_which_line_of_the_intent_it_comes_from(dialect: str, tmp_path: Path) -> None:
    plain = tmp_path / "plain.yaml"  # with the addresses that names stand for
    network = al.load(str(INTENT))
    unnamed = tuple(
        replace(each, named=(), interfaces=tuple(replace(one, zone="") for one in each.interfaces))
        for each in network.devices
    )
    plain.write_text(al.write(replace(network, devices=unnamed, hosts=())))
    source = plain.read_text().splitlines()
    device = next(each for each in al.load(str(plain)).devices if each.name == "quay-edge")
    device, texts = rendered(replace(device, speaks=(dialect, "iproute2", "nftables")))
    told = 0
    for each in render_device(device, causes=True):
        assert each.text == next(one.text for one in texts if one.file == each.file)
        lines = each.text.splitlines()
        for cause in each.causes:
            literals = LITERAL.findall(lines[cause.line - 1])
            meant = source[cause.place.line - 1]
            if len(literals) == 1 and literals[0] in "\n".join(source):
                assert literals[0] in meant, f"{lines[cause.line - 1]!r} does not come from {meant!r}"
                told += 1
    assert told > 2


LAN = Permit("", ("lan0",))
ANY4, ANY6 = (AddressSet.of(Prefix(family, 0, 0)) for family in (4, 6))
LAN4, FROM6 = replace(LAN, source=ANY4), Permit(source=ANY6)
PROXY = '[{"dst":"203.0.113.9","dev":"wan0","proxy":null}]\n'  # as `ip -json neighbour show proxy` prints it


def test_what_a_system_does_beside_its_rules_is_read() -> None:
    [answer] = read_device("quay", ("iproute2",), {"proxies.json": PROXY}).device.answers or ()
    assert (answer.interface, str(answer.addresses)) == ("wan0", "203.0.113.9")
    settings = "net.ipv4.conf.lan0.proxy_arp = 0\nnet.ipv4.conf.wan0.proxy_arp = 1\n"
    left = read_device("quay", ("sysctl",), {"all": settings}).leftovers
    assert [each.text for each in left] == ["net.ipv4.conf.wan0.proxy_arp = 1"], "it answers for more than is said"


PASSES = "-A FORWARD -i lan0 -j ACCEPT\n"


@pytest.mark.parametrize(
    ("four", "six", "permits"),
    [
        (("DROP", ""), None, [FROM6]),  # a device that has no rules for IPv6 lets all of it pass
        (("ACCEPT", ""), None, []),
        (("DROP", PASSES), None, [LAN4, FROM6]),
        (("ACCEPT", PASSES), None, [LAN4, Permit()]),
        (("DROP", ""), ("DROP", ""), [Permit(deny=True)]),
        (("ACCEPT", ""), ("ACCEPT", ""), []),
        (("DROP", PASSES), ("DROP", PASSES), [LAN]),
        (("DROP", PASSES), ("DROP", ""), [LAN4]),
        (("ACCEPT", ""), ("DROP", PASSES), [Permit(source=ANY4), replace(LAN, source=ANY6)]),
    ],
)
def test_what_is_done_with_the_rest_counts(
    four: tuple[str, str], six: tuple[str, str] | None, permits: list[Permit]
) -> None:
    tables = "# Generated by {}-save\n*filter\n:FORWARD {} [7:420]\n{}COMMIT\n"
    texts = {"four": tables.format("iptables", *four)}
    speaks = ["iptables"]
    if six is not None:
        texts["six"] = tables.format("ip6tables", *six)
        speaks.append("ip6tables")
    assert list(normal(read_device("quay", speaks, texts).device).permits) == permits
    # What one program says of its family says nothing of the other's.
    half = read_device("quay", ["iptables", "ip6tables"], {"four": texts["four"]})
    intent = replace(
        half.device, permits=(*half.device.permits, replace(LAN, source=AddressSet.parse("2001:db8::/32")))
    )
    found = al.diff(intent, half)
    assert "permits" in half.sections
    differing = [each for each in found.differences if not each.subject.startswith("replies")]
    assert (half.unseen_families, found.unseen_families, found.same, differing) == ((6,), (6,), False, [])


def test_rules_for_one_family_leave_the_other_open_and_so_are_refused() -> None:
    device = Device("quay", ("iptables",), (Interface("lan0"),), permits=(LAN,))
    with pytest.raises(Refusals, match="none of the dialects that the device speaks carries permits of IPv6"):
        render_device(device)
    assert len(render_device(replace(device, speaks=("iptables", "ip6tables")))) == 2


def test_a_maker_whose_device_stops_what_nothing_permits_is_believed() -> None:
    chart = "(firewall quay)\n(berth b1 (state afloat) (zone sea))\n"
    assert read_device("quay", ("mooring",), {"chart": chart}).device.permits == (Permit(deny=True),)


NAT = """
lattice: 1
devices:
  quay:
    speaks: [ietf-yang, ietf-nat]
    interfaces: {wan0: {address: 203.0.113.2/28}, wan1: {address: 198.51.100.2/28}, lan0: {address: 10.40.10.1/24}}
    translations:
      - RULE
"""


@pytest.mark.parametrize(
    ("rule", "reason"),
    [
        ("{name: a, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.5, facing: wan0}", "mappings of sources"),
        ("{name: a, to: wan0, source-becomes: interface}", "pools of addresses"),
        ("{name: a, from: lan0, to: wan0, source-becomes: {pool: 203.0.113.8/30}}", "say `source` instead"),
        ("{name: a, to: wan0, destination: 192.0.2.7, source-becomes: {pool: 203.0.113.8/30}}", "where a packet goes"),
        ("{name: a, to: wan0, source-becomes: {pool: 203.0.113.8-203.0.113.10}}", "is not one prefix"),
        ('{name: a, static: "2001:db8:9::/64", on: "2001:db8:40::/64", facing: wan0}', "RFC 6296"),
        ("{name: a, static: 203.0.113.5, on: 10.40.10.5, facing: [wan0, wan1]}", "no statement"),
        ("{name: a, static: 203.0.113.5, on: 10.40.10.5, facing: wan0}\n"
         "      - {name: b, static: 203.0.113.5, on: 10.40.10.6, facing: wan0}", "nothing says there"),
    ],
)  # fmt: skip
def test_what_rfc_8512_cannot_say_is_refused_with_the_reason(rule: str, reason: str) -> None:
    [quay] = al.loads(NAT.replace("RULE", rule)).devices
    with pytest.raises(Refusals) as caught:
        al.render(quay)
    assert reason in str(caught.value), caught.value
    # Another instance of another number is the same; a second mapping in one is not understood, and so left over.
    good = "{name: a, static: 203.0.113.5, on: 10.40.10.5, facing: wan0}"
    [quay] = al.loads(NAT.replace("RULE", good)).devices
    text = al.render(quay)[1].text
    assert al.read("quay", ["ietf-nat"], {"x": text.replace('"id": 1,', '"id": 77,', 1)}).device.translations == (
        quay.translations
    )
    left = al.read("quay", ["ietf-nat"], {"x": text.replace('"index": 1', '"index": 2')})
    assert left.leftovers and not left.device.translations


def test_a_dialect_may_be_like_another_and_says_what_it_is_told_by() -> None:
    base = BUILT_IN.text("tideway")
    later = 'dialect = "tideway-2"\ntitle = "Later"\nlike = "tideway"\n[types]\nmtu = {is = "number", least = 1280}\n'
    dialect = parse_dialect(later, "later.toml", {"tideway": base}.__getitem__)
    assert (dialect.name, dialect.carries) == ("tideway-2", BUILT_IN.dialect("tideway").carries)
    for wrong, says in (('like = "tidewy"', "there is no other dialect 'tidewy' for it to be like"),):
        with pytest.raises(DefinitionError, match=says) as caught:
            parse_dialect(later.replace('like = "tideway"', wrong), "later.toml", {"tideway": base}.__getitem__)
        assert caught.value.line == 3
    four, six = "*filter\n:FORWARD DROP [0:0]\nCOMMIT\n", "# Generated by ip6tables-save v1.8.9\n*filter\nCOMMIT\n"
    with pytest.raises(CaptureError):
        read_device("quay", ["ip6tables"], {"x": four})
    with pytest.raises(CaptureError):
        read_device("quay", ["iptables"], {"x": six})
    with pytest.raises(CaptureError, match="not closed by COMMIT"):
        read_device("quay", ["iptables"], {"x": four.removesuffix("COMMIT\n")})


@pytest.mark.parametrize("name", ["nftables", "ifupdown", "bollard"])
def test_a_misspelt_key_is_refused_with_the_right_ones(name: str) -> None:
    """Each key of each table that says how a form is cut, expanded or changed."""
    path = Path(al.__file__).parent / "dialects" / "catalogue" / f"{name}.toml"
    text, tried = path.read_text(), 0
    for table in re.finditer(r"^(?:syntax|expand|change|loading) = \{.*$", text, re.MULTILINE):
        for key in re.finditer(r"[{,] *([a-z]+) = ", table[0]):
            at = table.start() + key.end(1)
            with pytest.raises(
                DefinitionError, match=f"no key '{key[1]}zz' here; known are|'{key[1]}' is missing"
            ) as caught:
                parse_dialect(f"{text[:at]}zz{text[at:]}", path.name, BUILT_IN.text)
            assert caught.value.line == text.count("\n", 0, at) + 1
            tried += 1
    assert tried > 1


def test_another_table_does_not_speak_for_the_filter() -> None:
    text = (
        "*mangle\n:FORWARD ACCEPT [1:2]\nCOMMIT\n*filter\n:FORWARD DROP [0:0]\n-A FORWARD -i lan0 -j ACCEPT\nCOMMIT\n"
    )
    capture = read_device("quay", ["iptables"], {"saved": text})
    assert list(normal(capture.device).permits) == [LAN4, FROM6]
    assert not capture.leftovers, "it only lets pass"
    dropping = text.replace("COMMIT", "-A FORWARD -p tcp -j DROP\nCOMMIT", 1)
    drops = read_device("quay", ["iptables"], {"saved": dropping})
    assert [each.deny for each in drops.device.permits][:2] == [True, False] and not drops.leftovers
    earlier = text.replace(":FORWARD ACCEPT", ":PREROUTING ACCEPT", 1)
    earlier = earlier.replace("COMMIT", "-A PREROUTING -p tcp -j DROP\nCOMMIT", 1)
    early = read_device("quay", ["iptables"], {"saved": earlier})
    assert [each[0].deny for each in (early.device.permits, early.device.access)] == [True, True]
    assert not early.leftovers, "what comes in is for others, or for the device itself"
    open_door = "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\nCOMMIT\n"
    access = read_device("quay", ["iptables"], {"saved": open_door}).device.access
    assert [each.services is None for each in access] == [False, True], "all the rest is let in, too"


def test_a_rule_of_the_other_family_does_not_part_neighbours() -> None:
    six = Prefix.parse("2001:db8::/48")
    web, all_tcp = (Service("tcp", ((22, 22),)),), (Service("tcp"),)
    device = Device(
        "quay",
        ("netplan", "nftables"),
        translations=(Dynamic(services=all_tcp), Static(six, six), Dynamic(services=web)),
    )
    texts = {each.file: each.text for each in render_device(device)}
    again = read_device("quay", device.speaks, texts).device
    assert normal(again).translations == normal(device).translations


@pytest.mark.parametrize(("old", "new", "words"), [
    ("'[A-Za-z0-9][A-Za-z0-9._-]*'", "'(?<=a*)b'", "look-behind"),
    ("=> route same=to|via|interface|instance", "=> route same=true", "same= wants a word"),
])  # fmt: skip
def test_a_spoilt_dialect_file_is_refused_with_its_line(old: str, new: str, words: str) -> None:
    text = BUILT_IN.text("frr")
    assert old in text
    with pytest.raises(DefinitionError, match=words):
        parse_dialect(text.replace(old, new, 1), "frr.toml")
