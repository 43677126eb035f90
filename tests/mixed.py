"""Rulesets put together at random from lines as people write them, about the hosts and services that are tried."""

from __future__ import annotations

from random import Random

TESTS = [
    'iifname "in0"', 'iifname != "in0"', 'oifname "out0"', 'oifname { "in0", "spare0" }', "ip saddr 10.40.10.7",
    "ip saddr != { 10.40.10.7, 10.40.10.8 }", "ip daddr 203.0.113.14", "ip daddr 10.40.10.0/30", "ip daddr @friends",
    "ip saddr != @friends", "tcp dport { 22, 80, 443 }", "tcp dport 80-443", "tcp dport >= 1000", "tcp dport != 80",
    "udp dport 53", "udp dport < 100", "tcp sport > 1500", "icmp type echo-request", "icmp type != echo-request",
    "meta l4proto { tcp, udp }", "ip protocol != icmp", "meta l4proto udp udp dport { 53, 80 }", "ct state new",
    "ct state { established, related }", "ct state != new", "ct state invalid,untracked", "ct status dnat",
    "ct status & dnat == 0", "ct original ip daddr 203.0.113.5", "ct original ip saddr 10.40.10.7", "meta mark 1",
    "meta mark != 0", "meta mark & 0x3 == 0x1", "meta mark { 1, 2 }", "ct mark 2", "ct mark & 0xf != 0",
    "tcp flags syn / fin,syn,rst,ack", "tcp flags & (syn|ack) == syn|ack", "fib daddr type local",
    "fib daddr type != local", "fib daddr . iif type local", "fib saddr . iif oif missing", "fib saddr type unicast",
    "iifname . ip saddr { \"in0\" . 10.40.10.7, \"out0\" . 203.0.113.14 }", "ip daddr . tcp dport @doors",
    "ip saddr . ip daddr { 10.40.10.7 . 203.0.113.1 }", "meta length > 1000", "ip ttl < 2",
    "limit rate over 900/second", "numgen inc mod 2 0", "", "", "", "",
]  # fmt: skip
MARKS = [
    "meta mark set 1", "meta mark set mark or 0x2", "meta mark set mark and 0x1", "meta mark set mark xor 0x3",
    "ct mark set 2", "ct mark set mark", "meta mark set ct mark", "meta mark set 2 ct mark set mark",
    "meta mark set ip saddr map { 10.40.10.7 : 1, 10.40.10.8 : 2 }", "meta mark set 1 tcp dport 80 accept",
]  # fmt: skip
VERDICTS = ["accept", "accept", "drop", "drop", "return", "reject", "jump %s", "jump %s", "goto %s", "counter"]
MAPS = [
    "tcp dport vmap { 22 : accept, 80 : drop, 443 : jump %s }", "meta mark vmap { 1 : jump %s, 2 : drop }",
    'iifname vmap { "in0" : jump %s, "out0" : accept }', "ip saddr vmap { 10.40.10.7 : return, 10.40.10.8 : drop }",
    "ct state vmap { new : jump %s, established : accept }", "meta l4proto vmap { tcp : jump %s, icmp : accept }",
]  # fmt: skip
OF_DESTINATION = [
    "tcp dport 80 dnat ip to 10.40.10.7:8080", "ip daddr 203.0.113.5 dnat ip to 10.40.10.8",
    "udp dport 53 redirect to :54", "tcp dport 443 redirect",
    "dnat ip to ip daddr map { 203.0.113.5 : 10.40.10.7, 203.0.113.6 : 10.40.10.9 }",
    "dnat ip to tcp dport map { 22 : 10.40.10.8 . 2222, 8080 : 10.40.10.7 . 80 }",
    "dnat ip prefix to ip daddr map { 203.0.113.8/31 : 10.40.10.8/31 }",
    "ip daddr 203.0.113.6 dnat ip to 10.40.10.7-10.40.10.9",
    "accept", "return",
]  # fmt: skip
OF_SOURCE = [
    'oifname "out0" masquerade', "ip saddr 10.40.10.7 snat ip to 203.0.113.9",
    'oifname "out0" snat ip to 203.0.113.10-203.0.113.11',
    "snat ip to ip saddr map { 10.40.10.8 : 203.0.113.4 }", "ct status dnat masquerade", "accept", "return",
    "udp dport 53 snat ip to 203.0.113.9:2000-3000",
]  # fmt: skip
SETS = """
	set friends { type ipv4_addr; flags interval; elements = { 10.40.10.8/31, 203.0.113.1 } }
	set doors { type ipv4_addr . inet_service; elements = { 203.0.113.14 . 80, 10.40.10.7 . 443 } }"""
