"""Networks that are correct by construction, as an intent file has them: an edge, and sites behind it and one another."""

from __future__ import annotations

from random import Random
from typing import Any

Data = dict[str, Any]
SITE_SPEAKS = (["frr"], ["iproute2"], ["netplan"], ["networkd"])


def network(chance: Random) -> Data:
    """Return an intent: one edge towards a provider, and two to four sites, some behind another."""
    count = chance.randint(2, 4)
    behind = [chance.choice([None, *range(site)]) if site else None for site in range(count)]
    nets = [[f"10.{40 + site}.{10 * lan}.0/24" for lan in range(1, chance.randint(1, 3) + 1)] for site in range(count)]
    data: Data = {
        "lattice": 1,
        "network": "saltmarsh-ferries",
        "blocks": {
            "isp": {"prefix": "203.0.113.0/27", "gateway": "203.0.113.1", "held": {"edge": "203.0.113.2-203.0.113.25"},
                    "reserved": {"203.0.113.26-203.0.113.30": "the provider's probes"}},
            "spare": {"prefix": "198.51.100.0/28", "delivery": "routed"},
        },
        "names": {"hosts": {}, "networks": {"inside": [net for some in nets for net in some], "keepers": ["10.40.10.16/28"]}},
        "zones": {"sea": {"exposure": "public"}, "office": {"exposure": "own"}, "servers": {"exposure": "shared"},
                  "between": {"exposure": "own"}},
        "devices": {},
    }  # fmt: skip
    for site in range(count):
        data["devices"][f"site{site}"] = _site(chance, site, behind, nets)
    data["devices"]["edge"] = _edge(behind, nets)
    _hosts(data, nets)
    _rules(chance, data)
    return data


def link(site: int) -> tuple[str, str]:
    """Return both ends of the link above a site: that of the device above, and that of the site."""
    return f"10.50.0.{2 * site}", f"10.50.0.{2 * site + 1}"


def below(site: int, behind: list[Any]) -> list[int]:
    """Return the sites that are reached through a site, itself first."""
    found = [site]
    for other, above in enumerate(behind):
        if above == site:
            found += below(other, behind)
    return found


def _site(chance: Random, site: int, behind: list[Any], nets: list[list[str]]) -> Data:
    interfaces: Data = {"up0": {"zone": "between", "address": f"{link(site)[1]}/31"}}
    tagged = chance.random() < 0.4
    if tagged:
        interfaces["trunk0"] = {}
    for at, net in enumerate(nets[site]):
        own = net.replace(".0/24", ".1/24")
        zone = "servers" if at == 0 else "office"
        name = f"trunk0.{10 + at}" if tagged else f"lan{at}"
        interfaces[name] = {"zone": zone, "address": own} | ({"parent": "trunk0", "vlan": 10 + at} if tagged else {})
    interfaces["lo"] = {"loopback": f"10.255.0.{site + 2}/32"}
    routes: list[Data] = [{"to": "default", "via": link(site)[0]}]
    for other, above in enumerate(behind):
        if above == site:
            interfaces[f"down{other}"] = {"zone": "between", "address": f"{link(other)[0]}/31"}
            routes += _routes_to(other, behind, nets)
    return {"speaks": chance.choice(SITE_SPEAKS), "interfaces": interfaces, "routes": routes}


def _routes_to(site: int, behind: list[Any], nets: list[list[str]]) -> list[Data]:
    inside = below(site, behind)
    to = [net for one in inside for net in nets[one]] + [f"{link(one)[0]}/31" for one in inside if one != site]
    to += [f"10.255.0.{one + 2}/32" for one in inside]
    return [{"to": net, "via": link(site)[1]} for net in to]


def _edge(behind: list[Any], nets: list[list[str]]) -> Data:
    interfaces: Data = {"wan0": {"zone": "sea", "address": "203.0.113.2/27"}}
    routes: list[Data] = [{"to": "default", "via": "203.0.113.1"}]
    for site, above in enumerate(behind):
        if above is None:
            interfaces[f"site{site}"] = {"zone": "between", "address": f"{link(site)[0]}/31"}
            routes += _routes_to(site, behind, nets)
    routes.append({"to": "10.0.0.0/8", "discard": True, "distance": 250})
    interfaces["lo"] = {"loopback": "10.255.0.1/32"}
    return {"speaks": ["iproute2", "nftables"], "interfaces": interfaces, "routes": routes}


def _hosts(data: Data, nets: list[list[str]]) -> None:
    for site, some in enumerate(nets):
        base = some[0].removesuffix(".0/24")
        for at in range(2):
            data["names"]["hosts"][f"server{site}{at}"] = {
                "address": f"{base}.{20 + at}/24", "gateway": f"{base}.1", "zone": "servers",
            }  # fmt: skip


def _rules(chance: Random, data: Data) -> None:
    hosts = list(data["names"]["hosts"])
    chance.shuffle(hosts)
    shop, mail, *series = hosts[:6]
    data["devices"]["edge"] |= {
        "translations": [
            {"name": "shop", "publish": "203.0.113.5", "service": "tcp/443", "on": shop, "facing": "sea"},
            {"name": "mail", "publish": "203.0.113.6", "service": ["tcp/25", "tcp/465"], "on": mail, "facing": "sea"},
            *({"name": f"s{at}", "publish": f"203.0.113.{10 + at}", "service": "tcp/8443", "on": host, "facing": "sea"}
              for at, host in enumerate(series)),
            {"name": "keepers-out", "to": "sea", "source": "keepers", "source-becomes": {"pool": "203.0.113.16"}},
            {"name": "inside-out", "to": "sea", "source": "inside", "source-becomes":
                {"pool": "203.0.113.20-203.0.113.23"}},
            {"name": "rest-out", "to": "sea", "source-becomes": "interface"},
        ],
        "permits": [
            {"derive": "translations"},
            {"name": "web-out", "from": "between", "to": "sea", "service": ["tcp/80", "tcp/443"]},
            {"name": "mail-out", "from": "between", "to": "sea", "source": mail, "service": "tcp/25"},
        ],
        "management": [{"name": "ssh", "from": "between", "source": "keepers", "service": "tcp/22"}],
        "listens": ["tcp/22"],
    }  # fmt: skip
