"""What is assumed of packets only narrows what can become of them, is told with the answer, and proves nothing."""

from __future__ import annotations

import json
from pathlib import Path
from random import Random
from typing import get_args

import pytest

import agile_lattice
from agile_lattice.cli.main import main
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.dialects.usual import Assumption
from foreign import PROGRAMS, RULESETS, device_of, intent_of, packets, told, try_out
from mixed import mixed, mixed_save
from test_foreign import PACKETS
from test_real import kernel
from where import examples

DEMO = Path(agile_lattice.__file__).parent / "demo" / "saltmarsh.yaml"
EVERY = get_args(Assumption)
RULES = """table inet f {
    chain forward {
        type filter hook forward priority 0; policy drop;
        ct state established,related accept
        ip ttl < 2 drop
        iifname "in0" oifname "out0" tcp dport 443 limit rate 100/second accept
    }
}
"""
# Conditions, whether an ordinary packet finds them so; None if nobody can tell.
USUAL = [
    ("nftables", "within-rates", "limit rate 10/second burst 5 packets", True),
    ("nftables", "within-rates", "limit rate over 10/second", False),
    ("nftables", "within-rates", "ct count over 20", False),
    ("nftables", "within-rates", "add @tried { ip saddr limit rate over 3/minute }", False),
    ("nftables", "within-rates", "update @tried { ip saddr }", None),
    ("nftables", "ordinary", "ttl < 2", False),
    ("nftables", "ordinary", "ttl > 1", True),
    ("nftables", "ordinary", "ttl 64", None),
    ("nftables", "ordinary", "ttl < 64", None),
    ("nftables", "ordinary", "hoplimit 255", False),
    ("nftables", "ordinary", "frag-off & 0x1fff != 0", False),
    ("nftables", "ordinary", "frag-off & 0x4000 != 0", None),
    ("nftables", "ordinary", "exthdr frag missing", True),
    ("nftables", "ordinary", "meta length > 1000", None),
    ("nftables", "ordinary", "dscp != cs0", False),
    ("nftables", "ordinary", "dscp != ef", True),
    ("nftables", "ordinary", "limit rate 10/second", None),
    ("iptables", "within-rates", "-m limit --limit 3/min --limit-burst 5", True),
    ("iptables", "within-rates", "-m hashlimit --hashlimit-upto 9/sec --hashlimit-name web", True),
    ("iptables", "within-rates", "-m hashlimit --hashlimit-name web --hashlimit-above 9/sec", None),
    ("iptables", "within-rates", "-m connlimit --connlimit-above 9 --connlimit-mask 32 --connlimit-saddr", False),
    ("iptables", "within-rates", "-m connlimit ! --connlimit-above 9", None),
    ("iptables", "within-rates", "-m limit --limit 3/min --ahlen 5", None),
    ("iptables", "within-rates", "-m limit --limit 3/min !", None),
    ("iptables", "ordinary", "-m ttl --ttl-lt 2", False),
    ("iptables", "ordinary", "-m ttl --ttl-gt 1", True),
    ("iptables", "ordinary", "! -f", True),
    ("iptables", "ordinary", "-m policy --dir in --pol ipsec", False),
    ("ip6tables", "ordinary", "-m hl ! --hl-eq 255", None),
]


@pytest.mark.parametrize(("dialect", "what", "condition", "so"), USUAL)
def test_a_condition_is_as_an_ordinary_packet_finds_it(
    dialect: str, what: Assumption, condition: str, so: bool | None
) -> None:
    assert BUILT_IN.dialect(dialect).usual[what].tells(condition) is so


@pytest.mark.parametrize("kind", ["nft", "save"])
def test_assumptions_only_narrow(kind: str) -> None:
    more, texts = 0, [mixed(seed) if kind == "nft" else mixed_save(seed) for seed in range(examples(20))]
    texts += [text for name, text in RULESETS.items() if name.endswith(f".{kind}")]
    for text in texts:
        speaks = PROGRAMS[kind][0]
        sent = packets(text, 10, Random(text), 2000)
        plain, narrow = (told(device_of(speaks), speaks, text, sent, assume) for assume in ((), EVERY))
        assert all(isinstance(one, str) or one == other for one, other in zip(plain, narrow, strict=True))
        more += sum(
            isinstance(one, str) and not isinstance(other, str) for one, other in zip(plain, narrow, strict=True)
        )
    assert more, "something is decided that was not"


@pytest.mark.real
@kernel
def test_a_kernel_does_with_ordinary_packets_what_is_said_of_them() -> None:
    names = [
        name for name, text in RULESETS.items() if any(each in text for each in ("ttl", "pkttype", "frag", " -f "))
    ]
    plain, narrow = (
        try_out({name: RULESETS[name] for name in names}, PACKETS, 0, some) for some in ((), ("ordinary",))
    )
    assert {name: each.wrong for name, each in narrow.items() if each.wrong} == {}
    decided = [sum(each.decided for each in found.values()) for found in (plain, narrow)]
    assert decided[0] < decided[1], decided


def test_what_was_assumed_is_told_and_nothing_is_proven(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    intent = intent_of("nftables") + "    permits: [{from: inside, to: outside, service: tcp/443}]\n"
    (tmp_path / "quay.yaml").write_text(intent)
    (tmp_path / "edge.nft").write_text(RULES)
    words = str(tmp_path / "quay.yaml"), str(tmp_path / "edge.nft"), "--device", "edge", "--format", "json"
    both = "--assume", "within-rates", "--assume", "ordinary"

    assert main(["prove", *words]) == 1
    [plain] = json.loads(capsys.readouterr().out)
    assert any("limit rate 100/second" in each["unknown"] for each in plain["shown"])

    assert main(["prove", *words, *both]) == 1, "it is the same, and nothing proves it"
    [narrow] = json.loads(capsys.readouterr().out)
    assert narrow["shown"] == []
    assumed = [each["what"] for each in narrow["granted"] if each["source"] == "assumed"]
    assert [each.rpartition(": ")[2].partition("edge.nft:")[2] for each in assumed] == [
        "6 (limit rate 100/second)", "5 (not ttl < 2)",
    ]  # fmt: skip

    assert main(["diff", *words[:-2], *both]) == 1
    said = capsys.readouterr().out
    assert said.count("Assumed, as you asked, and not proven") == 2
    assert main(["diff", *words, *both, "--by-difference"]) == 1
    told = [each["subject"] for each in json.loads(capsys.readouterr().out)]
    assert sorted(each[:35] for each in told if "assumed" in each) == [
        "assumed, and not proven: no rate, c", "assumed, and not proven: packets ar",
    ]  # fmt: skip

    packet = "10.40.10.7", "203.0.113.1", "tcp/443"
    captured = "--captured", words[1], "--device", "edge"
    assert main(["walk", words[0], *packet, *captured]) == 1
    assert "not decided" in capsys.readouterr().out
    assert main(["walk", words[0], *packet, *captured, *both]) == 1
    assert "the same on both" in capsys.readouterr().out


def test_an_assumption_that_is_unknown_or_about_no_capture_is_refused(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as ended:
        main(["prove", str(DEMO), "captures", "--assume", "good-will"])
    assert ended.value.code == 2
    assert "within-rates" in capsys.readouterr().err
    for words in (["walk", str(DEMO), "10.40.10.7", "203.0.113.1", "tcp/443"], ["prove", str(DEMO), str(DEMO)]):
        assert main([*words, "--assume", "ordinary"]) == 2
        assert "rules of devices as they were captured" in capsys.readouterr().err