# The chains that may be there: table and family, hook, and what their rules do.
BASES = [
    ("raw", "filter hook prerouting priority raw", "notrack"),
    ("mangle", "filter hook prerouting priority mangle", "marks"),
    ("nat", "nat hook prerouting priority dstnat", "destinations"),
    ("early", "filter hook forward priority -5", "filters"), ("main", "filter hook forward priority filter", "filters"),
    ("door", "filter hook input priority filter", "filters"),
    ("late", "filter hook postrouting priority mangle", "marks"),
    ("nat", "nat hook postrouting priority srcnat", "sources"),
]  # fmt: skip

# What the kernel takes at some hooks only.
NOT_AT = {"prerouting": ("oif", "reject"), "postrouting": ("iif", "reject", "fib")}


def mixed(seed: int) -> str:
    """Return a ruleset for nftables: the same for the same seed."""
    chance = Random(seed)
    bases = [each for each in BASES if chance.random() < 0.7] or BASES[4:5]
    return "".join(_table(chance, name, number, hook, kind) for number, (name, hook, kind) in enumerate(bases))


def _table(chance: Random, name: str, number: int, hook: str, kind: str) -> str:
    chains = [f"part{at}" for at in range(chance.randrange(3))]
    policy = chance.choice(["accept", "accept", "drop"]) if kind == "filters" else "accept"
    text = f"table {chance.choice(['ip', 'inet'])} {name}{number} {{{SETS}\n"
    for at, each in reversed([*enumerate(chains)]):  # those that are jumped to stand first
        text += _chain(each, [], _rules(chance, kind, chains[at + 1 :], hook))
    return text + _chain("base", [f"type {hook}; policy {policy};"], _rules(chance, kind, chains, hook)) + "}\n"


def _chain(name: str, head: list[str], rules: list[str]) -> str:
    lines = "".join(f"\t\t{each}\n" for each in [*head, *rules])
    return f"\tchain {name} {{\n{lines}\t}}\n"


def _rules(chance: Random, kind: str, targets: list[str], hook: str) -> list[str]:
    found: list[str] = []
    wanted = chance.randrange(1, 5)
    while len(found) < wanted:
        tests = " ".join(dict.fromkeys(chance.choice(TESTS) for _ in range(chance.randrange(3))))
        rule = f"{tests} {_does(chance, kind)}".strip()
        refused = [each for part, words in NOT_AT.items() if part in hook for each in words]
        if any(each in rule for each in refused) or ("%s" in rule and not targets):
            continue
        found.append(rule.replace("%s", chance.choice(targets)) if targets else rule)
    return found


def _does(chance: Random, kind: str) -> str:
    if kind == "destinations":
        return chance.choice(OF_DESTINATION)
    if kind == "sources":
        return chance.choice(OF_SOURCE)
    if kind == "notrack":
        return chance.choice(["notrack", "accept", "drop", "return", "jump %s", "counter"])
    if kind == "marks" and chance.random() < 0.6:
        return chance.choice(MARKS)
    return chance.choice(MAPS) if chance.random() < 0.2 else chance.choice(VERDICTS)


