"""No line of a text takes time without bound to be understood, whatever expressions a dialect has."""

from __future__ import annotations

import re
import time
from itertools import permutations
from random import Random

import pytest

from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import DefinitionError
from agile_lattice.dialects.expressions import checked
from agile_lattice.dialects.grammar import parse_phrase
from agile_lattice.dialects.patterns import Pattern
from agile_lattice.dialects.registry import Catalogue

LONG = 10_000
SECONDS = 1.0  # a bound for what would not end, not a measurement: the slowest of 50,000 took 0.02 s
SINGLE = ["a", "b", r"\.", "[ab]", "[a-z]", "[^a]", r"\w", r"\S", ".", "-"]
QUANTIFIERS = ["", "", "", "?", "*", "+", "{1,40}", "{3}", "*?", "++"]
HOSTILE = [
    "a ", "a", "1 ", "1,", "a, ", "10.0.0.1, ", "80,", " ", '"', '" ', ": ", "ff:", "[ ", "1.", "1-", "a-", ",", ", ",
    "{ ", "\\", "'", "a=", "a:1 ",
]  # fmt: skip


def row(draw: Random, depth: int) -> str:
    return "".join(piece(draw, depth) for _ in range(draw.randint(1, 3)))


def piece(draw: Random, depth: int) -> str:
    kind = draw.random()
    if not depth or kind < 0.5:
        return draw.choice(SINGLE) + draw.choice(QUANTIFIERS)
    if kind < 0.65:
        return f"(?:{'|'.join([row(draw, depth - 1) for _ in range(2)])})" + draw.choice(QUANTIFIERS)
    if kind < 0.9:
        return f"(?:{row(draw, depth - 1)})" + draw.choice(QUANTIFIERS)
    return ("(?>" if kind < 0.95 else "(?!") + row(draw, depth - 1) + ")"


def seconds(match: object, text: str) -> float:
    start = time.process_time()
    match(text)  # type: ignore[operator]
    return time.process_time() - start


@pytest.mark.parametrize("seed", range(4))
def test_an_expression_that_a_dialect_may_have_takes_time_with_the_length_of_a_line(seed: int) -> None:
    draw, accepted = Random(seed), 0
    while accepted < 250:
        text = row(draw, 2)
        try:
            checked(text)
        except ValueError:
            continue
        accepted += 1
        match = re.compile(text).fullmatch
        for filling in ("a", "b", "ab", "aab", "a.", "a-", ".", "x"):
            assert seconds(match, filling * (LONG // len(filling)) + "!") < SECONDS, text


@pytest.mark.parametrize("text", ["[a-z]+[0-9]*", r"(?:lan|wan)[0-9]+(?:\.[0-9]+)?", r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}"])
def test_what_people_write_is_accepted(text: str) -> None:
    assert checked(text) == text


@pytest.mark.parametrize("name", Catalogue().names())
def test_a_hostile_line_is_answered(name: str) -> None:
    phrases = [each for form in Catalogue().dialect(name).forms for each in form.block.all_phrases()]
    patterns: list[Pattern] = [each.pattern for each in phrases] + [
        one for each in phrases for one, _ in each.conditions
    ]
    for pattern in patterns:
        for filling in HOSTILE:
            for head in ("", pattern.start + " "):
                line = head + filling * (LONG // len(filling))
                assert seconds(pattern.matched, line) < SECONDS, (pattern.elements, head + filling)


@pytest.mark.parametrize("name", ["iptables", "hostname"])
def test_a_sign_is_searched_for_in_bounded_time(name: str) -> None:
    text = Catalogue().text(name)
    for sign in (r"[\s\S]+x", r"(?s).*x", r"[^x]*y"):
        wrong = re.sub("(?m)^(only|unless) = .*$", lambda one, sign=sign: f"{one[1]} = '{sign}'", text)  # type: ignore
        with pytest.raises(DefinitionError, match="line break"):
            parse_dialect(wrong, f"{name}.toml")
    slow = parse_dialect(re.sub("(?m)^(only|unless) = .*$", r"\1 = 'a+b'", text), f"{name}.toml")
    for hostile in ("a" * 1_000_000, "a\n" * 500_000):
        assert seconds(slow.forms[0].may_be, hostile) < SECONDS


def test_nothing_can_follow_what_takes_the_rest_of_a_line() -> None:
    text = Catalogue().text("frr").replace("  description <description> ", "  description <description> end ", 1)
    with pytest.raises(DefinitionError, match=r"frr.toml:\d+: .*nothing can follow <description>"):
        parse_dialect(text, "frr.toml")


@pytest.mark.parametrize("words", [" ".join(each) for each in permutations("abcd")])
def test_what_may_stand_in_any_order_may_inside_of_that_too(words: str) -> None:
    pattern = Pattern(parse_phrase("begin {[a] {[b] [c]} d} end", {}), {})
    assert pattern.read(f"begin {words} end") == {}
    assert pattern.read(f"begin {words} {words[0]} end") is None, "each at most once"
