"""Mistakes put into networks that are correct by construction: which of them the checks find.

    python benchmarks/mistakes.py 40 [SEED]

prints, for each kind of mistake, in how many networks it was made and in how many a check found it, and how many
findings there are in networks without one; it writes `docs/mistakes.md`.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from copy import deepcopy
from pathlib import Path
from random import Random
from typing import Any

import yaml

from agile_lattice.checks import findings
from agile_lattice.notation.errors import NotationError
from agile_lattice.notation.loading import loads
from networks import Data, network

Mistake = Callable[[Data, Random], None]
MISTAKES: dict[str, tuple[Mistake, frozenset[str]]] = {}


def mistake(words: str, *slugs: str) -> Callable[[Mistake], Mistake]:
    """Enter a kind of mistake, with the checks of which one has to find it."""

    def enter(make: Mistake) -> Mistake:
        MISTAKES[words] = make, frozenset(slugs)
        return make

    return enter


def _edge(data: Data) -> Data:
    found: Data = data["devices"]["edge"]
    return found


def _site(data: Data, chance: Random) -> Data:
    found: Data = data["devices"][chance.choice([name for name in data["devices"] if name != "edge"])]
    return found


def _lan(data: Data, chance: Random) -> Data:
    site = _site(data, chance)
    lans = [one for one in site["interfaces"].values() if one.get("zone") in ("servers", "office")]
    found: Data = chance.choice(lans)
    return found


def _rule(data: Data, name: str) -> Data:
    return next(each for each in _edge(data)["translations"] if each["name"] == name)


def _host(data: Data, chance: Random) -> Data:
    found: Data = chance.choice(list(data["names"]["hosts"].values()))
    return found


@mistake("a LAN's mask is too short", "subnets-overlap", "gateway-not-there")
def _(data: Data, chance: Random) -> None:
    lan = _lan(data, chance)
    lan["address"] = lan["address"].replace("/24", "/16")


@mistake("a mask is forgotten", "length-missing")
def _(data: Data, chance: Random) -> None:
    lan = _lan(data, chance)
    lan["address"] = lan["address"].removesuffix("/24")


@mistake("a wildcard or mask with a digit wrong", "mask-malformed")
def _(data: Data, chance: Random) -> None:
    lan = _lan(data, chance)
    lan["address"] = lan["address"].replace("/24", "/255.255.225.0")


@mistake("two devices with one address", "same-address")
def _(data: Data, chance: Random) -> None:
    one, other = chance.sample([each for each in data["devices"] if each != "edge"], 2)
    data["devices"][one]["interfaces"]["lo"] = deepcopy(data["devices"][other]["interfaces"]["lo"])


@mistake("a subnet on two sites", "same-address", "subnets-overlap")
def _(data: Data, chance: Random) -> None:
    one, other = chance.sample([each for each in data["devices"] if each != "edge"], 2)
    lan = next(each for each in data["devices"][other]["interfaces"].values() if each.get("zone") == "servers")
    data["devices"][one]["interfaces"]["extra0"] = {"zone": "office", "address": lan["address"].replace(".1/", ".2/")}


@mistake("the network address on an interface", "edge-address")
def _(data: Data, chance: Random) -> None:
    lan = _lan(data, chance)
    lan["address"] = lan["address"].replace(".1/24", ".0/24")


@mistake("the ends of a link with different masks", "link-ends-disagree", "subnets-overlap")
def _(data: Data, chance: Random) -> None:
    up = _site(data, chance)["interfaces"]["up0"]
    up["address"] = up["address"].replace("/31", "/29")


@mistake("a loopback with the length of a subnet", "loopback-length")
def _(data: Data, chance: Random) -> None:
    one = _site(data, chance)["interfaces"]["lo"]
    one["loopback"] = one["loopback"].replace("/32", "/24")


@mistake("a host with another router's address", "gateway-not-there")
def _(data: Data, chance: Random) -> None:
    host = _host(data, chance)
    host["gateway"] = host["gateway"].removesuffix(".1") + ".254"


@mistake("a host's gateway outside its subnet", "gateway-not-there")
def _(data: Data, chance: Random) -> None:
    _host(data, chance)["gateway"] = "10.99.1.1"


@mistake("a host in the wrong zone", "host-in-other-zone")
def _(data: Data, chance: Random) -> None:
    _host(data, chance)["zone"] = "office"


@mistake("a site without a default route", "no-way-back", "no-way-on", "answer-goes-elsewhere")
def _(data: Data, chance: Random) -> None:
    site = _site(data, chance)
    site["routes"] = [each for each in site["routes"] if each["to"] != "default"]


@mistake("the way to a server's subnet forgotten at the edge", "internal-host-nowhere", "no-way-back")
def _(data: Data, chance: Random) -> None:
    edge, host = _edge(data), data["names"]["hosts"][_rule(data, "shop")["on"]]
    net = host["address"].rsplit(".", 1)[0] + ".0/24"
    edge["routes"] = [each for each in edge["routes"] if each["to"] != net]


@mistake("a next hop on no link", "next-hop-off-link")
def _(data: Data, chance: Random) -> None:
    _edge(data)["routes"][1]["via"] = "10.77.1.1"


@mistake("a next hop that is the device itself", "next-hop-own")
def _(data: Data, chance: Random) -> None:
    _edge(data)["routes"][0]["via"] = "203.0.113.2"


@mistake("a next hop that is the broadcast address", "next-hop-edge")
def _(data: Data, chance: Random) -> None:
    _edge(data)["routes"][0]["via"] = "203.0.113.31"


@mistake("a destination with host bits", "host-bits")
def _(data: Data, chance: Random) -> None:
    route = next(each for each in _edge(data)["routes"] if each["to"].endswith(".0/24"))
    route["to"] = route["to"].replace(".0/24", ".7/24")


@mistake("two routers that send a destination to one another", "forwarding-loop")
def _(data: Data, chance: Random) -> None:
    route = _edge(data)["routes"][1]
    _edge(data)["routes"].append({"to": "10.88.0.0/16", "via": route["via"]})


@mistake("two default routes of one distance", "equal-defaults", "same-route")
def _(data: Data, chance: Random) -> None:
    _edge(data)["routes"].insert(1, {"to": "default", "via": "203.0.113.3"})


@mistake("a summary that covers more", "summary-too-wide", "forwarding-loop")
def _(data: Data, chance: Random) -> None:
    route = next(each for each in _edge(data)["routes"] if each["to"].endswith(".0/24"))
    members, via = [route["to"]], route["via"]
    _edge(data)["routes"].append({"to": route["to"].replace(".10.0/24", ".8.0/21"), "via": via, "summarises": members})


@mistake("a summary that misses a member", "summary-misses-member")
def _(data: Data, chance: Random) -> None:
    route = next(each for each in _edge(data)["routes"] if each["to"].endswith(".10.0/24"))
    route["summarises"] = [route["to"], "10.99.1.0/24"]


@mistake("a link shut at one end", "next-hop-shut")
def _(data: Data, chance: Random) -> None:
    _site(data, chance)["interfaces"]["up0"]["enabled"] = False


@mistake("forwarding off", "forwarding-off")
def _(data: Data, chance: Random) -> None:
    _site(data, chance)["settings"] = {"forwarding": False}


@mistake("one VLAN twice on a trunk", "vlan-twice")
def _(data: Data, chance: Random) -> None:
    site = _site(data, chance)["interfaces"]
    site |= {"t0": {}, "t0.7": {"parent": "t0", "vlan": 7, "zone": "office", "address": "10.90.1.1/24"},
             "t0.8": {"parent": "t0", "vlan": 7, "zone": "office", "address": "10.90.2.1/24"}}  # fmt: skip


@mistake("a VLAN id forgotten", "vlan-unsaid")
def _(data: Data, chance: Random) -> None:
    _site(data, chance)["interfaces"] |= {
        "t0": {},
        "t0.7": {"parent": "t0", "zone": "office", "address": "10.90.1.1/24"},
    }


@mistake("a bridge outside the VLAN that it routes", "bridge-not-in-vlan")
def _(data: Data, chance: Random) -> None:
    _site(data, chance)["interfaces"] |= {
        "p1": {"tagged": [7]}, "br0": {"bridge": {"members": "p1", "vlans": 8}},
        "br0.7": {"parent": "br0", "vlan": 7, "zone": "office", "address": "10.90.1.1/24"},
    }  # fmt: skip


@mistake("an MTU too small for IPv6", "small-mtu")
def _(data: Data, chance: Random) -> None:
    lan = _lan(data, chance)
    lan |= {"address": [lan["address"], "2001:db8:90::1/64"], "mtu": 1200}


@mistake("an external port published twice", "published-twice")
def _(data: Data, chance: Random) -> None:
    mail = _rule(data, "mail")
    mail |= {"publish": "203.0.113.5", "service": ["tcp/443", "tcp/25"]}


@mistake("published on a host that nobody has", "internal-host-nowhere")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["on"] = "10.99.1.7"


@mistake("published at the provider's gateway", "external-address-taken", "held-elsewhere", "outside-block")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["publish"] = "203.0.113.1"


@mistake("published outside the block", "outside-block", "upstream-does-not-know")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["publish"] = "203.0.113.77"


@mistake("published at an address that the block reserves", "external-address-taken")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["publish"] = "203.0.113.28"


@mistake("one-to-one at the device's own address", "own-address-static")
def _(data: Data, chance: Random) -> None:
    rule = _rule(data, "shop")
    del rule["publish"], rule["service"]
    rule["static"] = "203.0.113.2"


@mistake("every service published", "everything-published")
def _(data: Data, chance: Random) -> None:
    del _rule(data, "shop")["service"]


@mistake("a one-to-one rule with a derived permit", "everything-published")
def _(data: Data, chance: Random) -> None:
    rule = _rule(data, "mail")
    del rule["publish"], rule["service"]
    rule["static"] = "203.0.113.6"


@mistake("a clear-text service published", "clear-text")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["service"] = "tcp/23"


@mistake("a control port alone", "control-port-alone")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["service"] = "udp/5060"


@mistake("published where the device itself listens", "device-listens-there")
def _(data: Data, chance: Random) -> None:
    rule = _rule(data, "shop")
    rule |= {"publish": "203.0.113.2", "service": "tcp/22"}


@mistake("an octet of a series mistyped", "octet-mistyped", "digits-transposed")
def _(data: Data, chance: Random) -> None:
    _rule(data, "s0")["publish"] = "203.0.13.10"


@mistake("the general rule before the specific one", "never-reached", "partly-taken")
def _(data: Data, chance: Random) -> None:
    rules = _edge(data)["translations"]
    rules.insert(0, rules.pop())


@mistake("an exemption for everything", "exemption-too-broad", "never-reached", "private-source-leaves")
def _(data: Data, chance: Random) -> None:
    _edge(data)["translations"].insert(2, {"name": "none", "exempt": True, "to": "sea"})


@mistake("the translation of the rest forgotten", "private-source-leaves")
def _(data: Data, chance: Random) -> None:
    rules = _edge(data)["translations"]
    rules.pop()
    rules.pop()


@mistake("a pool that holds the gateway", "external-address-taken")
def _(data: Data, chance: Random) -> None:
    _rule(data, "inside-out")["source-becomes"] = {"pool": "203.0.113.1-203.0.113.4"}


@mistake("a pool of one address that is the gateway's", "external-address-taken")
def _(data: Data, chance: Random) -> None:
    _rule(data, "inside-out")["source-becomes"] = {"pool": "203.0.113.1"}


@mistake("a pool whose ports are kept, for too many hosts", "pool-too-small")
def _(data: Data, chance: Random) -> None:
    _rule(data, "inside-out")["source-becomes"]["ports"] = "kept"


@mistake("nobody answers for a pool", "not-answered")
def _(data: Data, chance: Random) -> None:
    _edge(data)["interfaces"]["wan0"]["answers"] = ["203.0.113.5-203.0.113.16"]


@mistake("an answering range that holds the gateway", "answers-too-much")
def _(data: Data, chance: Random) -> None:
    _edge(data)["interfaces"]["wan0"]["answers"] = ["203.0.113.1", "203.0.113.5-203.0.113.25"]


@mistake("a pool written as an address with a mask", "value")
def _(data: Data, chance: Random) -> None:
    _rule(data, "inside-out")["source-becomes"] = {"pool": "203.0.113.9/28"}


@mistake("a route into the answered range", "route-takes-answered")
def _(data: Data, chance: Random) -> None:
    edge = _edge(data)
    edge["routes"].append({"to": "203.0.113.20/30", "via": edge["routes"][1]["via"]})


@mistake("no permit for what is published", "published-not-permitted")
def _(data: Data, chance: Random) -> None:
    _edge(data)["permits"].pop(0)


@mistake("a permit for the external address", "published-not-permitted")
def _(data: Data, chance: Random) -> None:
    _edge(data)["permits"][0] = {"name": "shop", "from": "sea", "destination": "203.0.113.5", "service": "tcp/443"}


@mistake("a permit towards the wrong side", "published-not-permitted")
def _(data: Data, chance: Random) -> None:
    host = data["names"]["hosts"][_rule(data, "shop")["on"]]["address"].removesuffix("/24")
    _edge(data)["permits"][0] = {"name": "shop", "from": "sea", "to": "sea", "destination": host, "service": "tcp/443"}


@mistake("a permit copied and not changed", "permit-repeated")
def _(data: Data, chance: Random) -> None:
    permits = _edge(data)["permits"]
    permits.append(permits[2] | {"name": "copied"})


@mistake("everything permitted from outside", "any-to-any")
def _(data: Data, chance: Random) -> None:
    _edge(data)["permits"].append({"name": "all", "from": "sea"})


@mistake("a deny behind what it is to stop", "permit-never-reached")
def _(data: Data, chance: Random) -> None:
    _edge(data)["permits"].append(
        {"name": "no-web", "from": "between", "to": "sea", "source": "keepers", "service": "tcp/80", "deny": True}
    )


@mistake("management open to the public side", "management-open")
def _(data: Data, chance: Random) -> None:
    _edge(data)["management"].append({"name": "all", "from": "sea", "service": "tcp/22"})


@mistake("management for a group without members", "management-before-sources")
def _(data: Data, chance: Random) -> None:
    data["names"]["networks"]["far-keepers"] = []
    _edge(data)["management"].append({"name": "far", "from": "sea", "source": "far-keepers", "service": "tcp/22"})


@mistake("a private source on the public side", "private-from-public")
def _(data: Data, chance: Random) -> None:
    _rule(data, "shop")["source"] = "10.9.0.0/16"


@mistake("a fixed address on a line that learns its own", "fixed-on-learned")
def _(data: Data, chance: Random) -> None:
    edge = _edge(data)
    edge["interfaces"]["wan0"] = {"zone": "sea", "learns": "dhcp"}
    edge["routes"].pop(0)


def found_in(data: Data) -> set[str]:
    """Return the checks that speak about an intent; `value` for an error that belongs to none."""
    try:
        return {each.slug for each in findings(loads(yaml.safe_dump(data, sort_keys=False)))}
    except NotationError as error:
        return {fault.slug or "value" for fault in error.faults}


def look(count: int, seed: int) -> tuple[dict[str, int], list[Any]]:
    """Make every mistake in so many networks; return how often each was found, and false alarms."""
    found = dict.fromkeys(MISTAKES, 0)
    alarms: list[Any] = []
    for at in range(count):
        chance = Random(f"{seed} {at}")
        data = network(chance)
        alarms += sorted(found_in(data))
        for words, (make, slugs) in MISTAKES.items():
            wrong = deepcopy(data)
            make(wrong, chance)
            found[words] += bool(found_in(wrong) & slugs)
    return found, alarms


def page(count: int, seed: int = 0) -> str:
    """Return the page of the documentation about what is found."""
    found, alarms = look(count, seed)
    share = sum(found.values()) / (count * len(found))
    rows = [f"| {words} | {times} of {count} |" for words, times in found.items()]
    return "\n".join([
        "# What the checks find", "",
        "*Written by `benchmarks/mistakes.py`.*", "",
        f"{len(found)} kinds of mistake were made, one at a time, in each of {count} networks that are correct by"
        f" construction: {share:.1%} were found", "by a check that names the mistake. In the networks without one there"
        f" were {len(alarms) or 'no'} findings.", "",
        "| mistake | found |", "|---|---|", *rows, "",
        "A subnet that is used on two sites cannot be told from a link that both are on, so it is not found.", "",
    ])  # fmt: skip


def main(count: int, seed: int = 0) -> None:
    """Print what was found, and write the page."""
    text = page(count, seed)
    print(text)
    (Path(__file__).parent.parent / "docs" / "mistakes.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main(*(int(each) for each in sys.argv[1:]))