# The same for iptables.
MATCHES = [
    "-i in0", "! -i in0", "-s 10.40.10.7", "! -s 10.40.10.8/31", "-d 203.0.113.14", "-d 10.40.10.0/255.255.255.252",
    "-p tcp --dport 80", "-p tcp ! --dport 80:443", "-p udp --dport 53", "-p tcp -m multiport --dports 22,80,8000:8080",
    "-p tcp -m multiport --ports 22,443", "-p icmp --icmp-type 8", "-p icmp ! --icmp-type 8", "! -p udp", "-p 47",
    "-p tcp --syn", "-p tcp ! --syn", "-p tcp --tcp-flags SYN,ACK SYN", "-m conntrack --ctstate NEW",
    "-m conntrack ! --ctstate NEW", "-m conntrack --ctstate NEW,DNAT", "-m conntrack --ctstate INVALID,UNTRACKED",
    "-m conntrack --ctorigdst 203.0.113.5", "-m conntrack --ctproto tcp", "-m mark --mark 1",
    "-m mark ! --mark 0x0/0x3",
    "-m connmark --mark 0x2/0xf", "-m addrtype --dst-type LOCAL", "-m addrtype ! --dst-type LOCAL",
    "-m iprange --src-range 10.40.10.7-10.40.10.8", "-m iprange ! --dst-range 203.0.113.1-203.0.113.6",
    "-m limit --limit 900/sec", "-m statistic --mode nth --every 2 --packet 0", "-m length --length 1000:", "", "", "",
]  # fmt: skip
MARKINGS = [
    "MARK --set-mark 1", "MARK --or-mark 0x2", "MARK --and-mark 0x1", "MARK --xor-mark 0x3", "MARK --set-xmark 0x1/0x3",
    "CONNMARK --save-mark", "CONNMARK --restore-mark", "CONNMARK --set-mark 2",
    "CONNMARK --restore-mark --nfmask 0x3 --ctmask 0x3",
]  # fmt: skip
REWRITINGS = {
    "PREROUTING": ["DNAT --to-destination 10.40.10.8", "REDIRECT", "ACCEPT", "RETURN"],
    "POSTROUTING": ["MASQUERADE", "SNAT --to-source 203.0.113.9", "SNAT --to-source 203.0.113.10-203.0.113.11"],
}  # fmt: skip
TABLES = {
    "raw": ["PREROUTING"], "mangle": ["PREROUTING", "FORWARD", "POSTROUTING"], "nat": [*REWRITINGS],
    "filter": ["FORWARD", "INPUT"],
}  # fmt: skip


def mixed_save(seed: int) -> str:
    """Return a ruleset for iptables-restore: the same for the same seed."""
    chance, text = Random(seed), ""
    for table, bases in TABLES.items():
        chains = [f"part{at}" for at in range(chance.randrange(3))] if table != "nat" else []
        policies = {each: chance.choice(["ACCEPT", "DROP"]) if table == "filter" else "ACCEPT" for each in bases}
        text += f"*{table}\n" + "".join(f":{each} {policy} [0:0]\n" for each, policy in policies.items())
        text += "".join(f":{each} - [0:0]\n" for each in chains)
        for at, chain in enumerate([*bases, *chains]):
            behind = chains[max(at - len(bases) + 1, 0) :]
            for _ in range(chance.randrange(5)):
                tests = " ".join(dict.fromkeys(chance.choice(MATCHES) for _ in range(chance.randrange(3))))
                if chain == "POSTROUTING" and "-i in0" in tests:
                    continue
                text += " ".join(f"-A {chain} {tests} {_target(chance, table, chain, behind)}".split()) + "\n"
        text += "COMMIT\n"
    return text


def _target(chance: Random, table: str, chain: str, behind: list[str]) -> str:
    if table == "nat":
        return f"-j {chance.choice(REWRITINGS[chain])}"
    if table == "mangle" and chance.random() < 0.6:
        return f"-j {chance.choice(MARKINGS)}"
    jumps = [f"{how} {each}" for each in behind for how in ("-j", "-g")]
    notrack = ["-j CT --notrack"] if table == "raw" else []
    return chance.choice(["-j ACCEPT", "-j DROP", "-j RETURN", "", *jumps, *notrack])
