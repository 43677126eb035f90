"""Whatever is taken out of a rendering, or changed in a word, is missed: it is not the same as the intent any more."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.dialects.errors import CaptureError
from test_laws import MANY
from where import DEMO, ROOT

# Names of lists and of the device, ends of blocks, and what a system does anyhow.
NOTHING = re.compile(
    r"\s*(!|exit|(delete )?table (ip|ip6|inet) \w+.*|chain (arrival|departure|passage|entry|helpers) .*|hostname .*"
    r"|no shutdown|ip router-id .*|link set dev (lo up|\w+ mtu 1500)|noipdefault|# for .*)"
)


def _cuts(lines: list[str]) -> Iterator[tuple[str, list[str]]]:
    """Yield a text without each of its lines, and without each block of lines that are indented below one."""
    for at, line in enumerate(lines):
        indent = len(line) - len(line.lstrip())
        end = at + 1
        while end < len(lines) and len(lines[end]) - len(lines[end].lstrip()) > indent:
            end += 1
        if line.strip():
            yield line, [*lines[:at], *lines[at + 1 :]]
        if end > at + 1:
            yield line, [*lines[:at], *lines[end + (lines[end : end + 1] or [""])[0].lstrip().startswith(("}", "]")) :]]


def _words(lines: list[str]) -> Iterator[tuple[str, list[str]]]:
    """Yield a text with each of its words and numbers changed, but for those of a prefix, which may be host bits."""
    for at, line in enumerate(lines):
        for found in re.finditer(r"[A-Za-z][A-Za-z_-]{2,}|\d+(?![\w:.]*/)", line):
            other = str(int(found[0]) + 1) if found[0].isdigit() else found[0][:-1]
            yield line, [*lines[:at], line[: found.start()] + other + line[found.end() :], *lines[at + 1 :]]


@pytest.mark.parametrize("intent", [DEMO / "saltmarsh.yaml", ROOT / "examples" / "coast"], ids=lambda each: each.name)
@MANY
@given(data=st.data())
def test_whatever_is_spoilt_in_a_rendering_is_missed(intent: Path, data: st.DataObject) -> None:
    device = data.draw(st.sampled_from([each for each in al.load(intent).devices if each.speaks]))
    texts = {each.file: each.text for each in al.render(device)}
    file = data.draw(st.sampled_from(sorted(texts)))
    lines = texts[file].splitlines(keepends=True)
    for line, spoilt in data.draw(st.permutations([*_cuts(lines), *_words(lines)]))[:12]:
        if NOTHING.fullmatch(line.rstrip("\n")):
            continue
        try:
            capture = al.read(device.name, device.speaks, {**texts, file: "".join(spoilt)})
        except CaptureError:
            continue
        assert not al.diff(device, capture).same, (file, line)


# What a kernel has in any case, and routes to its own IPv6 addresses, which it has only when it is sure of them.
USUAL = re.compile(
    r'"(127\.|::1"|fe80:|ff00:)|"(broadcast|multicast|anycast)"|"type":"local","dst":"[0-9a-f]*:|"dst":"[0-9a-f:]*","dev":"lo"'
)


@pytest.mark.parametrize("file", ["routes.json", "addresses.json"])
def test_whatever_a_running_system_has_no_more_is_missed(file: str) -> None:
    """A route that the system made of an address is gone when somebody takes it away, and the address stays."""
    quay = al.load(DEMO / "saltmarsh.yaml").device("quay-edge")
    texts = {path.name: path.read_text() for path in (DEMO / "applied" / "quay-edge").iterdir()}
    assert al.diff(quay, al.read("quay-edge", quay.speaks, texts)).same
    entries = json.loads(texts[file])
    lists = [entries] if file == "routes.json" else [each["addr_info"] for each in entries]
    counted = 0
    for held in lists:
        for at in range(len(held)):
            gone = held.pop(at)
            if not USUAL.search(json.dumps(gone, separators=(",", ":"))):
                counted += 1
                capture = al.read("quay-edge", quay.speaks, {**texts, file: json.dumps(entries)})
                assert not al.diff(quay, capture).same, gone
            held.insert(at, gone)
    assert counted > 6


@pytest.mark.parametrize("route", [
    {"dst": "10.9.0.0/16", "dev": "lan0", "protocol": "kernel", "scope": "link"},
    {"dst": "default", "gateway": "203.0.113.9", "dev": "wan0", "protocol": "dhcp", "metric": 100},
    {"dst": "default", "gateway": "fe80::9", "dev": "wan0", "protocol": "ra", "metric": 100, "pref": "medium"},
    {"type": "local", "dst": "10.9.0.0/16", "dev": "lo", "table": "local", "protocol": "kernel", "scope": "host"},
])  # fmt: skip
def test_routes_that_no_address_explains_are_named(route: dict[str, object]) -> None:
    quay = al.load(DEMO / "saltmarsh.yaml").device("quay-edge")
    texts = {path.name: path.read_text() for path in (DEMO / "applied" / "quay-edge").iterdir()}
    entries = json.loads(texts["routes.json"])
    capture = al.read("quay-edge", quay.speaks, {**texts, "routes.json": json.dumps([*entries, route | {"flags": []}])})
    assert len(capture.leftovers) == 1 and not al.diff(quay, capture).same


GUARDED = """
lattice: 1
zones: {inside: {exposure: own}, outside: {exposure: public}}
devices:
  quay:
    speaks: [iproute2, SPEAKS]
    interfaces: {in0: {address: 10.0.0.1/24, zone: inside}, out0: {address: 203.0.113.2/24, zone: outside}}
    routes: [{to: default, via: 203.0.113.1}]
    translations: [{name: out, source: 10.0.0.0/24, to: outside, source-becomes: interface}]
    permits: [{name: surf, from: inside, to: outside}]
    management: [{service: tcp/22, from: inside}]
