"""What is written in one way or another: a ruleset means what the kernel's listing of it means."""

from __future__ import annotations

import re
from itertools import groupby
from random import Random
from typing import Any

import pytest

from agile_lattice.behaviour.surroundings import Surroundings
from agile_lattice.dialects import read_device
from agile_lattice.dialects.assembly import Capture
from agile_lattice.dialects.passes.rulesets import Ruleset
from agile_lattice.dialects.programs.lowering import lowered
from agile_lattice.packets.spans import meet
from agile_lattice.programs.model import Entry, Program
from foreign import HERE, PROGRAMS, RULESETS, device_of, family_of
from machines import Machine
from mixed import MATCHES, SETS, TESTS
from test_real import kernel
from where import examples

STATEMENTS = {name: (HERE / name).read_text() for name in ("statements.nft", "statements.save")}
RULE = re.compile(r"\t\t(?!type )|-A \S+ ")
# What may be called anything, whatever there is; and what is of the other family.
NAMES = re.compile(r"if(?:name)? |-[io] |@|\"|\{|--comment|ip6|ipv6|-j other|--log|--name|mark")
OF_PROTOCOL = re.compile("tcp|udp|icmp|protocol|-p ")
ASKED = re.compile(r"(?<= )\.(?= )|[io]ifname|[sd]addr|ct \w+|-m \w+|mark|ttl|length|limit|numgen|(?<!\S)-[isd](?!\S)")
# Rules of a file that needs an interface of another kind than there is in every kernel.
NOT_HERE = {"any-tunnel.nft"}


def reading_of(name: str, text: str) -> Capture:
    """What is read of a text by the program that its name is of."""
    return read_device("edge", (PROGRAMS[name.rpartition(".")[2]][0],), {"rules": text})


def program_of(name: str, text: str) -> Program:
    """The program of a ruleset; an empty one if nobody wrote it as one."""
    rulesets = [Ruleset(facts) for facts in reading_of(name, text).programs]
    around = Surroundings(device_of(PROGRAMS[name.rpartition(".")[2]][0], family_of(name)), family_of(name))
    return (lowered(rulesets, around) if rulesets else None) or Program((), {}, {}, ())


def said(program: Program) -> dict[str, Any]:
    """What a program says: of one line, the entries in any order; of conditions, what they hang on."""

    def plain(entry: Entry) -> str:
        needs = tuple(sorted((each.kind, applies) for each, applies in entry.needs))
        box = sorted(entry.box.items())
        return repr((box, entry.verdict, entry.target, entry.changes, needs))

    def row(entries: tuple[Entry, ...]) -> list[str]:
        arms = groupby(entries, key=lambda each: each.place.line if each.place.arm else 0)
        return [each for line, some in arms for each in (sorted if line else list)(map(plain, some))]

    chains = {name: row(entries) for name, entries in program.chains.items()}
    return {**chains, "": sorted((each.chain, each.hook, each.rank, each.passes) for each in program.bases)}


@pytest.mark.real
@kernel
def test_a_file_and_the_kernels_listing_of_it_are_one_program() -> None:
    apart = []
    texts = {**RULESETS, **STATEMENTS}
    for name in texts.keys() - NOT_HERE:
        _, load, listing = PROGRAMS[name.rpartition(".")[2]]
        with Machine("edge", ["in0", "out0"]) as machine:
            (machine.folder / "rules").write_text(texts[name])
            machine.inside(*load, str(machine.folder / "rules"))
            listed = machine.inside(*listing)
        if said(program_of(name, texts[name])) != said(program_of(name, listed)):
            apart.append(name)
    assert apart == []


@pytest.mark.parametrize("name", STATEMENTS)
def test_every_line_is_read(name: str) -> None:
    program, text = program_of(name, STATEMENTS[name]), STATEMENTS[name]
    entries = [each for chain in program.chains.values() for each in chain]
    lines = text.splitlines()
    assert [lines[each.place.line - 1] for each in entries if each.verdict == "not known"] == []
    unread = {each.place.line for each in entries for needed, _ in each.needs if needed.kind == "unread"}
    assert [lines[each - 1] for each in sorted(unread)] == []
    assert {each.text for each in reading_of(name, text).leftovers if each.unread} == set()


