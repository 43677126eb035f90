"""Rulesets as people write them: whatever is said of a packet, a kernel does; and what is not known is said."""

from __future__ import annotations

import textwrap
from collections.abc import Callable
from random import Random

import pytest
from msgspec.structs import replace

import agile_lattice as al
from agile_lattice.behaviour.flows import Header
from agile_lattice.behaviour.matching import Match
from agile_lattice.behaviour.proving import prove
from agile_lattice.behaviour.walking import Walk, walk
from agile_lattice.compare.applying import as_it_is
from agile_lattice.compare.by_program import found_apart
from agile_lattice.compare.doubts import beyond_program, unknown_of
from agile_lattice.compare.equivalence import verdict
from agile_lattice.compare.witnesses import Sides
from agile_lattice.dialects import as_intent, read_device
from agile_lattice.intent.addresses import Address, AddressSet
from agile_lattice.intent.model import Network
from agile_lattice.intent.permits import Permit
from agile_lattice.intent.services import PROTOCOL_NUMBERS
from agile_lattice.notation.loading import loads
from agile_lattice.notation.writing import write
from agile_lattice.packets.boxes import overlap
from foreign import PROGRAMS, RULESETS, device_of, family_of, intent_of, packets, taken, told, try_out
from mixed import mixed, mixed_save
from test_chains import OUT
from test_programs import RULESETS as SMALL
from test_programs import TABLES
from test_real import kernel
from where import examples

# Of rulesets whose rules hang on what no packet shows here (members that come and go, other header fields), less is.
HARDLY = {"meters.nft", "no-scrub.nft", "scans.save"}
PACKETS, PARTS = examples(30), 4
ALL = {
    **RULESETS,
    **{f"{name}.nft": f"table inet f {{\n{text}\n}}" for name, text in SMALL.items()},
    **{f"{name}.save": f"*filter{textwrap.dedent(text)}\nCOMMIT\n" for name, text in TABLES.items()},
}


@pytest.mark.real
@kernel
@pytest.mark.parametrize("part", range(PARTS))
def test_a_kernel_does_what_is_said_of_rulesets_that_people_write(part: int) -> None:
    names = [*ALL][part::PARTS]
    found = try_out({name: ALL[name] for name in names}, PACKETS)
    assert {name: each.wrong for name, each in found.items() if each.wrong} == {}
    undecided = {name for name, each in found.items() if each.decided < PACKETS * 0.65}
    assert undecided <= HARDLY, undecided
    decided = sum(each.decided for each in found.values())
    assert decided > 0.95 * PACKETS * len(found), f"{decided} of {PACKETS * len(found)}"
    assert sum(each.passed for each in found.values()) > 0.05 * PACKETS * len(found), "packets come out"


@pytest.mark.real
@kernel
@pytest.mark.parametrize(("kind", "made"), [("nft", mixed), ("save", mixed_save)])
def test_a_kernel_does_what_is_said_of_rulesets_put_together_at_random(kind: str, made: Callable[[int], str]) -> None:
    seeds = range(100, 100 + examples(30))
    texts = {name: text for seed in seeds if taken(name := f"{seed}.{kind}", text := made(seed))}
    found = try_out(texts, PACKETS)
    assert {name: each.wrong for name, each in found.items() if each.wrong} == {}
    decided = sum(each.decided for each in found.values())
    assert decided > 0.8 * PACKETS * len(found), f"{decided} of {PACKETS * len(found)}"


def test_rules_of_two_texts_are_not_taken_for_one_list() -> None:
    strict = """table inet a {
        chain f {
            type filter hook forward priority 0; policy drop;
            ct state established,related accept
            iifname "in0" tcp dport 443 accept
        }
    }"""
    lax = strict.replace("table inet a", "table inet b").replace("policy drop", "policy accept")
    lax = lax.replace("tcp dport 443 accept", "tcp dport 25 drop")
    both = al.read("edge", ["nftables"], {"a.nft": strict, "b.nft": lax})
    assert [each.text for each in both.leftovers] == ["the rules of a.nft"]
    one = al.read("edge", ["nftables"], {"a.nft": strict})
    assert not one.leftovers


