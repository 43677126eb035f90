"""Spoilt inputs: configurations in every dialect, dialect files and intents, with pieces cut out, doubled or replaced.

    python tests/fuzzing.py 1000000

prints what was not answered by a result or an error of ours, and what took more than a second for each megabyte.
"""

from __future__ import annotations

import sys
import time
import traceback
from collections import Counter
from importlib.resources import files
from random import Random

import agile_lattice as al
from agile_lattice.dialects import read_device
from agile_lattice.dialects.definition import parse_dialect
from agile_lattice.dialects.errors import DialectError
from agile_lattice.dialects.registry import BUILT_IN
from agile_lattice.notation.errors import NotationError
from pairs import PAIRS
from where import DEMO

SCRAPS = ["", "{", "}", "[", "]", "(", ")", '"', "'", "\n", " ", ";", "#", "!", "0", "-", "/33", "::", "\t", "é",
          "\x1b", "999999999999", "<a>", "&a", "*a", "\\", "%", "=", "10.0.0.1", "|", ",", "<", ">"]  # fmt: skip
SECONDS = 1.0  # that an input may take, and more for each megabyte of it


def spoilt(text: str, chance: Random) -> str:
    """Return a text with a few pieces cut out, doubled or replaced."""
    for _ in range(chance.randint(1, 4)):
        start = chance.randint(0, len(text))
        end = min(len(text), start + chance.choice([0, 1, 2, 7, 40]))
        piece = text[start:end] * 2 if chance.random() < 0.2 else chance.choice(SCRAPS)
        text = text[:start] + piece + text[end:]
    return text


def inputs() -> list[tuple[str, str, str]]:
    """Return what is spoilt: what sort it is, for a configuration the dialects, and the text."""
    found = [("configuration", speaks, text) for speaks, text, *_ in PAIRS]
    found += [("dialect", name, BUILT_IN.text(name)) for name in BUILT_IN.names() for _ in range(2)]
    found += [("intent", "", (DEMO / name).read_text()) for name in ("saltmarsh.yaml", "draft.yaml")]
    probes = files("agile_lattice.dialects").joinpath("probes.yaml").read_text(encoding="utf-8")
    return [*found, ("intent", "", probes)]


def answer(sort: str, name: str, text: str) -> str:
    """Give an input to what it is for; return what came of it."""
    try:
        if sort == "configuration":
            read_device("quay", name.split(), {"10-x.network" if name == "networkd" else "text": text})
        elif sort == "dialect":
            parse_dialect(text, f"{name}.toml", BUILT_IN.text)
        else:
            al.check(al.loads(text))
    except (DialectError, NotationError) as error:
        assert str(error)
        return "refused"
    return "answered"


def fuzz(count: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Try spoilt inputs; return how many were answered in which way, and what went wrong."""
    chance, corpus = Random(seed), inputs()
    counts: Counter[str] = Counter()
    wrong: list[str] = []
    for _ in range(count):
        sort, name, text = chance.choice(corpus)
        spoiled = spoilt(text, chance)
        try:
            took, what = timed(sort, name, spoiled)
            counts[f"{sort} {what}"] += 1
            allowed = SECONDS * (1 + len(spoiled) / 2**20)
            if took > allowed and (again := timed(sort, name, spoiled)[0]) > allowed:  # twice: the machine may be busy
                wrong.append(f"{sort} {name}: {again:.1f} s for {len(spoiled)} characters\n{spoiled!r}")
        except Exception:
            wrong.append(f"{sort} {name}: {traceback.format_exc()[-600:]}\n{spoiled!r}")
    return counts, wrong


def timed(sort: str, name: str, text: str) -> tuple[float, str]:
    """Return the CPU time in seconds that an answer took, and what it was."""
    start = time.process_time()
    what = answer(sort, name, text)
    return time.process_time() - start, what


if __name__ == "__main__":
    found, faults = fuzz(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0)
    print(dict(found), f"{len(faults)} wrong")
    for each in faults[:10]:
        print(each)
    sys.exit(bool(faults))