"""
# Of what the device sends first itself an intent says nothing.
HOOKS = [
    *((kind, hook) for hook in ("prerouting", "input", "postrouting") for kind in ("filter", "nat")),
    ("filter", "forward"), ("filter", "output"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "hook"), HOOKS)
@pytest.mark.parametrize("family", ["ip", "inet"])
@pytest.mark.parametrize("rule", ["policy drop;", "policy accept; meta l4proto tcp drop", "policy accept; queue num 1"])
def test_a_chain_that_drops_is_missed_at_no_hook(kind: str, hook: str, family: str, rule: str) -> None:
    [quay] = al.loads(GUARDED.replace("SPEAKS", "nftables")).devices
    texts = {each.file: each.text for each in al.render(quay)}
    # As the program lists it: without the lines that make room for it.
    listed = re.sub(r"(?m)^(delete )?table \w+ lattice\n", "", texts["nftables.nft"])
    assert al.prove(quay, al.read("quay", quay.speaks, {**texts, "nftables.nft": listed}), running=False).same
    more = f"table {family} more {{\n\tchain c {{\n\t\ttype {kind} hook {hook} priority 90; {rule}\n\t}}\n}}\n"
    assert not al.prove(quay, al.read("quay", quay.speaks, {**texts, "nftables.nft": listed + more})).same


@pytest.mark.parametrize("table", ["nat", "filter", "mangle", "raw", "security"])
@pytest.mark.parametrize("chain", ["PREROUTING", "INPUT", "FORWARD", "POSTROUTING", "OUTPUT"])
def test_a_policy_that_drops_is_missed_in_no_table(table: str, chain: str) -> None:
    """`iptables -P` refuses one in the table nat; `iptables-restore` takes it, and the kernel drops packets."""
    [quay] = al.loads(GUARDED.replace("SPEAKS", "iptables, ip6tables")).devices
    texts = {each.file: each.text for each in al.render(quay)}
    file = "iptables.rules"
    policy = f":{chain} DROP [0:0]\n"
    if policy in texts[file] and table == "filter":
        return  # it is the intent's own
    spoilt = texts[file].replace(f"*{table}\n", f"*{table}\n{policy}")
    spoilt += f"*{table}\n{policy}COMMIT\n" * (spoilt == texts[file])
    assert not al.prove(quay, al.read("quay", quay.speaks, {**texts, file: spoilt})).same