def test_a_list_that_is_not_known_is_asked_although_it_has_no_rule() -> None:
    """Where nothing of a list was understood, a walk along it is not decided."""
    text = """table inet f {
        chain early {
            type filter hook prerouting priority raw; policy accept;
            iifname "in0" @th,0,8 3 drop
        }
    }"""
    side, source, to, port = OUT
    header = Header(Address.parse(source), Address.parse(to), "udp", port)
    [said] = told(device_of("nftables"), "nftables", text, [(side, header)])
    assert isinstance(said, str) and "rules:" in said


def test_by_which_jumps_packets_come_to_a_line_is_told() -> None:
    text = """table inet f {
    chain web {
        tcp dport 443 accept
    }
    chain hosts {
        ip daddr 10.1.0.7 jump web
        ip daddr 10.1.0.8 return
        drop
    }
    chain forward {
        type filter hook forward priority 0; policy drop;
        ct state established,related accept
        iifname "in0" jump hosts
        iifname "in1" goto web
        accept
    }
}"""
    found = al.read("edge", ["nftables"], {"f.nft": text})
    assert not found.leftovers
    told = {
        (int(each.place.told.split(":")[1].split()[0]), each.place.jumps)
        for each in found.device.permits
        if each.place.line
    }
    assert {(3, (13, 6)), (3, ()), (8, (13,)), (15, ())} <= told, told
    inner = next(each.place for each in found.device.permits if each.place.jumps == (13, 6))
    assert inner.told == "f.nft:3 (by the jumps in lines 13, 6)"


@pytest.mark.parametrize("name", ALL)
def test_what_is_read_is_an_intent_that_is_proven_to_be_the_same(name: str) -> None:
    """It loads as it was read, no packet is treated otherwise, and what an intent cannot say is said to be left out."""
    capture = read_device("edge", [PROGRAMS[name.rpartition(".")[2]][0]], {name: ALL[name]})
    device, leftovers = as_intent(capture)
    loaded = loads(write(Network("", (device,)))).devices[0]
    assert loaded == replace(device, named=loaded.named)
    found = verdict(loaded, capture)
    assert not found.different and not found.proof.undecided
    # That replies do not pass is what no intent says.
    # Nor is it known what names that begin so stand for, and the texts are about rules only.
    words = ("replies", "an interface of that name", *(("not understood",) if leftovers else ()))
    assert not (found.shown or found.hidden)
    assert all(any(each in reason for each in words) for reason in found.incomplete), found.incomplete
    # And from then on the device can have it as we write it.
    both = ("iptables", "ip6tables") if ".save" in name else ("nftables",)
    named = tuple(replace(each, name=f"rule {at}") for at, each in enumerate(loaded.permits))
    access = tuple(replace(each, name=f"entry {at}") for at, each in enumerate(loaded.access))
    managed = replace(loaded, speaks=both, permits=named, access=access)
    again = read_device("edge", both, {each.file: each.text for each in al.render(managed)})
    assert verdict(managed, again).same


MEANT = {
    4: """
    translations:
      - {name: web, publish: 203.0.113.5, service: tcp/443, on: 10.40.10.7, facing: outside}
      - {name: office-out, from: inside, to: outside, source-becomes: interface}
    permits:
      - {name: browsing, from: inside, to: outside, service: [tcp/80, tcp/443, udp/53, icmp]}
      - {name: web, to: inside, destination: 10.40.10.7, service: tcp/443}
""",
    6: """
    permits:
      - {name: browsing, from: inside, to: outside, service: [tcp/80, tcp/443, udp/53, icmp6]}
      - {name: web, to: inside, destination: "2001:db8:40::7", service: [tcp/443, tcp/8443]}
""",
}


def fate(found: Walk) -> object:
    """What can be seen from outside of what becomes of a packet."""
    if not found.arrives:
        return found.end == "not known"
    last = found.visits[-1]
    pools = [(each.pool if each.pool and not each.pool.is_single else None, each.ports) for each in last.stages]
    return found.end, last.after, last.leaves, [each for each in pools if any(each)]