@pytest.mark.parametrize("seed", range(examples(4)))
@pytest.mark.parametrize("name", STATEMENTS)
def test_whatever_is_spoilt_in_a_line_what_it_did_stays_possible(name: str, seed: int) -> None:
    chance, spoilt, lines = Random(seed), dict[int, str](), STATEMENTS[name].splitlines()
    for number, line in enumerate(lines, 1):
        words = line.split()
        if RULE.match(line) and not NAMES.search(line):
            first = 2 if line.startswith("-A") else 0
            at = chance.choice([at for at in range(first, len(words)) if words[at] != "-j"])
            words[at : at + 1] = chance.choice([["zzqx"], [words[at], "zzqx"], [words[at]] * 2, []])
            spoilt[number] = lines[number - 1] = "\t\t"[first:] + " ".join(words)
    text = "\n".join(lines) + "\n"
    told = {each.place.line for each in reading_of(name, text).leftovers if not each.in_program}
    before, after = (by_line(program_of(name, each)) for each in (STATEMENTS[name], text))
    lost = {
        number: (STATEMENTS[name].splitlines()[number - 1].strip(), line.strip())
        for number, line in spoilt.items()
        for entry in before.get(number, ())
        if "zzqx" in line and number not in told and not any(still_does(each, entry) for each in after.get(number, ()))
    }
    assert lost == {}


def conditions(chance: Random, known: list[str], most: int) -> list[str]:
    """Some conditions of a rule, of which none asks for what another one asks for."""
    found: dict[str, set[str]] = {}
    for each in (chance.choice(list(filter(None, known))) for _ in range(chance.randrange(2, most))):
        asks = {"fib"} if "fib" in each else {*ASKED.findall(each), *OF_PROTOCOL.findall(each)[:1]}
        asks = {"protocol" if OF_PROTOCOL.fullmatch(one) else one for one in asks}
        if asks.isdisjoint(word for some in found.values() for word in some):
            found[each] = asks
    return [*found]


def rules_in_two_orders(kind: str, chance: Random, count: int) -> tuple[str, str]:
    """Two rulesets of the same rules, the conditions of each being in another order."""
    texts = ["", ""]
    for _ in range(count):
        parts, head = conditions(chance, TESTS if kind == "nft" else MATCHES, 5), ""
        if kind == "save":
            for each in [each for each in parts if "-p " in each]:
                # What is asked of a protocol stands behind it, and there in any place.
                _, head, behind = re.split(r"((?:! )?-p \S+) ?", each)
                parts = [one for one in (*parts, behind) if one not in (each, "")]
        for at in range(2):
            line = " ".join([head, *chance.sample(parts, len(parts))]).strip()
            texts[at] += f"\t\t{line} accept\n" if kind == "nft" else f"-A FORWARD {line} -j ACCEPT\n"
    around = {
        "nft": f"table ip f {{{SETS}\n\tchain forward {{\n\t\ttype filter hook forward priority 0;\n%s\t}}\n}}\n",
        "save": "*filter\n:FORWARD ACCEPT [0:0]\n%s-A FORWARD -j RETURN\nCOMMIT\n",
    }[kind]
    return around % texts[0], around % texts[1]


@pytest.mark.parametrize("seed", range(examples(4)))
@pytest.mark.parametrize("kind", ["nft", "save"])
def test_conditions_mean_the_same_in_any_order(kind: str, seed: int) -> None:
    texts = rules_in_two_orders(kind, Random(seed), 150)
    one, other = (by_line(program_of(f"one.{kind}", each)) for each in texts)
    apart = [
        tuple(each.splitlines()[line - 1].strip() for each in texts)
        for line in range(1, len(texts[0].splitlines()) + 1)
        if in_words(one.get(line, [])) != in_words(other.get(line, []))
    ]
    assert apart == []


def in_words(entries: list[Entry]) -> list[str]:
    """What entries say, with their conditions in words, and not which of several such conditions they are."""
    found = []
    for each in entries:
        needs = sorted((one.kind, one.key.partition(" (number")[0], so) for one, so in each.needs)
        found.append(repr((sorted(each.box.items()), each.verdict, needs)))
    return sorted(found)


def by_line(program: Program) -> dict[int, list[Entry]]:
    """The entries of each line."""
    found: dict[int, list[Entry]] = {}
    for entries in program.chains.values():
        for entry in entries:
            found.setdefault(entry.place.line, []).append(entry)
    return found


def still_does(now: Entry, before: Entry) -> bool:
    """Whether some packets that an entry was about may still be treated as it treated them."""
    if now.verdict not in (before.verdict, "not known"):
        return False
    return all(meet(now.box.get(each, spans), spans) for each, spans in before.box.items())


def test_of_a_thing_that_is_said_twice_neither_is_lost() -> None:
    rule = "-A FORWARD -p udp -m conntrack --ctproto {} -j ACCEPT"
    table = f"*filter\n:FORWARD DROP [0:0]\n:other - [0:0]\n-A FORWARD -j other\n{rule}\nCOMMIT\n"
    twice, once = (program_of("one.save", table.format(each)) for each in ("tcp", "udp"))
    assert [each.box[2] for each in twice.chains["0 filter FORWARD 4"][1:] if each.box[2]] == []
    assert [each.verdict for each in once.chains["0 filter FORWARD 4"][1:]] == ["accept"]