@pytest.mark.parametrize("name", RULESETS)
def test_the_packets_that_are_shown_are_exactly_those_that_are_treated_otherwise(name: str) -> None:
    speaks, text, family = PROGRAMS[name.rpartition(".")[2]][0], RULESETS[name], family_of(name)
    [intent] = loads(intent_of(speaks, family) + MEANT[family]).devices
    capture = read_device("edge", (speaks,), {name: text})
    there = as_it_is(intent, capture)
    sides = Sides(intent, there, unknown_of(beyond_program(capture)), (10 - family,), capture.programs)
    shown: dict[bool, list[Match]] = {True: [], False: []}
    for parting, _, _, unsure in found_apart(sides, prove(*sides.devices, lists=())):
        assert parting.region is not None
        shown[not unsure] += parting.region.matches
    space, everything = sides.space(family), sides.sendable(family)
    assert everything is not None
    seen = set()
    for side, header in packets(text, 60, Random(name), 1024, family):
        point = space.of_match(Match((side,), None, ((PROTOCOL_NUMBERS[header.protocol],) * 2,),
                                     AddressSet.of(header.source), AddressSet.of(header.destination),
                                     ((header.port or 0,) * 2,)))  # fmt: skip
        if overlap(point, everything) is None or any(each.refuses(side, header) for each in sides.treating(family)):
            continue
        mine, its = (walk(each, header, "edge", side) for each in sides.topologies())
        leaves = {each.visits[-1].leaves for each in (mine, its)}
        certain, open_ = (
            any(
                overlap(point, space.of_match(one)) and (one.leaves is None or leaves & {*one.leaves})
                for one in shown[sure]
            )
            for sure in (True, False)
        )
        seen.add((certain, open_))
        if its.end == "not known":
            assert any(overlap(point, space.of_match(one)) for one in shown[False]), (header, its.reason)
        elif not open_:
            assert certain is (fate(mine) != fate(its)), (side, header, mine.outcome, its.outcome)
    assert len(seen) > 1 or len(capture.leftovers) > 0


def test_of_two_families_each_has_the_rules_that_are_for_it() -> None:
    """Where somebody wrote the rules of one family, those of the other are the ones that a dialect writes."""
    permits = MEANT[4][MEANT[4].index("    permits:") :]
    [intent] = loads(intent_of("iptables, ip6tables") + permits).devices
    [own] = [each.text for each in al.render(intent) if each.file == "iptables.rules"]
    by_hand = "# of ip6tables-save\n" + RULESETS["guarded-door.save6"]
    for change, ports in (("", set()), ("udp -m udp --dport 53", {53, 54})):
        rules = own.replace(change, change.replace("53", "54")) if change else own
        read = read_device("edge", ("iptables", "ip6tables"), {"iptables.rules": rules, "ip6tables.rules": by_hand})
        found = [each.parting.region for each in verdict(intent, read).shown if each.parting.family == 4]
        assert {port for each in found if each for one in each.matches for port in one.ports[0]} == ports  # type: ignore[index]


@pytest.mark.parametrize("line", ["notrack", "meta mark 0 notrack accept"])
def test_packets_that_no_connection_is_looked_up_for_are_not_new(line: str) -> None:
    """They are not new to rules that ask."""
    text = f"""table inet f {{
        chain early {{
            type filter hook prerouting priority raw; policy accept;
            udp dport 53 {line}
        }}
        chain forward {{
            type filter hook forward priority filter; policy drop;
            ct state established,related accept
            ct state new accept
        }}
    }}"""
    intent = replace(device_of("nftables"), permits=(Permit(name="all"),))
    read = read_device("edge", ("nftables",), {"r.nft": text})
    found = al.diff(intent, read)
    assert found.rules is not None and not found.same
    [permit] = found.rules.rules
    dropped = [match for each in permit.otherwise for match in each.packets]
    assert {str(each) for each in dropped if "icmp" not in str(each)} == {"any -> any udp/53"}, "and replies to nothing"
    assert verdict(intent, read).different, "DNS is dropped"


@pytest.mark.parametrize("target", ["TEE --gateway 10.40.10.9", "TTL --ttl-set 1", "SET --map-set s src --map-mark"])
def test_what_does_more_to_packets_than_an_intent_can_say_is_not_passed_over(target: str) -> None:
    chains = ":FORWARD ACCEPT [0:0]\n:other - [0:0]"
    text = f"*mangle\n{chains}\n-A FORWARD -i in0 -j {target}\n-A FORWARD -o in0 -g other\nCOMMIT\n"
    read = read_device("edge", ("iptables",), {"r.save": text})
    assert any(target in each.text for each in read.leftovers)
